"""The seven steps of the tour: from the five builds to the change that is proven."""

from __future__ import annotations

from typing import TYPE_CHECKING

from warm_ember.ui.shell.tour import TourStep

if TYPE_CHECKING:
    from warm_ember.ui.shell.window import MainWindow


def tour_steps(window: MainWindow) -> tuple[TourStep, ...]:
    """Return the steps of the tour through the demo, each with what it shows in a window."""

    def run(name: str) -> None:
        if window.controller.project.run(name) is not None:
            window.controller.select_run(name)

    def runs() -> None:
        window.show_page("Runs")

    def trace() -> None:
        run("r4")
        window.show_page("Trace")
        window.window_on_time.show(36.0, 86.0)

    def states() -> None:
        run("r4")
        window.show_page("States")
        window.pages.states.choose("Modem idle")

    def wakes() -> None:
        run("r4")
        window.show_page("Wakes")

    def battery() -> None:
        run("r4")
        window.show_page("Battery")

    def tune() -> None:
        run("r4")
        window.show_page("Tune")

    def proof() -> None:
        run("r5")
        window.show_page("Tune")
        window.pages.tune.show_view("proof")

    return (
        TourStep("Runs: five firmware builds of the same post, each a rung on an axis of current. The line is the "
                 "target, 36 months; only the last build reaches it.", runs),
        TourStep("Trace: the report of run 4 between a passer-by and sleep. Drag across the current to read a stretch.",
                 trace),
        TourStep("States: Modem idle takes little of the time and more of the charge than any other state of a mean "
                 "day.", states),
        TourStep("Wakes: the map at the right shows one idle stretch far beyond its break-even line: the modem should "
                 "be off there.", wakes),
        TourStep("Battery: the life as a distribution against the target, the least certain input, and what each "
                 "parameter does to it.", battery),
        TourStep("Tune: what is on in each state against what was measured. Select a suggestion and press Enter: the "
                 "staircase predicts where it leads.", tune),
        TourStep("Proof: each change as it was predicted, beside the run that contains it.", proof),
    )  # fmt: skip
