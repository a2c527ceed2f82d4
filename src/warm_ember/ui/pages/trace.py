"""The Trace page: the lane stack and the bracket tray."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QGuiApplication
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from warm_ember.attribution.ledger import UNPLACED_NAME
from warm_ember.attribution.placing import default_rules
from warm_ember.model.battery import Activity, FromStretch
from warm_ember.model.project import Bracket, ExpectedValue
from warm_ember.model.rules import HandRule
from warm_ember.session import edits
from warm_ember.session.results import RunResults
from warm_ember.signal.stretch import StretchReading
from warm_ember.ui.desk import Desk
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import Look
from warm_ember.ui.pages.bracket_tray import BracketTray
from warm_ember.ui.pages.key_button import KeyButton
from warm_ember.ui.pages.page import Page
from warm_ember.ui.shell.headline import Switch
from warm_ember.ui.shell.spine import LinkFigure
from warm_ember.units import bare, duration_text, quantity_text

_TRAY = 170
_ACTIONS = 240


class TracePage(Page):
    """See a capture at every scale and read stretches of it."""

    title = "Trace"

    def __init__(self, desk: Desk, look: Look, window: TimeWindow) -> None:
        super().__init__(desk, look)
        self.results: RunResults | None = None
        self.chosen = ""
        self.stack = LaneStack(look, window, with_flags=True, folded=("Voltage", "Power"))
        self.tray = BracketTray(look, window)
        self._naming = ""
        self._build()
        self._connect()
        self._actions = self._make_actions()

    def _build(self) -> None:
        px = self.look.px
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.stack, 1)
        below = QWidget()
        below.setFixedHeight(px(_TRAY))
        self._below = below
        row = QHBoxLayout(below)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.tray)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        row.addWidget(scroll, 1)
        row.addWidget(self._build_actions())
        layout.addWidget(below)

    def _build_actions(self) -> QWidget:
        px = self.look.px
        panel = QWidget()
        panel.setObjectName("panel")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        panel.setFixedWidth(px(_ACTIONS))
        column = QVBoxLayout(panel)
        column.setContentsMargins(px(12), px(6), px(12), px(6))
        column.setSpacing(px(3))
        self.name_edit = QLineEdit()
        self.name_edit.setPlaceholderText("name of the bracket")
        self.name_edit.setAccessibleName("Name of the bracket")
        column.addWidget(self.name_edit)
        self.buttons: dict[str, QPushButton] = {}
        for text, key in (
            ("Name a state by it", "N"),
            ("Take as activity", "A"),
            ("Expected value from it", "X"),
            ("Duplicate to next cycle", "D"),
            ("Remove", "Del"),
        ):
            button = KeyButton(self.look, text, key)
            self.buttons[text] = button
            column.addWidget(button)
        column.addStretch(1)
        self._panel = panel
        return panel

    def _connect(self) -> None:
        current = self.stack.current
        current.bracket_drawn.connect(self._on_drawn)
        current.bracket_moved.connect(self._on_moved)
        current.bracket_dropped.connect(lambda _letter: self._remove())
        current.bracket_chosen.connect(self.choose)
        self.tray.bracket_chosen.connect(self.choose)
        self.tray.bracket_asked.connect(self.go_to)
        if self.stack.flags is not None:
            self.stack.flags.bracket_chosen.connect(self.choose)
        self.name_edit.editingFinished.connect(self._on_named)
        self.name_edit.returnPressed.connect(self._on_name_entered)
        self.look.changed.connect(lambda: self._below.setFixedHeight(self.look.px(_TRAY)))

    def _make_actions(self) -> list[QAction]:
        made = []
        for text, keys, slot in (
            ("Name a state by it", "N", self._name_state),
            ("Take as activity", "A", self._take_as_activity),
            ("Expected value from it", "X", self._expected_from),
            ("Duplicate to next cycle", "D", self._duplicate),
            ("Remove", "Del", self._remove),
        ):
            self.buttons[text].clicked.connect(lambda _checked=False, slot=slot: slot())
            made.append(self.make_action(text, keys, slot))
        copy = self.make_action("Copy the bracket tray as text", "Ctrl+C", self._copy)
        moves = self.stack.actions_for_menu()
        self.addActions(moves)
        return [*moves, *made, copy]

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.tray.text())

    def page_actions(self) -> list[QAction]:
        return self._actions

    def take_focus(self) -> None:
        self.stack.current.setFocus()

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self.stack.set_results(results)
        self.show_brackets()

    @property
    def brackets(self) -> tuple[Bracket, ...]:
        """The brackets on the current capture."""
        return self.desk.project.brackets_of(self.results.run.name) if self.results is not None else ()

    def reading(self, bracket: Bracket) -> StretchReading:
        """Read a bracket."""
        if self.results is None:
            raise ValueError("no capture is open")
        capture = self.results.capture
        ends = sorted(min(max(t, 0.0), capture.duration_s) for t in (bracket.from_s, bracket.to_s))
        return capture.reading(ends[0], ends[1], supply_v=self.desk.project.supply_v)

    def show_brackets(self) -> None:
        """Show the brackets as the project has them."""
        brackets = self.brackets
        letters = [bracket.letter for bracket in brackets]
        if self.chosen not in letters:
            self.chosen = letters[-1] if letters else ""
        readings = {bracket.letter: self.reading(bracket) for bracket in brackets}
        self.stack.current.set_brackets(brackets, self.chosen)
        if self.stack.flags is not None:
            self.stack.flags.set_brackets(brackets, readings, self.chosen)
        self.tray.set_brackets(brackets, list(readings.values()), self.chosen)
        chosen = self.chosen_bracket
        self._panel.setVisible(chosen is not None)
        self._naming = ""
        if chosen is not None and not self.name_edit.hasFocus():
            self.name_edit.setText(chosen.name)
            self.name_edit.setPlaceholderText("name of the bracket")
        self.headline_changed.emit()

    @property
    def chosen_bracket(self) -> Bracket | None:
        """The bracket that actions are about."""
        return next((b for b in self.brackets if b.letter == self.chosen), None)

    def choose(self, letter: str) -> None:
        """Make a bracket the one that actions are about."""
        self.chosen = letter
        self.show_brackets()

    def go_to(self, letter: str) -> None:
        """Show a bracket in the lanes."""
        bracket = next((b for b in self.brackets if b.letter == letter), None)
        if bracket is not None:
            margin = 0.6 * (bracket.to_s - bracket.from_s)
            self.stack.window_on_time.show(bracket.from_s - margin, bracket.to_s + margin)

    def _on_drawn(self, from_s: float, to_s: float) -> None:
        if self.results is None:
            return
        name = self.results.run.name
        letter = edits.next_letter(self.desk.project, name)
        self.chosen = letter
        self.desk.apply(edits.add_bracket(name, from_s, to_s), f"add bracket {letter}")

    def _on_moved(self, letter: str, from_s: float, to_s: float) -> None:
        if self.results is not None:
            edit = edits.change_bracket(self.results.run.name, letter, from_s=from_s, to_s=to_s)
            self.desk.apply(edit, f"move bracket {letter}")

    def _remove(self) -> None:
        if self.results is not None and self.chosen:
            edit = edits.drop_bracket(self.results.run.name, self.chosen)
            self.desk.apply(edit, f"remove bracket {self.chosen}")

    def _on_named(self) -> None:
        bracket, text = self.chosen_bracket, self.name_edit.text().strip()
        if bracket is not None and self.results is not None and not self._naming and text != bracket.name:
            edit = edits.change_bracket(self.results.run.name, bracket.letter, name=text)
            self.desk.apply(edit, f"name bracket {bracket.letter}")

    def _name_state(self) -> None:
        """Ask for the state's name where the bracket's name stands; Enter places it."""
        if self.chosen_bracket is None:
            return
        self._naming = "state"
        self.name_edit.clear()
        self.name_edit.setPlaceholderText("name of the state, then Enter")
        self.name_edit.setFocus()

    def _on_name_entered(self) -> None:
        bracket, text = self.chosen_bracket, self.name_edit.text().strip()
        if self._naming != "state" or bracket is None or self.results is None or not text:
            return
        rule = HandRule(text, self.results.run.name, bracket.from_s, bracket.to_s)
        self._naming = ""
        self.name_edit.clearFocus()
        self.name_edit.setText(bracket.name)
        self.desk.apply(edits.add_rule(rule, default_rules(self.results.capture)), f"place {text} by hand")
        self.stack.current.setFocus()

    def _take_as_activity(self) -> None:
        bracket = self.chosen_bracket
        if bracket is None or self.results is None:
            return
        known = {activity.name for activity in self.desk.project.activities}
        name = bracket.name or f"bracket {bracket.letter}"
        name = next(n for n in (name, *(f"{name} {k}" for k in range(2, 1000))) if n not in known)
        source = FromStretch(self.results.run.name, bracket.from_s, bracket.to_s)
        self.desk.apply(edits.set_activity(Activity(name, source, per_day=1.0)), f"take {name} as activity")
        self.desk.noted.emit(f"{name} is now an activity once a day: say how often on the Battery page")

    def _expected_from(self) -> None:
        bracket = self.chosen_bracket
        if bracket is None:
            return
        state = self.main_state(bracket)
        mean_a = self.reading(bracket).mean_a
        if state == UNPLACED_NAME or mean_a is None or mean_a <= 0:
            self.desk.troubled.emit(
                "No state covers this bracket: place one first, then take its expected value from it."
            )
            return
        value = ExpectedValue(state, mean_a, 0.1, f"bracket {bracket.letter} of {bracket.capture}", "measured")
        self.desk.apply(edits.set_expected(value, state), f"expect {state} as in bracket {bracket.letter}")
        self.desk.noted.emit(f"{state} is now expected at {quantity_text(mean_a, 'A')} ± 10 %")

    def main_state(self, bracket: Bracket) -> str:
        """Return the state that takes most of a bracket's time."""
        if self.results is None:
            return UNPLACED_NAME
        placement, interval_s = self.results.placement, self.results.capture.current.interval_s
        edges = np.clip(placement.edges * interval_s, bracket.from_s, bracket.to_s)
        lengths = np.diff(edges)
        totals = [(float(lengths[placement.of(name)].sum()), name) for name in placement.names]
        totals.append((float(lengths[placement.state < 0].sum()), UNPLACED_NAME))
        return max(totals)[1]

    def _duplicate(self) -> None:
        bracket = self.chosen_bracket
        if bracket is None or self.results is None:
            return
        shift = self.next_cycle(bracket)
        if shift is None:
            self.desk.troubled.emit("There is no next cycle: the bracket's state is not entered again in this capture.")
            return
        name = self.results.run.name
        self.chosen = edits.next_letter(self.desk.project, name)
        edit = edits.add_bracket(name, bracket.from_s + shift, bracket.to_s + shift, bracket.name)
        self.desk.apply(edit, f"duplicate bracket {bracket.letter}")

    def next_cycle(self, bracket: Bracket) -> float | None:
        """Return how far on the bracket's main state is entered again, or None."""
        if self.results is None:
            return None
        placement, interval_s = self.results.placement, self.results.capture.current.interval_s
        starts = placement.edges[:-1][placement.of(self.main_state(bracket))] * interval_s
        middle = (bracket.from_s + bracket.to_s) / 2
        here, later = starts[starts <= middle], starts[starts >= bracket.to_s - interval_s / 2]
        if not len(here) or not len(later):
            return None
        shift = float(later[0] - here[-1])
        return shift if bracket.to_s + shift <= self.results.capture.duration_s else None

    def sentence(self) -> str:
        if self.results is None:
            return "Drop a file of current here, or import one with **Ctrl+I**: text, raw binary or NumPy."
        bracket, brackets = self.chosen_bracket, self.brackets
        if bracket is None:
            whole = self.results.whole
            words = quantity_text(whole.mean_a, "A").marked
            peak = quantity_text(whole.max_a, "A").marked
            length = duration_text(whole.length_s).marked
            return f"{self.results.run.label} draws {words} on average over {length}, {peak} at most."
        reading = self.reading(bracket)
        subject = bracket.name or f"Bracket {bracket.letter}"
        length, charge_taken = duration_text(reading.length_s).marked, quantity_text(reading.charge_c, "C").marked
        text = f"{subject[:1].upper()}{subject[1:]} lasts {length} and takes {charge_taken}"
        other = next((b for b in brackets if b.letter != bracket.letter), None)
        charge = self.reading(other).charge_c if other is not None else 0.0
        if other is not None and charge > 0 and reading.charge_c / charge >= 1.5:
            text += (
                f": as much as **{bare(reading.charge_c / charge)}** times “{other.name or f'bracket {other.letter}'}”"
            )
        return text + "."

    def switches(self) -> tuple[Switch, ...]:
        current = self.stack.current
        return (
            Switch(
                "Current axis",
                ("log", "linear"),
                "log" if current.log else "linear",
                lambda o: current.set_log(o == "log"),
            ),
            Switch(
                "Snap",
                ("on", "off"),
                "on" if current.snaps else "off",
                lambda o: setattr(current, "snaps", o == "on"),
            ),
        )

    def warning(self) -> str:
        if self.results is None or self.results.whole.coverage >= 0.999:
            return ""
        return f"**{(1 - self.results.whole.coverage) * 100:.1f}** % of the capture was not measured"

    def link(self) -> LinkFigure:
        if self.results is None:
            return LinkFigure(detail="no capture yet")
        length = duration_text(self.results.capture.duration_s)
        return LinkFigure(length.marked, self.results.run.label, self.warning().replace("**", ""))
