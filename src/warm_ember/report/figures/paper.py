"""The look of figures on paper: the Day theme's inks, the heat ramp, and how a figure becomes SVG."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import numpy as np

from warm_ember.model.heat_ramp import DAY_DECADES, FIRST_DECADE, STEPS_PER_DECADE, ramp_steps, ramp_table
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

GROUND, INK, DIM, RULE, GRID, MARK, MARK_GROUND = (
    "#f6f2ea", "#1c1814", "#574e43", "#cfc6b6", "#e4dfd3", "#1d6670", "#d5dfdb",
)  # fmt: skip
WIDTH_MM = 178.0
_BY_HEIGHT = "#010203"
"""A colour that nothing has: what is filled with it is painted by the ramp."""
_MM = 1 / 25.4
_FEW_DECADES = 2.5
_MOST_TICKS = 9
_TABLE = ramp_table(DAY_DECADES)
_IDENTITY = re.compile(r"""(\bid="|url\(#|href="#)""")


def heat(current_a: float | None) -> str:
    """Return the colour of a current, as ``#rrggbb``."""
    step = int(ramp_steps(np.array([current_a if current_a is not None else np.nan]))[0])
    red, green, blue = _TABLE[step].tolist()
    return f"#{red:02x}{green:02x}{blue:02x}"


@contextmanager
def drawing(name: str, width_mm: float, height_mm: float) -> Iterator[Drawing]:
    """Give a figure to draw on, in the look of the paper; the same drawing gives the same text.

    Parameters
    ----------
    name
        Of the figure: it keeps its parts apart from those of other figures on the page.
    width_mm, height_mm
        Its size.
    """
    import matplotlib as mpl
    from matplotlib.figure import Figure

    look: dict[Any, Any] = {
        "font.family": "DejaVu Sans",
        "font.size": 7.0,
        "axes.edgecolor": RULE,
        "axes.facecolor": GROUND,
        "axes.labelcolor": DIM,
        "axes.linewidth": 0.0,
        "xtick.color": DIM,
        "ytick.color": DIM,
        "xtick.labelcolor": INK,
        "ytick.labelcolor": INK,
        "xtick.major.size": 2.5,
        "ytick.major.size": 2.5,
        "hatch.linewidth": 0.5,
        "svg.fonttype": "none",
        "svg.hashsalt": "warm-ember",
        "path.simplify": True,
        "text.parse_math": False,  # a name is a name, whatever stands in it
    }
    with mpl.rc_context(look):
        yield Drawing(name, Figure(figsize=(width_mm * _MM, height_mm * _MM)))


class Drawing:
    """A figure being drawn."""

    def __init__(self, name: str, figure: Figure) -> None:
        self.name, self.figure = name, figure
        self._gradient = ""

    def axes(self, left: float, bottom: float, width: float, height: float) -> Axes:
        """Return axes in a part of the figure, in shares of it."""
        return self.figure.add_axes((left, bottom, width, height))

    def current_axis(self, axes: Axes, low_a: float, high_a: float) -> str:
        """Make the vertical axis one of currents by decades, with the heat ramp painted along it.

        Parameters
        ----------
        axes
            The only ones of the figure with such an axis.
        low_a, high_a
            Its ends.

        Returns
        -------
        str
            The colour to fill with what shall be painted by the ramp as well.
        """
        from matplotlib.patches import Rectangle

        axes.set_yscale("log")
        axes.set_ylim(low_a, high_a)
        decades = 10.0 ** np.arange(np.floor(np.log10(low_a)), np.floor(np.log10(high_a) + 1e-9) + 1)
        between = (1.0, 2.0, 5.0) if np.log10(high_a / low_a) < _FEW_DECADES else (1.0,)
        ticks = [tick for decade in decades.tolist() for one in between if low_a < (tick := decade * one) < high_a]
        axes.set_yticks(ticks, [str(quantity_text(tick, "A", 1)) for tick in ticks])
        axes.minorticks_off()
        axes.grid(visible=True, axis="y", color=GRID, linewidth=0.6)
        axes.set_axisbelow(True)
        axes.tick_params(axis="y", pad=8, length=0)
        self._paint_by_height(axes, low_a, high_a)
        axes.add_artist(
            Rectangle((-0.012, 0), 0.008, 1, transform=axes.transAxes, facecolor=_BY_HEIGHT, linewidth=0, clip_on=False)
        )
        return _BY_HEIGHT

    def _paint_by_height(self, axes: Axes, low_a: float, high_a: float) -> None:
        height_pt = self.figure.get_size_inches()[1] * 72.0
        box = axes.get_position()
        bottom, top = ((1 - one) * height_pt for one in (box.y0, box.y1))
        span = np.log10(high_a / low_a)
        first, last = (int(ramp_steps(np.array([one]))[0]) for one in (low_a, high_a))
        stops = []
        for step in range(first, last + 1):
            for half in (-0.5, 0.5):
                at_a = 10.0 ** (FIRST_DECADE + (step + half) / STEPS_PER_DECADE)
                share = min(max(float(np.log10(at_a / low_a) / span), 0.0), 1.0)
                stops.append(f'<stop offset="{share:.4f}" stop-color="{_color(step)}"/>')
        self._gradient = (
            f'<defs><linearGradient id="heat" gradientUnits="userSpaceOnUse" x1="0" x2="0" y1="{bottom:.3f}" '
            f'y2="{top:.3f}">{"".join(stops)}</linearGradient></defs>'
        )

    def svg(self) -> str:
        """Return the figure as an SVG element that can stand in a page beside others."""
        from matplotlib.backends.backend_svg import FigureCanvasSVG

        FigureCanvasSVG(self.figure)
        written = io.StringIO()
        self.figure.savefig(written, format="svg", transparent=False, facecolor="none", metadata={"Date": None})
        text = written.getvalue()
        text = text[text.index("<svg") :]
        text = re.sub(r"<metadata>.*?</metadata>\s*", "", text, flags=re.DOTALL)
        if self._gradient:
            start = text.index(">", text.index("<svg")) + 1
            text = text[:start] + self._gradient + text[start:].replace(f"fill: {_BY_HEIGHT}", "fill: url(#heat)")
        return _IDENTITY.sub(lambda found: f"{found[1]}{self.name}-", text)


_ROUND_S = (1e-6, 1e-5, 1e-4, 1e-3, 0.01, 0.1, 1.0, 10.0, 60.0, 600.0, 3600.0, 36000.0, 86400.0, 864000.0)


def time_axis(axes: Axes, length_s: float) -> None:
    """Make the horizontal axis one of times from 0, with round steps in one unit."""
    steps = sorted(step * one for step in _ROUND_S for one in (1, 2, 5) if step * one > 0)
    step = next((one for one in steps if length_s / one <= _MOST_TICKS), steps[-1])
    unit, size = next((u, s) for u, s in (("d", 86400.0), ("h", 3600.0), ("min", 60.0), ("s", 1.0), ("ms", 1e-3),
                                          ("µs", 1e-6)) if step >= s or s == 1e-6)  # fmt: skip
    ticks = (np.arange(int(length_s / step + 1e-9) + 1) * step).tolist()
    axes.set_xticks(ticks, [f"{tick / size:.6g}" + (f" {unit}" if tick == ticks[-1] else "") for tick in ticks])
    axes.set_xlim(0.0, length_s)


def _color(step: int) -> str:
    red, green, blue = _TABLE[min(step, len(_TABLE) - 1)].tolist()
    return f"#{red:02x}{green:02x}{blue:02x}"
