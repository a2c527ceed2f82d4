"""Room for a widget: all there is, and what it needs at least, scrolled to where there is less."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QScrollArea, QWidget


class _Holder(QWidget):
    """Holds a widget without a layout: one would ask for the height that it likes best, where the least is enough."""

    def __init__(self, held: QWidget) -> None:
        super().__init__()
        self._held = held
        held.setParent(self)

    def minimumSizeHint(self) -> QSize:
        return self._held.minimumSizeHint()

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._held.setGeometry(self.rect())

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().event(event)


class Room(QScrollArea):
    """Scrolls a widget where there is less room than it needs at least."""

    def __init__(self, held: QWidget) -> None:
        super().__init__()
        self.setWidgetResizable(True)
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setWidget(_Holder(held))
