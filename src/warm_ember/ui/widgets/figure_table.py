"""A table of figures: flat, right-aligned, sortable, copied as text."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import QAbstractTableModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QKeyEvent, QKeySequence, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.theme import Appearance

Cell = tuple[str | Callable[[], str], float | str]
"""What a cell says, or makes it when it is first seen, and the value that it is sorted by."""

_Index = QModelIndex | QPersistentModelIndex
_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
_DOWNWARD = Qt.SortOrder.DescendingOrder


class _Figures(QAbstractTableModel):
    """Rows of cells in the order that they are sorted in.

    Signals
    -------
    renamed
        ``(row, text)`` after something was typed into a cell.
    """

    renamed = Signal(int, str)

    def __init__(self, header: Sequence[str], words: Sequence[int], editable: int | None) -> None:
        super().__init__()
        self.header, self.words, self.editable = tuple(header), tuple(words), editable
        self.sorted_by: tuple[int, Qt.SortOrder] | None = None
        self._rows: list[list[Cell]] = []
        self._order: list[int] = []

    def rowCount(self, parent: _Index | None = None) -> int:
        return len(self._order)

    def columnCount(self, parent: _Index | None = None) -> int:
        return len(self.header)

    def row_at(self, shown: int) -> int:
        """Return which of the rows that were given stands at a place."""
        return self._order[shown]

    def place_of(self, row: int) -> int:
        """Return where a row stands."""
        return self._order.index(row)

    def text(self, shown: int, column: int) -> str:
        """Return what a cell says."""
        row = self._rows[self._order[shown]]
        text, value = row[column]
        if callable(text):
            text = text()
            row[column] = (text, value)
        return text

    def data(self, index: _Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return self.text(index.row(), index.column())
        if role == Qt.ItemDataRole.ToolTipRole:
            return tip(self.text(index.row(), index.column()))
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return _LEFT if index.column() in self.words else _RIGHT
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation is not Qt.Orientation.Horizontal or section >= len(self.header):
            return None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return _LEFT if section in self.words else _RIGHT
        if role != Qt.ItemDataRole.DisplayRole:
            return None
        words = self.header[section]
        if self.sorted_by is None or self.sorted_by[0] != section:
            return words
        return f"{words} {'▾' if self.sorted_by[1] == _DOWNWARD else '▴'}"

    def flags(self, index: _Index) -> Qt.ItemFlag:
        flags = super().flags(index)
        return flags | Qt.ItemFlag.ItemIsEditable if index.column() == self.editable else flags

    def setData(self, index: _Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        if role != Qt.ItemDataRole.EditRole or index.column() != self.editable:
            return False
        row, text = self._order[index.row()], str(value)
        self._rows[row][index.column()] = (text, text)
        self.dataChanged.emit(index, index)
        self.renamed.emit(row, text.strip())
        return True

    def show_rows(self, rows: Sequence[Sequence[Cell]]) -> None:
        """Show other rows, sorted as those before."""
        self.beginResetModel()
        self._rows = [list(row) for row in rows]
        self._order = self._sorted()
        self.endResetModel()

    def set_header(self, header: Sequence[str]) -> None:
        """Name the columns."""
        self.beginResetModel()
        self.header, self._rows, self._order = tuple(header), [], []
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        if not 0 <= column < len(self.header):
            return
        self.layoutAboutToBeChanged.emit()
        before, self.sorted_by = self._order, (column, order)
        self._order = self._sorted()
        places = {row: place for place, row in enumerate(self._order)}
        kept = self.persistentIndexList()
        self.changePersistentIndexList(kept, [self.index(places[before[one.row()]], one.column()) for one in kept])
        self.layoutChanged.emit()
        self.headerDataChanged.emit(Qt.Orientation.Horizontal, 0, len(self.header) - 1)

    def _sorted(self) -> list[int]:
        if self.sorted_by is None:
            return list(range(len(self._rows)))
        column, order = self.sorted_by
        values = [row[column][1] for row in self._rows]
        sign = -1 if order == _DOWNWARD else 1
        if all(isinstance(value, float) for value in values):
            found: list[int] = np.argsort(sign * np.array(values, dtype=np.float64), kind="stable").tolist()
            return found
        return sorted(range(len(values)), key=lambda row: str(values[row]), reverse=sign < 0)


class FigureTable(QTableView):
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
    row_clicked
        A row was clicked.
    row_chosen
        Another row is selected, or none.
    cell_renamed
        ``(row, text)`` after the text of an editable cell was changed.
    """

    row_asked = Signal(int)
    row_clicked = Signal(int)
    row_chosen = Signal()
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
        super().__init__()
        self._look, self._editable = look, editable
        self._weights: tuple[float, ...] = ()
        self._figures = _Figures(header, words, editable)
        self.setModel(self._figures)
        self.setShowGrid(False)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTabKeyNavigation(False)
        self.verticalHeader().hide()
        head = self.horizontalHeader()
        head.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        head.setHighlightSections(False)
        if sortable:
            if largest_first is not None:
                head.setSortIndicator(largest_first, _DOWNWARD)
            else:
                head.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
            self.setSortingEnabled(True)
        head.setSortIndicatorShown(False)  # its arrow would lie over the words: it is written behind them
        head.sortIndicatorChanged.connect(lambda *_: head.setSortIndicatorShown(False))
        if editable is None:
            self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self._figures.renamed.connect(self.cell_renamed)
        self.doubleClicked.connect(lambda index: self._ask(index.row()))
        self.clicked.connect(lambda index: self.row_clicked.emit(self._figures.row_at(index.row())))
        self.selectionModel().selectionChanged.connect(lambda *_: self.row_chosen.emit())
        look.changed.connect(self._on_look)
        self._on_look()

    def _on_look(self) -> None:
        self.verticalHeader().setDefaultSectionSize(self._look.px(22))

    def show_rows(self, rows: Sequence[Sequence[Cell]]) -> None:
        """Show rows of ``(text, value to sort by)``; a text may be made when it is first seen."""
        chosen = self.selected_row()
        self._figures.show_rows(rows)
        if chosen is not None and chosen < len(rows):
            self.selectRow(self._figures.place_of(chosen))

    def set_header(self, header: Sequence[str]) -> None:
        """Name other columns; there are no rows then."""
        self._figures.set_header(header)

    def row_count(self) -> int:
        """Return how many rows are shown."""
        return self._figures.rowCount()

    def cell_text(self, place: int, column: int) -> str:
        """Return what a cell says, by its place in the order shown."""
        return self._figures.text(place, column)

    def type_into(self, place: int, column: int, text: str) -> None:
        """Change the text of an editable cell."""
        self._figures.setData(self._figures.index(place, column), text)

    def selected_row(self) -> int | None:
        """Return which of the rows that were given is selected."""
        selected = self.selectionModel().selectedRows()
        return self._figures.row_at(selected[0].row()) if selected else None

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
        figures = self._figures
        heads = [figures.headerData(k, Qt.Orientation.Horizontal) for k in range(figures.columnCount())]
        columns = range(figures.columnCount())
        lines = ["\t".join(str(head).rstrip(" ▾▴") for head in heads)]
        lines += ["\t".join(figures.text(place, k) for k in columns) for place in range(figures.rowCount())]
        return "\n".join(lines)

    def _ask(self, place: int) -> None:
        if self._editable is None:
            self.row_asked.emit(self._figures.row_at(place))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        place = self.currentIndex().row()
        if event.matches(QKeySequence.StandardKey.Copy):
            copy_text(self.text())
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and place >= 0:
            if self._editable is None:
                self._ask(place)
            else:
                self.edit(self._figures.index(place, self._editable))
        else:
            super().keyPressEvent(event)
