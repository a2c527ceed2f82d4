"""A table of figures: flat, right-aligned, sortable, copied as text."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from warm_ember.ui.look.label import tip
from warm_ember.ui.look.theme import Appearance


class _Cell(QTableWidgetItem):
    """A cell that sorts by its value and shows its text."""

    def __init__(self, text: str, value: float | str) -> None:
        super().__init__(text)
        self.value = value

    def __lt__(self, other: QTableWidgetItem) -> bool:
        if isinstance(other, _Cell) and isinstance(self.value, float) and isinstance(other.value, float):
            return self.value < other.value
        return self.text() < other.text()


class FigureTable(QTableWidget):
    """A table whose rows are known by their index in what was shown.

    Parameters
    ----------
    look
        The look.
    header
        A word for each column.
    editable
        The column that may be typed into.
    sortable
        Whether a click on a header sorts.
    largest_first
        The column it is sorted by at first, the largest at the top; as shown when None.
    words
        Columns that hold words: they stand at the left, figures at the right.

    Signals
    -------
    row_asked
        A row was opened: double-clicked, or Enter pressed on it.
    cell_renamed
        ``(row, text)`` after the text of an editable cell was changed.
    """

    row_asked = Signal(int)
    cell_renamed = Signal(int, str)

    def __init__(
        self,
        look: Appearance,
        header: Sequence[str],
        *,
        editable: int | None = None,
        sortable: bool = True,
        largest_first: int | None = None,
        words: Sequence[int] = (0,),
    ) -> None:
        super().__init__(0, len(header))
        self._look, self._editable, self._fills = look, editable, False
        self._words = tuple(words)
        self._weights: tuple[float, ...] = ()
        self._header = tuple(header)
        self.setHorizontalHeaderLabels(list(header))
        self.setShowGrid(False)
        self.setSortingEnabled(sortable)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTabKeyNavigation(False)
        self.verticalHeader().hide()
        head = self.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        head.setHighlightSections(False)
        head.setSortIndicatorShown(False)  # its arrow would lie over the words: it is written behind them
        head.sortIndicatorChanged.connect(lambda *_: self._name_columns())
        head.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        for column in self._words:
            item = self.horizontalHeaderItem(column)
            if item is not None:
                item.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        if largest_first is not None:
            self.sortByColumn(largest_first, Qt.SortOrder.DescendingOrder)
        if editable is None:
            self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.cellDoubleClicked.connect(lambda row, _column: self._ask(row))
        self.itemChanged.connect(self._on_changed)
        look.changed.connect(self._on_look)
        self._on_look()

    def _name_columns(self) -> None:
        """Write the columns' names, with an arrow behind the one that is sorted by."""
        head = self.horizontalHeader()
        head.setSortIndicatorShown(False)  # sorting shows it again
        arrow = "▾" if head.sortIndicatorOrder() == Qt.SortOrder.DescendingOrder else "▴"
        for column, words in enumerate(self._header):
            item = self.horizontalHeaderItem(column)
            if item is not None:
                is_sorted = self.isSortingEnabled() and column == head.sortIndicatorSection()
                item.setText(f"{words} {arrow}" if is_sorted else words)

    def _on_look(self) -> None:
        self.verticalHeader().setDefaultSectionSize(self._look.px(22))

    def show_rows(self, rows: Sequence[Sequence[tuple[str, float | str]]]) -> None:
        """Show rows of ``(text, value to sort by)``."""
        self._fills = True
        sortable = self.isSortingEnabled()
        self.setSortingEnabled(False)
        self.setRowCount(len(rows))
        for row, cells in enumerate(rows):
            for column, (text, value) in enumerate(cells):
                cell = _Cell(text, value)
                side = Qt.AlignmentFlag.AlignLeft if column in self._words else Qt.AlignmentFlag.AlignRight
                cell.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                cell.setData(Qt.ItemDataRole.UserRole, row)
                cell.setToolTip(tip(text))
                if column != self._editable:
                    cell.setFlags(cell.flags() & ~Qt.ItemFlag.ItemIsEditable)
                self.setItem(row, column, cell)
        self.setSortingEnabled(sortable)
        self._name_columns()
        self._fills = False

    def share_width(self, *weights: float) -> None:
        """Give the columns their parts of the width instead of equal ones."""
        self._weights = weights
        self.horizontalHeader().setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        self._share()

    def _share(self) -> None:
        whole = sum(self._weights)
        for column, weight in enumerate(self._weights):
            self.setColumnWidth(column, int(self.viewport().width() * weight / whole))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._weights:
            self._share()

    def text(self) -> str:
        """Return the table as tab-separated text, in the order shown."""
        lines = ["\t".join(self._header)]
        for row in range(self.rowCount()):
            cells = [self.item(row, column) for column in range(self.columnCount())]
            lines.append("\t".join(cell.text() if cell is not None else "" for cell in cells))
        return "\n".join(lines)

    def _index(self, row: int) -> int | None:
        cell = self.item(row, 0)
        return int(cell.data(Qt.ItemDataRole.UserRole)) if cell is not None else None

    def _ask(self, row: int) -> None:
        index = self._index(row)
        if index is not None and self._editable is None:
            self.row_asked.emit(index)

    def _on_changed(self, cell: QTableWidgetItem) -> None:
        if not self._fills and cell.column() == self._editable:
            self.cell_renamed.emit(int(cell.data(Qt.ItemDataRole.UserRole)), cell.text().strip())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            QGuiApplication.clipboard().setText(self.text())
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.currentRow() >= 0:
            if self._editable is None:
                self._ask(self.currentRow())
            else:
                cell = self.item(self.currentRow(), self._editable)
                if cell is not None:
                    self.editItem(cell)
        else:
            super().keyPressEvent(event)
