"""Speed of tuning: the plan of the demo's run 4, computed first and after an edit, its search, and the page's frames.

    .venv/bin/python benchmarks/tune.py

Each figure is printed with the limit it is held to.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "src"))

from PySide6.QtWidgets import QApplication, QWidget

from warm_ember.model.plan import PlanLimits, PlannedChange, ReduceAverage
from warm_ember.session.demo import make_demo
from warm_ember.session.plan_edits import choose_changes
from warm_ember.session.tuning_results import changes_ahead
from warm_ember.tuning.prediction import predict
from warm_ember.tuning.search import smallest_set
from warm_ember.ui.look.theme import NIGHT, Appearance
from warm_ember.ui.pages.tune.plan_list import LETTERS, PlanList
from warm_ember.ui.pages.tune.shutdown_matrix import ShutdownMatrix
from warm_ember.ui.pages.tune.waterfall_chart import WaterfallChart

CANDIDATES = 12


def seconds(work: Callable[[], object]) -> float:
    """Return how long something takes."""
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def show(name: str, value_s: float, limit_ms: float | None = None) -> None:
    """Print a figure with its limit."""
    limit = f"  limit {limit_ms:g} ms" if limit_ms is not None else ""
    sys.stdout.write(f"{name:<52}{1e3 * value_s:9.1f} ms{limit}\n")


def frame_s(widget: QWidget, width: int, height: int) -> float:
    """Return the median time to paint a widget."""
    widget.resize(width, height)
    widget.grab()
    return sorted(seconds(widget.grab) for _ in range(15))[7]


def main() -> None:
    """Measure and print."""
    application = QApplication([])
    with tempfile.TemporaryDirectory() as folder, make_demo(Path(folder) / "post") as session:
        project = session.project
        show("plan of run 4, nothing known yet", seconds(lambda: session.tuning.plan(project, "r4")))
        ahead = changes_ahead(project, "r4")
        fewer = choose_changes(ahead[:2], ahead)(project)
        show("plan of run 4 after an edit", seconds(lambda: session.tuning.plan(fewer, "r4")), 200)
        start = session.tuning.start(project, "r4")
        show("one prediction", seconds(lambda: [predict(start, ahead) for _ in range(50)]) / 50)
        many = tuple(PlannedChange(f"{n}", (ReduceAverage(1e-6 * (1 + n % 5)),)) for n in range(CANDIDATES))
        budget_a = predict(start, ()).mean_a - 20e-6
        show(f"smallest set of {CANDIDATES}", seconds(lambda: smallest_set(start, many, budget_a, PlanLimits())))
        plan, look = session.tuning.plan(project, "r4"), Appearance(NIGHT)
        letters = LETTERS[: len(ahead)]
        matrix, waterfall, listed = ShutdownMatrix(look), WaterfallChart(look), PlanList(look)
        matrix.show_matrix(plan.matrix, project.parts, tuple(zip(letters, ahead, strict=True)))
        waterfall.show_plan(plan, letters)
        listed.show_plan(plan, ())
        for name, widget, size in (
            ("matrix, a frame", matrix, (640, 620)),
            ("staircase, a frame", waterfall, (640, 280)),
            ("changes and findings, a frame", listed, (640, 360)),
        ):
            show(name, frame_s(widget, *size), 16.7)
    application.quit()


if __name__ == "__main__":
    main()
