"""The seven steps of the tour: from the five builds to the change that is proven."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from warm_ember.ui.shell.tour import TourStep

if TYPE_CHECKING:
    from warm_ember.ui.shell.window import MainWindow


def tour_steps(window: MainWindow) -> tuple[TourStep, ...]:
    """Return the steps of the tour through the demo, each with what it shows in a window."""
    return (
        TourStep(
            "Runs: five firmware builds of the same post, each a rung on an axis of current. The line is the target, "
            "36 months; only the last build reaches it.",
            _shows(window, "Runs"),
        ),
        TourStep(
            "Trace: the report of run 4 between a passer-by and sleep. Drag across the current to read a stretch.",
            _shows(window, "Trace", "r4", lambda: window.window_on_time.show(36.0, 86.0)),
        ),
        TourStep(
            "States: Modem idle takes little of the time and more of the charge than any other state of a mean day.",
            _shows(window, "States", "r4", lambda: window.pages.states.choose("Modem idle")),
        ),
        TourStep(
            "Wakes: the map at the right shows one idle stretch far beyond its break-even line: the modem should be "
            "off there.",
            _shows(window, "Wakes", "r4"),
        ),
        TourStep(
            "Battery: the life as a distribution against the target, the least certain input, and what each parameter "
            "does to it.",
            _shows(window, "Battery", "r4"),
        ),
        TourStep(
            "Tune: what is on in each state against what was measured. Select a suggestion and press Enter: the "
            "staircase predicts where it leads.",
            _shows(window, "Tune", "r4"),
        ),
        TourStep(
            "Proof: each change as it was predicted, beside the run that contains it.",
            _shows(window, "Tune", "r5", lambda: window.pages.tune.show_view("proof")),
        ),
    )


def _shows(
    window: MainWindow, page: str, run: str | None = None, then: Callable[[], object] | None = None
) -> Callable[[], None]:
    def show() -> None:
        if run is not None and window.controller.project.run(run) is not None:
            window.controller.select_run(run)
        window.show_page(page)
        if then is not None:
            then()

    return show
