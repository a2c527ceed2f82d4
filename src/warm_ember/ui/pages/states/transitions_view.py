"""Between the states: what their changes take, and whether each comes back as it was left."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QVBoxLayout

from warm_ember.model.figure import Figure
from warm_ember.session.state_results import SETTLES_WITHIN_S, Transitions, first_change_s
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.units import duration_text, percent_text, quantity_text, uncertainty_text

if TYPE_CHECKING:
    from warm_ember.session.records import StateReturn, Transition


_CROSSING = ("from", "to", "times", "leaving, each", "entering, each", "all together", "of the charge")
_COMEBACK = ("state", "after", "times", "before", "again", "difference", "as it was left")


class TransitionsView(StatesPart):
    """Two tables: the changes of state, and the states on both sides of others."""

    name = "transitions"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.found: Transitions | None = None
        self.changes = FigureTable(look, _CROSSING, largest_first=5, words=(0, 1))
        self.changes.share_width(13, 13, 7, 16, 16, 12, 12)
        self.returns = FigureTable(look, _COMEBACK, sortable=False, words=(0, 1, 6))
        self.returns.share_width(13, 20, 7, 12, 12, 16, 12)
        column = QVBoxLayout(self)
        column.setContentsMargins(look.px(16), look.px(6), look.px(16), look.px(8))
        column.setSpacing(look.px(8))
        settled = duration_text(SETTLES_WITHIN_S)
        for table, words in (
            (self.changes, f"charge above the settled level, within {settled} of the change, ± 90 %"),
            (self.returns, "settled level before other states and after them, ± 90 %"),
        ):
            column.addWidget(self.small(words))
            column.addWidget(table, 3 if table is self.changes else 2)
        self.changes.row_asked.connect(self._show_change)
        self.changes.setAccessibleName("Changes of state")
        self.returns.setAccessibleName("States before and after others")

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, name = self.controller.project, results.run.name
        self.work(lambda session, should_stop: session.states.transitions(project, name, should_stop), self._on_found)

    def show_nothing(self) -> None:
        self.found = None
        self.changes.show_rows([])
        self.returns.show_rows([])

    def _on_found(self, found: Transitions) -> None:
        self.found = found
        self.changes.show_rows([self._change_row(change) for change in found.changes])
        self.returns.show_rows([_comeback_row(state_return) for state_return in found.returns])
        self.changed.emit()

    def _change_row(self, change: Transition) -> list[tuple[str, float | str]]:
        whole_c = self.results.ledger.charge_c if self.results is not None else 0.0
        share = change.total_c / whole_c if whole_c else 0.0
        return [
            (change.before, change.before),
            (change.after, change.after),
            (str(change.count), float(change.count)),
            (_with_spread(change.leaving_c, "C"), change.leaving_c.value or 0.0),
            (_with_spread(change.entering_c, "C"), change.entering_c.value or 0.0),
            (str(quantity_text(change.total_c, "C")), change.total_c),
            (str(percent_text(share)), share),
        ]

    def _show_change(self, index: int) -> None:
        """Show the first change of the kind."""
        if self.found is None or self.results is None:
            return
        middle_s = first_change_s(self.results, self.found.changes[index])
        self.stretch_asked.emit(middle_s - SETTLES_WITHIN_S, middle_s + SETTLES_WITHIN_S)

    def sentence(self) -> str:
        if self.found is None:
            return "Looking at what lies between the states …"
        differing = [state_return for state_return in self.found.returns if state_return.differs]
        if differing:
            one = differing[0]
            around = " and ".join(one.around)
            before, after = quantity_text(one.before_a, "A").rich, quantity_text(one.after_a, "A").rich
            return f"{one.state} does not come back as it was left: {before} before {around}, {after} after."
        if not self.found.changes:
            return "There is one state only, and nothing between."
        entering = max(self.found.changes, key=lambda change: change.total_c)
        total = quantity_text(entering.total_c, "C").rich
        text = f"From {entering.before} to {entering.after} takes {total} more than the states themselves"
        return f"{text}; every state comes back as it was left."

    def text(self) -> str:
        return f"{self.changes.text()}\n\n{self.returns.text()}"


def _comeback_row(state_return: StateReturn) -> list[tuple[str, float | str]]:
    around = ", ".join(state_return.around)
    differs = "differs" if state_return.differs else "yes" if state_return.count > 1 else "seen once"
    return [
        (state_return.state, state_return.state),
        (around, around),
        (str(state_return.count), float(state_return.count)),
        (str(quantity_text(state_return.before_a, "A")), state_return.before_a),
        (str(quantity_text(state_return.after_a, "A")), state_return.after_a),
        (_with_spread(state_return.step_a, "A"), state_return.step_a.value or 0.0),
        (differs, differs),
    ]


def _with_spread(figure: Figure, unit: str) -> str:
    text = str(quantity_text(figure.value, unit))
    if figure.low is None or figure.high is None:
        return text
    return f"{text} ± {uncertainty_text((figure.high - figure.low) / 2, unit)}"
