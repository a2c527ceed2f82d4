"""Between the states: what their changes take, and whether each comes back as it was left."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from warm_ember.attribution.crossings import SETTLES_WITHIN_S, Comeback, Crossing
from warm_ember.model.figure import Figure
from warm_ember.session.state_results import Crossings
from warm_ember.ui.desk import Desk
from warm_ember.ui.look.theme import Look
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.units import duration_text, percent_text, quantity_text

_CROSSING = ("from", "to", "times", "leaving, each", "entering, each", "all together", "of the charge")
_COMEBACK = ("state", "after", "times", "before", "again", "difference", "as it was left")


class CrossingsView(StatesPart):
    """Two tables: the changes of state, and the states on both sides of others."""

    name = "crossings"

    def __init__(self, desk: Desk, look: Look) -> None:
        super().__init__(desk, look)
        self.found: Crossings | None = None
        self.crossings = FigureTable(look, _CROSSING, largest_first=5, words=(0, 1))
        self.crossings.share_width(13, 13, 7, 16, 16, 12, 12)
        self.comebacks = FigureTable(look, _COMEBACK, sortable=False, words=(0, 1, 6))
        self.comebacks.share_width(13, 20, 7, 12, 12, 16, 12)
        column = QVBoxLayout(self)
        column.setContentsMargins(look.px(16), look.px(6), look.px(16), look.px(8))
        column.setSpacing(look.px(8))
        settled = duration_text(SETTLES_WITHIN_S)
        for table, words in (
            (self.crossings, f"charge above the settled level, within {settled} of the change, ± 90 %"),
            (self.comebacks, "settled level before other states and after them, ± 90 %"),
        ):
            column.addWidget(self.small(words))
            column.addWidget(table, 3 if table is self.crossings else 2)
        self.crossings.row_asked.connect(self._show_crossing)
        self.crossings.setAccessibleName("Changes of state")
        self.comebacks.setAccessibleName("States before and after others")

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, name = self.desk.project, results.run.name
        self.work(lambda session, should_stop: session.states.crossings(project, name, should_stop), self._on_found)

    def show_nothing(self) -> None:
        self.found = None
        self.crossings.show_rows([])
        self.comebacks.show_rows([])

    def _on_found(self, found: Crossings) -> None:
        self.found = found
        self.crossings.show_rows([self._crossing_row(crossing) for crossing in found.crossings])
        self.comebacks.show_rows([_comeback_row(comeback) for comeback in found.comebacks])
        self.changed.emit()

    def _crossing_row(self, crossing: Crossing) -> list[tuple[str, float | str]]:
        whole_c = self.results.ledger.charge_c if self.results is not None else 0.0
        share = crossing.total_c / whole_c if whole_c else 0.0
        return [
            (crossing.before, crossing.before),
            (crossing.after, crossing.after),
            (str(crossing.count), float(crossing.count)),
            (_with_spread(crossing.leaving_c, "C"), crossing.leaving_c.value or 0.0),
            (_with_spread(crossing.entering_c, "C"), crossing.entering_c.value or 0.0),
            (str(quantity_text(crossing.total_c, "C")), crossing.total_c),
            (str(percent_text(share)), share),
        ]

    def _show_crossing(self, index: int) -> None:
        """Show the first change of the kind."""
        if self.found is None or self.results is None:
            return
        crossing, placement = self.found.crossings[index], self.results.placement
        changes = placement.of(crossing.before)[:-1] & placement.of(crossing.after)[1:]
        middle_s = float(placement.edges[int(np.argmax(changes)) + 1]) * self.results.capture.current.interval_s
        self.stretch_asked.emit(middle_s - SETTLES_WITHIN_S, middle_s + SETTLES_WITHIN_S)

    def sentence(self) -> str:
        if self.found is None:
            return "Looking at what lies between the states …"
        differing = [comeback for comeback in self.found.comebacks if comeback.differs]
        if differing:
            one = differing[0]
            around = " and ".join(one.around)
            before, after = quantity_text(one.before_a, "A").marked, quantity_text(one.after_a, "A").marked
            return f"{one.state} does not come back as it was left: {before} before {around}, {after} after."
        if not self.found.crossings:
            return "There is one state only, and nothing between."
        entering = max(self.found.crossings, key=lambda crossing: crossing.total_c)
        total = quantity_text(entering.total_c, "C").marked
        text = f"From {entering.before} to {entering.after} takes {total} more than the states themselves"
        return f"{text}; every state comes back as it was left."

    def text(self) -> str:
        return f"{self.crossings.text()}\n\n{self.comebacks.text()}"


def _comeback_row(comeback: Comeback) -> list[tuple[str, float | str]]:
    around = ", ".join(comeback.around)
    differs = "differs" if comeback.differs else "yes" if comeback.count > 1 else "seen once"
    return [
        (comeback.state, comeback.state),
        (around, around),
        (str(comeback.count), float(comeback.count)),
        (str(quantity_text(comeback.before_a, "A")), comeback.before_a),
        (str(quantity_text(comeback.after_a, "A")), comeback.after_a),
        (_with_spread(comeback.step_a, "A"), comeback.step_a.value or 0.0),
        (differs, differs),
    ]


def _with_spread(figure: Figure, unit: str) -> str:
    text = str(quantity_text(figure.value, unit))
    if figure.low is None or figure.high is None:
        return text
    return f"{text} ± {quantity_text((figure.high - figure.low) / 2, unit, 2)}"
