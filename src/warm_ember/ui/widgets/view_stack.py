"""Views of which one is open at a time."""

from __future__ import annotations

from PySide6.QtCore import QSize
from PySide6.QtWidgets import QStackedWidget


class ViewStack(QStackedWidget):
    """Views of which one is open; the stack asks for the room that this one needs, not for that of the widest."""

    def __init__(self) -> None:
        super().__init__()
        self.currentChanged.connect(lambda _index: self.updateGeometry())

    def minimumSizeHint(self) -> QSize:
        open_one = self.currentWidget()
        return QSize() if open_one is None else open_one.minimumSizeHint().expandedTo(open_one.minimumSize())

    def sizeHint(self) -> QSize:
        open_one = self.currentWidget()
        return QSize() if open_one is None else open_one.sizeHint().expandedTo(self.minimumSizeHint())
