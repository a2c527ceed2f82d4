"""A field's name that is dragged to change the field's value, as a slider would be without its rail."""

from __future__ import annotations

import math

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent

from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.quantity_edit import QuantityEdit

_PER_PIXEL = 0.008
_FINE = 0.1


class DragLabel(Label):
    """The name of a `QuantityEdit`; dragging it sideways makes the value larger or smaller in proportion.

    Signals
    -------
    dragged
        The value on the way; nothing is decided yet.
    dropped
        The value at the end.
    given_up
        Escape was pressed, or the value is as it was.
    """

    dragged = Signal(float)
    dropped = Signal(float)
    given_up = Signal()

    def __init__(self, look: Appearance, text: str, edit: QuantityEdit) -> None:
        super().__init__(text)
        self._look, self._edit = look, edit
        self._from_x: float | None = None
        self._start = 0.0
        self._value: float | None = None
        self.setBuddy(edit)
        self.setCursor(Qt.CursorShape.SizeHorCursor)
        self.setToolTip(
            tip(f"Drag sideways to change {edit.accessibleName()}; Shift for small steps, Escape to give up")
        )

    def mousePressEvent(self, event: QMouseEvent) -> None:
        value = self._edit.shown
        if event.button() is Qt.MouseButton.LeftButton and value:
            self._from_x, self._start, self._value = event.position().x(), value, None
            self.setFocus()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self._from_x is None:
            return
        fine = _FINE if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1.0
        pixels = (event.position().x() - self._from_x) / max(self._look.px(100) / 100, 0.1)
        value = self._edit.allowed.clipped(self._start * math.exp(_PER_PIXEL * fine * pixels))
        if value != self._value:
            self._value = value
            self._edit.set_value(value)
            self.dragged.emit(value)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._from_x is None:
            return
        self._from_x = None
        if self._value is None or self._value == self._start:
            self.given_up.emit()
        else:
            self.dropped.emit(self._value)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape and self._from_x is not None:
            self._from_x = None
            self._edit.set_value(self._start)
            self.given_up.emit()
        else:
            super().keyPressEvent(event)
