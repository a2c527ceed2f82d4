"""How a user drives the window."""

from PySide6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

LEFT = Qt.MouseButton.LeftButton


def drag(qtbot: QtBot, widget, start_x: float, end_x: float, modifier=Qt.KeyboardModifier.NoModifier) -> None:
    y = widget.height() // 2
    qtbot.mousePress(widget, LEFT, modifier, QPoint(round(start_x), y))
    for share in (0.3, 0.7, 1.0):
        qtbot.mouseMove(widget, QPoint(round(start_x + share * (end_x - start_x)), y))
    qtbot.mouseRelease(widget, LEFT, modifier, QPoint(round(end_x), y))


def type_into(qtbot: QtBot, edit, text: str) -> None:
    edit.setFocus()
    edit.selectAll()
    qtbot.keyClicks(edit, text)
    qtbot.keyClick(edit, Qt.Key.Key_Return)
