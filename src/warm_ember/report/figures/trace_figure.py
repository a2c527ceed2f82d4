"""A capture with its brackets and notes: the envelope of the current, painted by height like the axis."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.report.content import BracketRow
from warm_ember.report.figures.paper import INK, MARK, MARK_GROUND, WIDTH_MM, drawing, time_axis
from warm_ember.session.run_results import RunResults
from warm_ember.signal.envelope import Envelope, envelope
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_COLUMNS = 600
_LETTER_PT = 9.0
_LINE = 0.008
_HEIGHTS = 500  # of the axis that can be told apart: a twentieth of a millimetre


def trace_figure(name: str, run: RunResults, brackets: tuple[BracketRow, ...], notes_s: tuple[float, ...] = ()) -> str:
    """Return a whole capture as an SVG element.

    Parameters
    ----------
    name
        Of the figure, for it to be told from others on the page.
    run
        The run.
    brackets
        Its brackets.
    notes_s
        When its notes are, s; each is pinned from below by its number.
    """
    current = run.capture.current
    length_s = current.samples * current.interval_s
    found = envelope(current, 0.0, length_s, _COLUMNS)
    low_a, high_a = _span(run.current_span_a)
    with drawing(name, WIDTH_MM, 38.0) as made:
        axes = made.axes(0.10, 0.2 if notes_s else 0.13, 0.875, 0.65 if notes_s else 0.72)
        by_height = made.current_axis(axes, low_a, high_a)
        axes.set_xlim(0.0, length_s)
        for bracket in brackets:
            axes.axvspan(bracket.from_s, bracket.to_s, color=MARK_GROUND, linewidth=0)
        _paint(axes, found, low_a, by_height, high_a)
        _letters(axes, brackets, length_s)
        time_axis(axes, length_s)
        for number, at_s in enumerate(notes_s, start=1):
            axes.plot(
                [at_s, at_s], [0.0, -0.06], transform=axes.get_xaxis_transform(), color=MARK, lw=0.8, clip_on=False
            )
            axes.annotate(
                str(number), (at_s, 0.0), (0, -5), xycoords=("data", "axes fraction"), textcoords="offset points",
                color=MARK, fontsize=6.5, fontweight="bold", ha="center", va="top",
                bbox={"boxstyle": "square,pad=0.15", "facecolor": MARK_GROUND, "edgecolor": MARK, "linewidth": 0.6},
            )  # fmt: skip
        if notes_s:
            axes.tick_params(axis="x", pad=12)
        return made.svg()


def _span(span_a: tuple[float, float]) -> tuple[float, float]:
    """Return the ends of the axis: whole decades are not needed, but one at least must be in it."""
    low_a, high_a = (one if one > 0 and np.isfinite(one) else 1e-6 for one in span_a)
    return min(low_a / 2, high_a / 20), max(high_a * 1.5, low_a * 20)


def _paint(axes: Axes, found: Envelope, low_a: float, color: str, high_a: float) -> None:
    """Fill the envelope; below the axis nothing is drawn, and a level without noise has the width of a line."""
    if not len(found.low):
        return
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    bottom, top = (np.maximum(one, low_a) for one in (found.low, found.high))
    top = np.maximum(top, bottom * 10 ** (_LINE * np.log10(high_a / low_a)))
    # To what can be seen on paper, and never smaller than it is: most steps are then none, and not drawn.
    step = np.log10(high_a / low_a) / _HEIGHTS
    bottom = low_a * 10 ** (step * np.floor(np.log10(bottom / low_a) / step))
    top = low_a * 10 ** (step * np.ceil(np.log10(top / low_a) / step))
    there = np.flatnonzero(np.isfinite(bottom))
    shapes = []
    for piece in np.split(there, np.flatnonzero(np.diff(there) > 1) + 1):  # what was not measured is left open
        if len(piece):
            edges_s = found.edges_s[piece[0] : piece[-1] + 2]
            shapes.append(Path(np.concatenate((_steps(edges_s, top[piece]), _steps(edges_s, bottom[piece])[::-1]))))
    if shapes:
        # The limits of the axes are set: they are not looked for among the thousands of its points.
        axes.add_artist(PathPatch(Path.make_compound_path(*shapes), facecolor=color, linewidth=0))


def _steps(edges_s: Floats, values_a: Floats) -> Floats:
    """Return the corners of a line of steps from the first edge to the last, shape ``(corners, 2)``."""
    changes = np.flatnonzero(np.diff(values_a)) + 1
    times_s = np.repeat(edges_s[np.concatenate(([0], changes, [len(values_a)]))], 2)[1:-1]
    return np.column_stack((times_s, np.repeat(values_a[np.concatenate(([0], changes))], 2)))


def _letters(axes: Axes, brackets: tuple[BracketRow, ...], length_s: float) -> None:
    """Write each bracket's letter above it; those too close to the one before stand further up."""
    last_s, row = -np.inf, 0
    for bracket in sorted(brackets, key=lambda one: one.from_s):
        row = row + 1 if bracket.from_s - last_s < 0.025 * length_s else 0
        last_s = bracket.from_s
        axes.annotate(
            bracket.letter, (bracket.from_s, 1.0), (0, 2 + (row % 2) * _LETTER_PT),
            xycoords=("data", "axes fraction"), textcoords="offset points", color="#ffffff", fontsize=7,
            fontweight="bold", bbox={"boxstyle": "square,pad=0.2", "facecolor": MARK, "linewidth": 0},
        )  # fmt: skip
        if bracket.to_s - bracket.from_s > 0.15 * length_s and bracket.mean_a is not None:
            axes.annotate(
                f"{bracket.name}  {quantity_text(bracket.mean_a, 'A')}", (bracket.from_s, 1.0), (12, 2),
                xycoords=("data", "axes fraction"), textcoords="offset points", color=INK, fontsize=7,
            )  # fmt: skip
        for edge_s in (bracket.from_s, bracket.to_s):
            axes.axvline(edge_s, color=MARK, linewidth=0.8)
