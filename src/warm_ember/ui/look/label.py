"""Text as it is: what a project, a file or an instrument says is never taken for markup."""

from __future__ import annotations

import html

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QWidget


class Label(QLabel):
    """A label that shows its text letter by letter."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)


def tip(text: str) -> str:
    """Return a text for a tool-tip, which takes what looks like markup for markup."""
    if "<" not in text and "&" not in text:
        return text
    lines = html.escape(text).split("\n")
    return f"<p>{'<br>'.join(lines)}</p>"
