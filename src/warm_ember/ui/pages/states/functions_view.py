"""Which function the charge went to: a table that is searched and sorted, and the same as nested bars."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QVBoxLayout

from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.functions_icicle import Icicle
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.switches import Switch, Switches
from warm_ember.units import counted, duration_text, percent_text, quantity_text, uncertainty_text

if TYPE_CHECKING:
    from warm_ember.session.records import FunctionLedger, FunctionRow


_HEADER = ("function", "file", "charge", "± 90 %", "share", "time", "mean", "mostly in")
_ALL = "every state"
_MOST_ROWS = 300


class FunctionsView(StatesPart):
    """Charge by function; a state chosen above filters it, a function chosen here says in which states it runs."""

    name = "functions"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.ledger: FunctionLedger | None = None
        self._known = False
        self.state: str | None = None
        self.search = QLineEdit()
        self.search.setPlaceholderText("search a function or file")
        self.search.setAccessibleName("Search functions")
        self.search.setClearButtonEnabled(True)
        self.table = FigureTable(look, _HEADER, largest_first=2, words=(0, 1, 7))
        self.table.share_width(16, 14, 9, 9, 8, 9, 9, 16)
        self.table.setAccessibleName("Functions")
        self.icicle = Icicle(look)
        self._words = self.small()
        self._rows: list[FunctionRow] = []
        self._build()
        self.search.textChanged.connect(lambda _text: self._fill())
        self.table.row_chosen.connect(self._on_selected)
        self.icicle.function_chosen.connect(self.choose)

    def _build(self) -> None:
        px = self.look.px
        head = QHBoxLayout()
        self.search.setFixedWidth(px(240))
        head.addWidget(self.search)
        head.addWidget(self._words, 1)
        self._only = Switches(self.look)
        head.addWidget(self._only)
        column = QVBoxLayout(self)
        column.setContentsMargins(px(16), px(6), px(16), px(8))
        column.addLayout(head)
        column.addWidget(self.table, 3)
        column.addWidget(self.icicle, 2)
        column.addStretch(0)

    def filter_state(self, state: str | None) -> None:
        """Show only what was taken in a state; all when None."""
        if state != self.state:
            self.state = state
            options = (state, _ALL) if state is not None else ()
            self._only.show_switches((Switch("Only", options, state or "", self._on_state),) if options else ())
            self.refresh()
            self.changed.emit()

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, name = self.controller.project, results.run.name
        state = self.state if self.state in results.placement.names else None
        self.work(
            lambda session, should_stop: session.states.functions(project, name, state, should_stop), self._on_ledger
        )

    def show_nothing(self) -> None:
        self._known, self.ledger = False, None
        self._fill()

    def _on_ledger(self, ledger: FunctionLedger | None) -> None:
        self._known, self.ledger = True, ledger
        for widget in (self.search, self.table, self.icicle):
            widget.setVisible(ledger is not None)
        self.icicle.show_ledger(ledger)
        self._fill()
        if ledger is not None:
            rate = quantity_text(1 / ledger.period_s if ledger.period_s else None, "Hz")
            words = f"{counted(ledger.samples, 'sample')} of the program counter, {rate}; error from the sample count"
            if ledger.shifted_s:
                words += f"; shifted by {duration_text(abs(ledger.shifted_s))} to fit the current"
            if ledger.is_locked:
                words += "; the samples keep step with the program: they see the same part of it again and again"
            self._words.setText(words)
        else:
            self._words.setText("")
        self.changed.emit()

    def _fill(self) -> None:
        wanted = self.search.text().strip().casefold()
        ledger = self.ledger
        rows = ledger.rows if ledger is not None else ()
        found = [row for row in rows if wanted in row.name.casefold() or wanted in row.file.casefold()]
        self._rows = found[:_MOST_ROWS]  # the costliest; a search finds the others
        whole_c = ledger.charge_c if ledger is not None else 0.0
        self.table.show_rows([_cells(row, whole_c) for row in self._rows])

    def choose(self, name: str) -> None:
        """Mark a function in the table and in the bars."""
        self.icicle.choose(name)
        for place in range(self.table.row_count()):
            if self.table.cell_text(place, 0) == name:
                self.table.selectRow(place)
                return
        self.table.clearSelection()

    def _on_selected(self) -> None:
        chosen = self.table.selected_row()
        self.icicle.choose(self._rows[chosen].name if chosen is not None else "")
        self.changed.emit()

    @property
    def chosen(self) -> FunctionRow | None:
        """The function that is marked."""
        return next((row for row in self._rows if row.name == self.icicle.chosen), None)

    def sentence(self) -> str:
        ledger = self.ledger
        if not self._known:
            return "Looking at functions …"
        if ledger is None:
            return "Import with a trace stream (**--itm**) and the program (**--elf**) to see the charge by function."
        if not ledger.rows:
            return "No sample of the program counter lies within this capture."
        row = self.chosen
        if row is not None and row.states:
            where = ", ".join(f"{percent_text(share).rich} in {state}" for state, share in row.states[:3])
            return f"{row.name} takes {quantity_text(row.charge_c, 'C').rich}: {where}."
        code = [row for row in ledger.rows if row.is_code]
        within = f" in {self.state}" if self.state else ""
        if not code:
            return f"No code runs{within}: the core is asleep."
        awake_c = sum(one.charge_c for one in code)
        text = f"{code[0].name} takes {percent_text(code[0].charge_c / awake_c).rich} of the charge while code runs"
        asleep = ledger.asleep
        if asleep is not None and ledger.charge_c:
            text += f"; {percent_text(asleep.charge_c / ledger.charge_c).rich} goes while the core sleeps"
        return f"{text}{within}."

    def _on_state(self, word: str) -> None:
        self.filter_state(None if word == _ALL else word)

    def text(self) -> str:
        return self.table.text()


def _cells(row: FunctionRow, whole_c: float) -> list[tuple[str, float | str]]:
    share = row.charge_c / whole_c if whole_c else 0.0
    state, part = row.states[0] if row.states else ("", 0.0)
    mostly = f"{state}, {percent_text(part)}" if state and part < 0.995 else state
    return [
        (row.name, row.name),
        (row.file, row.file),
        (str(quantity_text(row.charge_c, "C")), row.charge_c),
        (str(uncertainty_text(row.charge_error_c, "C")) if row.is_code else "", row.charge_error_c),
        (str(percent_text(share)), share),
        (str(duration_text(row.time_s)), row.time_s),
        (str(quantity_text(row.mean_a, "A")), row.mean_a),
        (mostly, mostly),
    ]
