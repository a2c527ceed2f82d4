"""What is done to sources of wakes, as edits of the project."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QInputDialog

from warm_ember.model.battery import Activity, FromWakes
from warm_ember.model.wakes import WakeSource
from warm_ember.session import edits, wake_edits
from warm_ember.ui.pages.wakes.source_table import SourceTable
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import duration_text, parse_quantity, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import SourceRow


class SourceEditing(QObject):
    """Make edits of what is asked for of the chosen source; what cannot be done is said.

    Parameters
    ----------
    controller
        Of the project.
    table
        The sources that are shown, one of them chosen.
    """

    def __init__(self, controller: ProjectController, table: SourceTable) -> None:
        super().__init__(table)
        self._controller, self._table = controller, table
        table.renamed.connect(self.rename)

    @property
    def _row(self) -> SourceRow | None:
        """The chosen source; where none is chosen that is said."""
        ledger = self._table.ledger
        row = ledger.row(self._table.chosen) if ledger is not None else None
        if row is None:
            self._controller.noted.emit("Choose a source first.")
        return row

    def rename(self, old: str, new: str) -> None:
        """Give a source another name; that of another joins the two."""
        self._controller.apply(wake_edits.rename(old, new), "rename a source")

    def name_as_logged(self) -> None:
        """Name all sources as the log does."""
        self._controller.apply(wake_edits.as_logged, "name sources as the log does")

    def set_slack(self, source: str, slack_s: float) -> None:
        """Set by how much a source's timer may be late."""
        self._controller.apply(wake_edits.change_source(source, slack_s=slack_s), "change a slack")

    def set_deadline(self, source: WakeSource) -> None:
        """Set how soon a source must be answered."""
        self._controller.apply(wake_edits.change_source(source.name, deadline_s=source.deadline_s), "change a deadline")

    def ask_split_by_state(self) -> None:
        """Ask for a state, and make the wakes in which it ran a source of their own."""
        row = self._row
        if row is None:
            return
        states = [one.state for one in row.ran]
        if len(states) < 2:
            words = f"In the wakes by {row.source} only one state ran: there is nothing to split it by."
            self._controller.noted.emit(words)
            return
        state = self._asked_for(f"Wakes by {row.source} in which this ran:", states)
        if state:
            self.split(row.source, ran=state)

    def ask_split_by_period(self) -> None:
        """Ask for a period, and make the wakes that come by it a source of their own."""
        row = self._row
        if row is None:
            return
        periods = {str(duration_text(period.period_s)): period.period_s for period in row.periods}
        if not periods:
            self._controller.noted.emit(f"The wakes by {row.source} have no period to split them by.")
            return
        words = self._asked_for(f"Wakes by {row.source} that come every:", list(periods))
        if words:
            self.split(row.source, period_s=periods[words])

    def _asked_for(self, words: str, offered: list[str]) -> str:
        chosen, agreed = QInputDialog.getItem(self._table, "Split a source", words, offered, 0, False)
        return chosen if agreed else ""

    def split(self, source: str, *, ran: str = "", period_s: float = 0.0) -> None:
        """Make a part of a source one of its own."""
        name = f"{source}, {ran or duration_text(period_s)}"
        self._controller.apply(wake_edits.split(source, WakeSource(name, (), ran, period_s)), "split a source")

    def ask_batch(self) -> None:
        """Ask how many samples the chosen source deals with at once, and do so."""
        found = self._as_activity()
        if found is not None:
            words = f"Samples that {found[1].source} deals with in one wake:"
            count, agreed = QInputDialog.getInt(self._table, "Batch", words, 8, 2, 100_000)
            if agreed:
                self.batch(count)

    def batch(self, count: int) -> None:
        """Deal with several samples of the chosen source in one wake."""
        found, ledger = self._as_activity(), self._table.ledger
        if found is None or ledger is None:
            return
        activity, row = found
        overhead_c = row.resume_c if row.resume_c is not None else ledger.transition_charge_c(row.source)
        batch = wake_edits.batched(activity, row, overhead_c, count)
        self._controller.apply(edits.set_activity(batch.activity, activity.name), f"batch {row.source}")
        each = quantity_text(overhead_c, "C")
        late = f"the first of a batch waits {duration_text(batch.late_s)}"
        self._controller.noted.emit(f"{count} at once: waking, {each}, is paid once; {late}. See Battery.")

    def ask_without_core(self) -> None:
        """Ask for the charge that hardware uses instead of the chosen source's wakes, and let it."""
        found = self._as_activity()
        if found is None:
            return
        words = f"Charge used by hardware instead of {quantity_text(found[1].charge_c_mean, 'C')}, such as 2 uC:"
        text, agreed = QInputDialog.getText(self._table, "Without the core", words)
        if agreed:
            try:
                self.let_hardware(parse_quantity(text, "C"))
            except ValueError:
                self._controller.troubled.emit(f"expected a charge such as 2 uC, found “{text}”")

    def let_hardware(self, charge_c: float) -> None:
        """Let hardware do what the chosen source wakes the core for."""
        found = self._as_activity()
        if found is not None:
            changed = wake_edits.without_core(*found, charge_c)
            self._controller.apply(edits.set_activity(changed, found[0].name), f"let hardware do {found[1].source}")
            self._controller.noted.emit("The core sleeps on. See Battery.")

    def _as_activity(self) -> tuple[Activity, SourceRow] | None:
        """Return the chosen source's activity in the battery's model; where it has none that is said."""
        row = self._row
        if row is None:
            return None
        known = (a for a in self._controller.project.activities if isinstance(a.source, FromWakes))
        mine = next((a for a in known if a.source == FromWakes(row.source)), None)
        if mine is None:
            self._controller.noted.emit(
                f"Take {row.source} as an activity first (A): then its wakes are in the battery's model."
            )
            return None
        return mine, row
