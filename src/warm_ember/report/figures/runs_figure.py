"""The way from the first run to this one: averages on a log axis, with predicted and measured steps between."""

from __future__ import annotations

import numpy as np

from warm_ember.report.content import Report
from warm_ember.report.figures.paper import DIM, INK, WIDTH_MM, drawing, heat
from warm_ember.units import format_significant, quantity_text

_HALF, _STEP = 0.28, 0.035
_LEAST_MARGIN, _MARGIN = 0.3, 0.16


def runs_figure(report: Report) -> str:
    """Return the runs of a report as an SVG element; the target runs through them."""
    means = [run.average.mean_a for run in report.runs]
    shown = [one for one in (*means, report.budget_a) if one is not None and one > 0] or [1e-6]
    # Room for the figures above and below the bars, however many decades there are.
    margin = 10.0 ** max(_LEAST_MARGIN, _MARGIN * np.log10(max(shown) / min(shown)))
    low_a, high_a = float(min(shown) / margin), float(max(shown) * margin)
    steps = {step.after: step for step in report.steps}
    with drawing("runs", WIDTH_MM, 42.0) as made:
        axes = made.axes(0.10, 0.02, 0.83, 0.94)
        made.current_axis(axes, low_a, high_a)
        axes.set_xlim(-0.5, len(means) - 0.5)
        axes.set_xticks([])
        for at, (run, mean_a) in enumerate(zip(report.runs, means, strict=True)):
            if mean_a <= 0:
                continue
            axes.plot(
                [at - _HALF, at + _HALF], [mean_a, mean_a], color=heat(mean_a), linewidth=5, solid_capstyle="butt"
            )
            below = report.budget_a is not None and mean_a < report.budget_a < mean_a * 1.6
            axes.annotate(
                str(quantity_text(mean_a, "A")), (at, mean_a), (0, -9 if below else 5), textcoords="offset points",
                ha="center", va="top" if below else "bottom", color=INK, fontsize=8, fontweight="bold",
            )  # fmt: skip
            before = means[at - 1] if at else 0.0
            if before <= 0:
                continue
            axes.plot(
                [at - 1 + _HALF, at - 0.5, at - 0.5, at - _HALF], [before, before, mean_a, mean_a],
                color=INK, linewidth=0.5,
            )  # fmt: skip
            step = steps.get(run.run)
            if step is not None:
                for side, change_a, hatch in ((-1, step.predicted_a, "//////"), (1, step.measured_a, "")):
                    after = max(before + change_a, low_a)
                    middle = at - 0.5 + side * _STEP * 1.4
                    axes.fill_between(
                        [middle - _STEP, middle + _STEP], min(before, after), max(before, after),
                        facecolor="none" if hatch else heat(mean_a), edgecolor=heat(mean_a), hatch=hatch or None,
                        linewidth=0.5,
                    )  # fmt: skip
        if report.budget_a and report.target_h:
            axes.axhline(report.budget_a, color=INK, linewidth=0.9, linestyle=(0, (4, 2)))
            months = report.target_h / (8760 / 12)
            words = f"target {months:.3g} months: {quantity_text(report.budget_a, 'A')}"
            axes.annotate(
                words, (-0.47, report.budget_a), (0, 2.5),
                textcoords="offset points", color=INK, fontsize=7,
            )  # fmt: skip
        _months_axis(axes, report, low_a, high_a)
        return made.svg()


def _months_axis(axes: object, report: Report, low_a: float, high_a: float) -> None:
    """Write beside each run's average the life that the battery has at it."""
    lives = sorted({(run.average.mean_a, run.life.months) for run in report.runs if np.isfinite(run.life.months)})
    right = axes.secondary_yaxis("right")  # type: ignore[attr-defined]
    kept: list[tuple[float, float]] = []
    for mean_a, months in lives:
        apart = not kept or np.log10(mean_a / kept[-1][0]) > 0.07 * np.log10(high_a / low_a)
        if mean_a > 0 and apart:
            kept.append((mean_a, months))
    right.set_yticks([mean_a for mean_a, _ in kept], [format_significant(months) for _, months in kept])
    right.minorticks_off()
    right.tick_params(axis="y", length=2.5, color=DIM)
    right.set_ylabel("months", fontsize=7)
