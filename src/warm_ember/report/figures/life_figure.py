"""How long the battery may last: the spread of the life against the target, in months."""

from __future__ import annotations

import numpy as np

from warm_ember.battery.life import LifeEstimate
from warm_ember.report.figures.paper import GROUND, INK, WIDTH_MM, drawing, heat
from warm_ember.units import MONTH_S

_BINS = 60
_ROOM_SHARE = 0.17


def life_figure(life: LifeEstimate) -> str:
    """Return the spread of a life as an SVG element: each bar is so many of the lives that were drawn by chance."""
    months = life.draws_s[np.isfinite(life.draws_s)] / MONTH_S
    target = None if life.target_s is None else life.target_s / MONTH_S
    with drawing("life", WIDTH_MM, 24.0) as made:
        axes = made.axes(0.02, 0.2, 0.96, 0.66)
        axes.set_yticks([])
        if not len(months):
            axes.set_xticks([])
            axes.text(0.5, 0.5, "nothing is drawn: it never ends", transform=axes.transAxes, ha="center", color=INK)
            return made.svg()
        ends = [*np.quantile(months, [0.002, 0.998]).tolist(), *([target] if target is not None else [])]
        margin = max(0.06 * (max(ends) - min(ends)), 0.02 * max(ends))
        low, high = max(min(ends) - margin, 0.0), max(ends) + margin
        counts, edges = np.histogram(months, bins=_BINS, range=(low, high))
        # All bars are one outline: it is drawn, and set on a page, in a third of the time of one by one.
        beside = np.column_stack((edges[:-1], edges[:-1] + 0.86 * np.diff(edges))).ravel()
        high_and_gap = np.column_stack((counts, np.zeros_like(counts))).ravel()[:-1]
        axes.stairs(high_and_gap, beside, fill=True, color=heat(life.mean_a), linewidth=0)
        axes.set_xlim(low, high)
        axes.set_ylim(0, max(counts.max(), 1) * 1.12)
        for share, words in ((life.p10_s, "1 in 10 ends before"), (life.p90_s, "1 in 10 lasts longer")):
            if np.isfinite(share):
                at = share / MONTH_S
                axes.plot([at, at], [0, axes.get_ylim()[1] * 0.8], color=INK, linewidth=0.6, linestyle=(0, (1, 1.5)))
                if share == life.p10_s and at - low < _ROOM_SHARE * (high - low):
                    continue  # its words would leave the figure
                axes.annotate(
                    words, (at, axes.get_ylim()[1]), (0, -1), textcoords="offset points", fontsize=6.5, color=INK,
                    ha="right" if share == life.p10_s else "left", va="top",
                    bbox={"facecolor": GROUND, "linewidth": 0, "pad": 0.6},
                )  # fmt: skip
        if target is not None:
            axes.axvline(target, color=INK, linewidth=0.9, linestyle=(0, (4, 2)))
            axes.annotate(
                f"target {target:.3g}", (target, 1.0), (0, 2), xycoords=("data", "axes fraction"),
                textcoords="offset points", fontsize=7, fontweight="bold", color=INK, ha="center",
            )  # fmt: skip
        ticks = [tick for tick in axes.get_xticks().tolist() if low <= tick <= high]
        axes.set_xticks(ticks, [f"{tick:g}{' months' if tick == ticks[-1] else ''}" for tick in ticks])
        axes.set_xlim(low, high)
        return made.svg()
