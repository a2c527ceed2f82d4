"""The cell of the Battery page: its view, its files, and the check by a constant discharge."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QInputDialog

from warm_ember.errors import BadFileError, WarmEmberError
from warm_ember.model.battery import Battery, Cell
from warm_ember.model.measured_discharge import MeasuredDischarge
from warm_ember.session.battery_results import CellRun, check_run, run_cell
from warm_ember.session.cells import cell_name, cell_of, measured_cell, read_cell, read_discharge, write_cell
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.cell_view import CellView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import parse_quantity, percent_text, quantity_text

_TABLES = "Discharge tables (*.csv *.tsv *.txt);;All files (*)"
_CELLS = "Cells (*.json);;All files (*)"
_HOURS = 100 * 3600.0


class CellPart(QObject):
    """Show the battery's cell, and send what is changed of it.

    Signals
    -------
    cell_entered
        ``(fields of the battery, what is done)``.
    """

    cell_entered = Signal(object, str)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller)
        self._controller = controller
        self._battery = Battery()
        self._measured: MeasuredDischarge | None = None
        self._current_a: float | None = None
        self.run: CellRun | None = None
        self._of: Cell | None = None
        self.view = CellView(look)
        self.view.cell_entered.connect(self._on_cell)
        self.view.discharge_asked.connect(self._on_current)
        self.view.refused.connect(controller.troubled)
        self.view.from_discharges_asked.connect(self.from_discharges)
        self.view.check_asked.connect(self.check)
        self.view.open_asked.connect(self.open)
        self.view.save_asked.connect(self.save)

    def show_battery(self, battery: Battery) -> None:
        """Show the cell of a battery."""
        self._battery = battery
        self.view.show_cell(battery, cell_name(battery))
        cell = cell_of(battery)
        if cell != self._of:
            self._of = cell
            self._empty_cell()

    def _empty_cell(self) -> None:
        """Empty the cell in the background, as it was measured, or by the current that was typed."""
        cell, measured = self._of, self._measured
        if cell is None or not cell.capacity_c:
            self._show_run(None)
            return
        current_a = self._current_a or cell.capacity_c / _HOURS
        end_v = self._battery.cutoff_v / self._battery.series or cell.ocv_v[0][1]
        self._controller.work(
            "cell",
            "emptying the cell",
            lambda _stop, _progress: (
                run_cell(cell, current_a, end_v) if measured is None else check_run(cell, measured)
            ),
            self._show_run,
        )

    def _show_run(self, run: CellRun | None) -> None:
        self.run = run
        self.view.show_run(run)

    def _on_current(self, current_a: float) -> None:
        self._current_a, self._measured = current_a, None
        self._empty_cell()

    def _on_cell(self, cell: Cell) -> None:
        before = self._battery.cell
        if isinstance(before, str):
            # A library cell is not changed: it becomes one's own.
            cell = msgspec.structs.replace(cell, what=f"{before}, changed", origin=f"entered, from {before}")
        self.cell_entered.emit({"cell": cell}, "change the cell")

    def check(self) -> None:
        """Ask for a measured discharge and hold the cell against it."""
        chosen, _ = QFileDialog.getOpenFileName(self.view, "Compare the cell with a discharge", "", _TABLES)
        if chosen:
            self.check_against(Path(chosen))

    def check_against(self, path: Path, current_a: float | None = None) -> None:
        """Hold the cell against a measured discharge."""

        def then(read: MeasuredDischarge | BadFileError) -> None:
            if isinstance(read, BadFileError):
                self._with_current(read, lambda asked: self.check_against(path, asked), known=current_a is not None)
                return
            self._measured = read
            self._empty_cell()

        self._read(f"reading {path.name}", lambda: read_discharge(path, current_a), then)

    def _read(self, what: str, read: Callable[[], Any], then: Callable[[Any], None]) -> None:
        """Read files in the background; what is wrong with them comes back too, as it may be asked for."""

        def work(_should_stop: object, _progress: object) -> Any:
            try:
                return read()
            except BadFileError as error:
                return error

        self._controller.work("cell files", what, work, then)

    def from_discharges(self) -> None:
        """Ask for measured discharges and make a cell from them."""
        chosen, _ = QFileDialog.getOpenFileNames(self.view, "Make a cell from discharges", "", _TABLES)
        if chosen:
            self.make_from(tuple(Path(one) for one in chosen))

    def make_from(self, paths: tuple[Path, ...], current_a: float | None = None) -> None:
        """Make a cell from measured discharges; what they do not tell stays as it is in the cell at hand."""
        like = cell_of(self._battery) or Cell(())

        def then(made: tuple[Cell, tuple[MeasuredDischarge, ...]] | BadFileError) -> None:
            if isinstance(made, BadFileError):
                self._with_current(made, lambda asked: self.make_from(paths, asked), known=current_a is not None)
                return
            cell, discharges = made
            self._measured = min(discharges, key=lambda one: one.current_a)
            capacity_c = (cell.capacity_c or 0.0) * self._battery.parallel
            fields = {"cell": cell, "capacity_c": capacity_c, "resistance_ohm": None, "typical": ()}
            self.cell_entered.emit(fields, "make a cell from discharges")

        self._read("reading discharges", lambda: measured_cell(paths, like, current_a), then)

    def _with_current(self, error: BadFileError, again: Callable[[float], None], *, known: bool) -> None:
        """Ask for the current where a table does not tell it; say anything else."""
        if known or "no current column" not in error.problem:
            self._controller.troubled.emit(error.one_line)
            return
        text, entered = QInputDialog.getText(self.view, "Constant discharge", "The current that it was emptied by:")
        if not entered:
            return
        try:
            current_a = parse_quantity(text, "A")
        except ValueError:
            self._controller.troubled.emit(f"expected a current such as 20 mA, found “{text}”")
            return
        again(current_a)

    def open(self) -> None:
        """Ask for a cell in a file and take it."""
        chosen, _ = QFileDialog.getOpenFileName(self.view, "Open a cell", "", _CELLS)
        if chosen:
            self.open_file(Path(chosen))

    def open_file(self, path: Path) -> None:
        """Take the cell in a file."""
        try:
            cell = read_cell(path)
        except WarmEmberError as error:
            self._controller.troubled.emit(error.one_line)
            return
        fields: dict[str, object] = {"cell": cell, "resistance_ohm": None}
        if cell.capacity_c is not None:
            fields["capacity_c"] = cell.capacity_c * self._battery.parallel
            fields["self_discharge_per_year"] = cell.self_discharge_per_year
        self.cell_entered.emit(fields, f"open the cell {path.stem}")

    def save(self) -> None:
        """Ask for a file and write the cell to it."""
        cell = cell_of(self._battery)
        if cell is None:
            self._controller.troubled.emit("There is no cell to save: choose one first.")
            return
        chosen, _ = QFileDialog.getSaveFileName(self.view, "Save the cell", "cell.json", _CELLS)
        if chosen:
            self.save_file(Path(chosen))

    def save_file(self, path: Path) -> None:
        """Write the cell to a file."""
        cell = cell_of(self._battery)
        if cell is None:
            return
        try:
            write_cell(cell, path)
        except WarmEmberError as error:
            self._controller.troubled.emit(error.one_line)
            return
        self._controller.noted.emit(f"{path.name} is written")

    def sentence(self) -> str:
        """Return what the cell is and how well it is known."""
        cell = cell_of(self._battery)
        if cell is None:
            return "No cell is chosen: choose one at the right, or make one from a measured discharge."
        name = cell_name(self._battery)
        if self.run is not None and self.run.check is not None:
            check = self.run.check
            return (
                f"{name} reproduces the discharge at {quantity_text(self.run.current_a, 'A').rich} within "
                f"{percent_text(abs(check.charge_difference)).rich} of its charge and "
                f"{quantity_text(check.worst_v, 'V', 2).rich}."
            )
        return f"{name}: {cell.origin or 'typed'}. Check it against a discharge you measured."

    def text(self) -> str:
        """Return the cell as text."""
        cell = cell_of(self._battery)
        return "" if cell is None else msgspec.json.format(msgspec.json.encode(cell), indent=1).decode()
