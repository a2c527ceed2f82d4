"""A field for a number with its unit, typed where it is shown: ``12u``, ``0.3 mA``, ``15 min``."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent
from PySide6.QtWidgets import QLineEdit

from warm_ember.model.allowed import Allowed
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import MONTH_S, duration_text, format_trimmed, parse_quantity, quantity_text

_WRITERS: dict[str, Callable[[float], str]] = {
    "s": lambda value: (
        f"{format_trimmed(value / MONTH_S)} months" if value > 2 * MONTH_S else str(duration_text(value))
    ),
    "%": lambda value: f"{format_trimmed(100 * value)} %",
    "C": lambda value: str(quantity_text(value / 3600, "Ah")),
    "°C": lambda value: f"{format_trimmed(value)} °C",
    "": lambda value: format_trimmed(value),
}


class QuantityEdit(QLineEdit):
    """A number in SI text; what is not understood stays marked and is not sent.

    Signals
    -------
    value_entered
        The value in the base unit, when it was changed by the user.
    refused
        What was expected, when something else was entered.
    cleared
        The text was taken away, where that is allowed.
    """

    value_entered = Signal(float)
    cleared = Signal()
    refused = Signal(str)

    def __init__(
        self,
        look: Appearance,
        unit: str,
        name: str,
        width: int = 72,
        *,
        low: float = 0.0,
        allowed: Allowed | None = None,
        write: Callable[[float], str] | None = None,
        may_be_empty: bool = False,
    ) -> None:
        super().__init__()
        self._unit, self._may_be_empty = unit, may_be_empty
        self._writer = write or _WRITERS.get(unit)
        self.allowed = allowed or Allowed(low)
        self._value: float | None = None
        self.setAccessibleName(name)
        self._look, self._width = look, width
        self._on_look()
        example = f"{name}; for instance {self._text(self._example())}"
        self.setToolTip(
            tip(example if allowed is None else f"{name}, {self._range()}; for instance {self._text(self._example())}")
        )
        look.changed.connect(self._on_look)
        self.editingFinished.connect(self._on_finished)
        self.textEdited.connect(self._on_edited)

    def _on_look(self) -> None:
        self.setFixedWidth(self._look.px(self._width))

    @property
    def shown(self) -> float | None:
        """The value that was shown last, whatever is being typed."""
        return self._value

    def _range(self) -> str:
        return self.allowed.words(self._text)

    def _example(self) -> float:
        return {"A": 12e-6, "s": 0.4, "C": 21600.0, "%": 0.12, "V": 2.2}.get(self._unit, 1.0)

    def _text(self, value: float) -> str:
        if self._writer is not None:
            return self._writer(value)
        return str(quantity_text(value, self._unit)) if value else f"0 {self._unit}".strip()

    def set_value(self, value: float | None) -> None:
        """Show a value, unless the user is typing."""
        self._value = value
        if not (self.hasFocus() and self.isModified()):
            self.setText("" if value is None else self._text(value))
            self.setCursorPosition(0)  # a text that is too long shows its beginning
            self._mark(wrong=False)

    def value(self) -> float | None:
        """Return what the text says, or None when it is not understood."""
        try:
            value = parse_quantity(self.text(), self._unit)
        except ValueError:
            return None
        return value if self.allowed.holds(value) else None

    def _mark(self, *, wrong: bool) -> None:
        mark = "true" if wrong else "false"
        if self.property("wrong") == mark:
            return
        self.setProperty("wrong", mark)
        self.style().unpolish(self)
        self.style().polish(self)

    def _on_edited(self, _text: str) -> None:
        self._mark(wrong=self.value() is None and not self._is_cleared)

    @property
    def _is_cleared(self) -> bool:
        return self._may_be_empty and not self.text().strip()

    def _on_finished(self) -> None:
        if not self.isModified():
            return
        value = self.value()
        if self._is_cleared:
            self.setModified(False)
            if self._value is not None:
                self._value = None
                self.cleared.emit()
            return
        if value is None:
            self.refused.emit(f"{self.accessibleName()}: expected {self._range()}, found “{self.text()}”")
            return
        self.setModified(False)
        if value != self._value:
            self._value = value
            self.value_entered.emit(value)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.set_value(self._value)
            self.clearFocus()
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        if self.isModified() and self.value() is None:
            self.setModified(False)
            self.set_value(self._value)
