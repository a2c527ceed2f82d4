"""A layout in rows: what does not fit beside goes below."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem


class FlowLayout(QLayout):
    """Items one after another, as words in a paragraph.

    Parameters
    ----------
    gap
        Between rows, px.
    """

    def __init__(self, gap: int = 0) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._gap = gap
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        return self._place(QRect(0, 0, width, 0), moves=False)

    def sizeHint(self) -> QSize:
        """Return the room that all of it takes in one row."""
        hints = [item.sizeHint() for item in self._items]
        return QSize(sum(hint.width() for hint in hints), max((hint.height() for hint in hints), default=0))

    def minimumSize(self) -> QSize:
        """Return the room that the widest item takes."""
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, moves=True)

    def _place(self, rect: QRect, *, moves: bool) -> int:
        """Return the height that the items take in a width; put them there too where they are to be moved."""
        left, top, row = rect.left(), rect.top(), 0
        for item in self._items:
            hint = item.sizeHint()
            if left > rect.left() and left + hint.width() > rect.left() + rect.width():
                left, top, row = rect.left(), top + row + self._gap, 0
            if moves:
                item.setGeometry(QRect(QPoint(left, top), hint))
            left, row = left + hint.width(), max(row, hint.height())
        return top + row - rect.top()
