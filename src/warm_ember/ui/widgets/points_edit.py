"""A curve typed as its points: ``0: 1.0, 0.5: 1.3, 1: 1.78``."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLineEdit

from warm_ember.errors import ParseError
from warm_ember.model.battery import Points
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import parse_quantity


def points_text(points: Points) -> str:
    """Write a curve as text.

    Examples
    --------
    >>> points_text(((0.0, 1.0), (1.0, 1.78)))
    '0: 1, 1: 1.78'
    """
    return ", ".join(f"{first:.5g}: {second:.5g}" for first, second in points)


def parse_points(text: str, unit: str = "") -> Points:
    """Read a curve from text; the first numbers may be in a unit.

    Raises
    ------
    ParseError
        If it is not pairs of numbers.

    Examples
    --------
    >>> parse_points("0: 1.0, 1: 1.78")
    ((0.0, 1.0), (1.0, 1.78))
    >>> parse_points("10 uA: 0.7, 0.1: 0.93", "A")
    ((1e-05, 0.7), (0.1, 0.93))
    """
    pairs = [pair.split(":") for pair in text.replace(";", ",").split(",") if pair.strip()]
    if any(len(pair) != 2 for pair in pairs):
        raise ParseError(text)
    return tuple(
        (parse_quantity(first.strip(), unit) if unit else float(first), float(second)) for first, second in pairs
    )


class PointsEdit(QLineEdit):
    """A field for a curve.

    Signals
    -------
    points_entered
        The points.
    refused
        What was expected.
    """

    points_entered = Signal(object)
    refused = Signal(str)

    def __init__(self, look: Appearance, name: str, example: Points, unit: str = "") -> None:
        super().__init__()
        self._unit, self._example = unit, points_text(example)
        self._points: Points = ()
        self.setFont(look.font("small"))
        self.setAccessibleName(name)
        self.setToolTip(tip(f"{name}, as pairs: {self._example}"))
        self.editingFinished.connect(self._on_finished)

    def set_points(self, points: Points) -> None:
        """Show a curve, unless the user is typing."""
        self._points = points
        if not (self.hasFocus() and self.isModified()):
            self.setText(points_text(points))
            self.setCursorPosition(0)

    def _on_finished(self) -> None:
        if not self.isModified():
            return
        self.setModified(False)
        try:
            points = parse_points(self.text(), self._unit)
        except ValueError:
            self.refused.emit(f"{self.accessibleName()}: expected pairs such as {self._example}, found “{self.text()}”")
            self.set_points(self._points)
            return
        if points != self._points:
            self.points_entered.emit(points)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.set_points(self._points)
            self.clearFocus()
        else:
            super().keyPressEvent(event)
