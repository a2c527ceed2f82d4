"""The heat ramp in numbers: one colour for each decade of current, on the screen and on paper.

Lightness is monotonic, rising with the current at night and falling by day, so the ramp survives colour blindness and
greyscale print. Colours are quantised to an eighth of a decade.
"""

from __future__ import annotations

import numpy as np

from warm_ember.model.arrays import Floats, Indices

FIRST_DECADE = -9
STEPS_PER_DECADE = 8

NIGHT_DECADES = (
    "#4b5158", "#5a5364", "#6c5772", "#805c82", "#a35a80", "#cb5d66", "#e9683f", "#f58a2d", "#fbb84a", "#fbe9b0",
)  # fmt: skip
DAY_DECADES = (
    "#b9bcc4", "#b5adbf", "#b19ab9", "#b68ab2", "#bf7296", "#c25568", "#b9451f", "#934400", "#6a3d00", "#392805",
)  # fmt: skip


def ramp_table(decades: tuple[str, ...]) -> Indices:
    """Return the ramp's colours from 1 nA upward.

    Parameters
    ----------
    decades
        Colours at 1 nA, 10 nA, and so on to 1 A, as ``#rrggbb``.

    Returns
    -------
    ndarray
        Shape ``((decades - 1) * 8 + 1, 3)``, red, green and blue from 0 to 255.
    """
    anchors = np.array([[int(one[at : at + 2], 16) for at in (1, 3, 5)] for one in decades], dtype=np.float64)
    positions = np.arange((len(decades) - 1) * STEPS_PER_DECADE + 1) / STEPS_PER_DECADE
    columns = [np.interp(positions, np.arange(len(decades)), anchors[:, channel]) for channel in range(3)]
    return np.rint(np.column_stack(columns)).astype(np.int64)


def ramp_steps(current_a: Floats) -> Indices:
    """Return which step of the ramp each current is.

    Parameters
    ----------
    current_a
        Any shape, A; what is zero, negative or NaN has the lowest step.
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        decades = np.log10(np.maximum(current_a, 1e-30)) - FIRST_DECADE
    steps = np.nan_to_num(np.rint(decades * STEPS_PER_DECADE), nan=0.0)
    last = (len(DAY_DECADES) - 1) * STEPS_PER_DECADE
    return np.asarray(np.clip(steps, 0, last), dtype=np.int64)
