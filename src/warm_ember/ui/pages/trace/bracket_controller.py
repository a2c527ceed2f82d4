"""What can be done with the brackets of the capture that is shown."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Signal

from warm_ember.model.battery import Activity, FromStretch
from warm_ember.model.figure import Figure
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.model.project import Bracket, ExpectedValue
from warm_ember.model.rules import HandRule
from warm_ember.session import edits
from warm_ember.session.brackets import (
    BracketReadings,
    edge_on_the_way,
    main_state,
    mean_of,
    next_cycle_s,
    whole_cycles_about,
)
from warm_ember.session.run_results import RunResults
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import StretchReading, WholeCycles


_EDGE_STEPS = 200


class BracketController(QObject):
    """The brackets of one capture, one of them chosen.

    Signals
    -------
    changed
        Another bracket is chosen, or the brackets are no longer as they were.
    """

    changed = Signal()

    def __init__(self, controller: ProjectController) -> None:
        super().__init__()
        self.controller = controller
        controller.quality_changed.connect(self.refresh)
        self.results: RunResults | None = None
        self.chosen = ""
        self._readings = BracketReadings()

    def set_results(self, results: RunResults | None) -> None:
        """Speak of another run, or the same after an edit."""
        self.results = results
        self.refresh()

    def refresh(self) -> None:
        """Take the brackets as the project has them."""
        letters = [bracket.letter for bracket in self.brackets]
        if self.chosen not in letters:
            self.chosen = letters[-1] if letters else ""
        self.changed.emit()

    @property
    def brackets(self) -> tuple[Bracket, ...]:
        """The brackets on the current capture."""
        return self.controller.project.brackets_of(self.results.run.name) if self.results is not None else ()

    @property
    def chosen_bracket(self) -> Bracket | None:
        """The bracket that actions are about."""
        return next((b for b in self.brackets if b.letter == self.chosen), None)

    def choose(self, letter: str) -> None:
        """Make a bracket the one that actions are about."""
        self.chosen = letter
        self.changed.emit()

    def choose_next(self) -> None:
        """Choose the bracket after the chosen one, the first after the last."""
        letters = [bracket.letter for bracket in self.brackets]
        if letters:
            self.choose(letters[(letters.index(self.chosen) + 1) % len(letters)])

    def reading(self, bracket: Bracket) -> StretchReading:
        """Read a bracket."""
        if self.results is None:
            raise ValueError("no capture is open")
        return self._readings.read(self.results, self.controller.project.supply_v, bracket)

    def mean(self, bracket: Bracket) -> Figure:
        """Return the mean of a bracket: a bound where its range was exceeded, or where it is below what is resolved."""
        reading = self.reading(bracket)
        return mean_of(self.results, reading) if self.results is not None else Figure(reading.mean_a)

    def doubts_of(self, bracket: Bracket) -> tuple[str, ...]:
        """Return what speaks against the reading of a bracket: the kinds of findings within it."""
        inside = (f for f in self.controller.findings or () if f.from_s < bracket.to_s and f.to_s > bracket.from_s)
        return tuple(dict.fromkeys(finding.kind.value for finding in inside))

    def add(self, from_s: float, to_s: float) -> None:
        """Add a bracket and choose it."""
        if self.results is None:
            return
        name = self.results.run.name
        self.chosen = edits.next_letter(self.controller.project, name)
        self.controller.apply(edits.add_bracket(name, from_s, to_s), f"add bracket {self.chosen}")

    def move(self, letter: str, from_s: float, to_s: float) -> None:
        """Give a bracket other ends."""
        if self.results is not None:
            edit = edits.change_bracket(self.results.run.name, letter, from_s=from_s, to_s=to_s)
            self.controller.apply(edit, f"move bracket {letter}")

    def move_edge(self, *, right: bool, later: bool, window_s: float, snaps: bool) -> None:
        """Move one edge of the chosen bracket a little, to a state edge where one lies on the way."""
        bracket = self.chosen_bracket
        if bracket is None or self.results is None:
            return
        interval_s = self.results.capture.current.interval_s
        step = max(window_s / _EDGE_STEPS, interval_s) * (1 if later else -1)
        before = bracket.to_s if right else bracket.from_s
        after = before + step
        edge = edge_on_the_way(self.results, before, after) if snaps else None
        after = edge if edge is not None else after
        after = min(max(after, 0.0), self.results.capture.duration_s)
        ends = (bracket.from_s, after) if right else (after, bracket.to_s)
        if ends[1] - ends[0] >= interval_s:
            self.move(bracket.letter, *ends)

    def remove(self) -> None:
        """Remove the chosen bracket."""
        if self.results is not None and self.chosen:
            edit = edits.drop_bracket(self.results.run.name, self.chosen)
            self.controller.apply(edit, f"remove bracket {self.chosen}")

    def rename(self, text: str) -> None:
        """Give the chosen bracket a name."""
        bracket = self.chosen_bracket
        if bracket is not None and text != bracket.name:
            edit = edits.change_bracket(bracket.capture, bracket.letter, name=text)
            self.controller.apply(edit, f"name bracket {bracket.letter}")

    def name_state(self, text: str) -> None:
        """Place a state of that name where the chosen bracket is."""
        bracket = self.chosen_bracket
        if bracket is None or self.results is None or not text:
            return
        rule = HandRule(text, bracket.capture, bracket.from_s, bracket.to_s)
        self.controller.apply(edits.add_rule(rule, self.results.placement.rules), f"place {text} by hand")

    def take_as_activity(self) -> None:
        """Make the chosen bracket an activity of the battery model."""
        bracket = self.chosen_bracket
        if bracket is None:
            return
        known = {activity.name for activity in self.controller.project.activities}
        name = bracket.name or f"bracket {bracket.letter}"
        name = next(n for n in (name, *(f"{name} {k}" for k in range(2, 1000))) if n not in known)
        source = FromStretch(bracket.capture, bracket.from_s, bracket.to_s)
        self.controller.apply(edits.set_activity(Activity(name, source, per_day=1.0)), f"take {name} as activity")
        self.controller.noted.emit(f"{name} is now an activity once a day: say how often on the Battery page")

    def expected_from(self) -> None:
        """Expect the state under the chosen bracket to draw what the bracket reads."""
        bracket = self.chosen_bracket
        if bracket is None:
            return
        state = self.main_state(bracket)
        mean_a = self.reading(bracket).mean_a
        if state == UNPLACED_NAME or mean_a is None or mean_a <= 0:
            self.controller.troubled.emit(
                "No state covers this bracket: place one first, then take its expected value from it."
            )
            return
        value = ExpectedValue(state, mean_a, 0.1, f"bracket {bracket.letter} of {bracket.capture}", "measured")
        self.controller.apply(edits.set_expected(value, state), f"expect {state} as in bracket {bracket.letter}")
        self.controller.noted.emit(f"{state} is now expected at {quantity_text(mean_a, 'A')} ± 10 %")

    def main_state(self, bracket: Bracket) -> str:
        """Return the state that takes most of a bracket's time."""
        return main_state(self.results, bracket) if self.results is not None else UNPLACED_NAME

    def duplicate(self) -> None:
        """Copy the chosen bracket to where its state is entered again."""
        bracket = self.chosen_bracket
        if bracket is None:
            return
        shift = self.next_cycle(bracket)
        if shift is None:
            self.controller.troubled.emit(
                "There is no next cycle: the bracket's state is not entered again in this capture."
            )
            return
        self.chosen = edits.next_letter(self.controller.project, bracket.capture)
        edit = edits.add_bracket(bracket.capture, bracket.from_s + shift, bracket.to_s + shift, bracket.name)
        self.controller.apply(edit, f"duplicate bracket {bracket.letter}")

    def next_cycle(self, bracket: Bracket) -> float | None:
        """Return how far on the bracket's main state is entered again, or None."""
        return next_cycle_s(self.results, bracket) if self.results is not None else None

    def extend(self) -> None:
        """Extend the chosen bracket to whole cycles, found in the background."""
        bracket, results = self.chosen_bracket, self.results
        if bracket is None or results is None:
            return

        def found(cycles: WholeCycles | None) -> None:
            if cycles is None:
                self.controller.troubled.emit(
                    "Nothing repeats in and around this bracket: draw it over at least one cycle, and let the capture "
                    "hold two."
                )
                return
            self.move(bracket.letter, cycles.from_s, cycles.to_s)
            length = duration_text((cycles.to_s - cycles.from_s) / cycles.cycles)
            what = f"{cycles.cycles} whole cycle{'s' if cycles.cycles > 1 else ''} of {length}"
            self.controller.noted.emit(f"Bracket {bracket.letter} holds {what}, by {cycles.found_by}")

        self.controller.work(
            "whole cycles",
            "looking for whole cycles",
            lambda _stop, _progress: whole_cycles_about(results, bracket),
            found,
        )
