"""Switches: a choice between a few views as plain words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.flow_layout import FlowLayout

HEIGHT = 32


@dataclass(frozen=True)
class Switch:
    """A choice between a few views as plain words.

    Parameters
    ----------
    title
        What is chosen: ``"Current axis"``.
    options
        The words.
    chosen
        The one in force.
    choose
        Called with the word that was picked.
    """

    title: str
    options: tuple[str, ...]
    chosen: str
    choose: Callable[[str], None]


class Word(QAbstractButton):
    """A word that can be picked; the one in force is heavier and underlined."""

    def __init__(self, look: Appearance, text: str, *, title: bool = False) -> None:
        super().__init__()
        self._look, self._is_title = look, title
        self.setText(text)
        self.setAccessibleName(text)
        self.setCheckable(not title)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus if title else Qt.FocusPolicy.TabFocus)
        self.setEnabled(not title)
        if not title:
            self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        width = width_of(self._look, f"**{self.text()}**", "small")
        return QSize(round(width) + self._look.px(10), self._look.px(HEIGHT))

    def paintEvent(self, event: QPaintEvent) -> None:
        theme, look = self._look.theme, self._look
        painter = QPainter(self)
        chosen = self.isChecked()
        text = f"**{self.text()}**" if chosen else self.text()
        rect = QRectF(self.rect())
        dim = theme.faint if self._is_title else theme.dim
        width = draw_rich_text(painter, rect, text, look, size="small", dim=dim, align=Qt.AlignmentFlag.AlignHCenter)
        if chosen:
            painter.setPen(QPen(theme.ink, 2))
            y = rect.center().y() + look.px(9)
            painter.drawLine(QPointF(rect.center().x() - width / 2, y), QPointF(rect.center().x() + width / 2, y))
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(rect.adjusted(0.5, 5.5, -0.5, -5.5))
        painter.end()


class Switches(QWidget):
    """A row of switches."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self._row = FlowLayout()
        self.setLayout(self._row)
        self.words: dict[tuple[str, str], Word] = {}
        self._shown: tuple[tuple[str, tuple[str, ...]], ...] = ()

    def show_switches(self, switches: tuple[Switch, ...]) -> None:
        """Show switches; words that are there already only change which is in force."""
        shape = tuple((switch.title, switch.options) for switch in switches)
        if shape != self._shown:
            self._rebuild(switches)
            self._shown = shape
        for switch in switches:
            for option in switch.options:
                word = self.words[switch.title, option]
                word.setChecked(option == switch.chosen)  # which paints it anew where that is different
                word.clicked.disconnect()
                word.clicked.connect(lambda _checked=False, s=switch, o=option: self._pick(s, o))

    def _pick(self, switch: Switch, option: str) -> None:
        switch.choose(option)
        word = self.words.get((switch.title, option))
        if word is not None:
            for other in switch.options:
                self.words[switch.title, other].setChecked(other == option)

    def _rebuild(self, switches: tuple[Switch, ...]) -> None:
        while self._row.count():
            item = self._row.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.words = {}
        for switch in switches:
            one = QWidget()  # a switch is not broken between rows
            row = QHBoxLayout(one)
            row.setContentsMargins(self._look.px(10), 0, 0, 0)
            row.setSpacing(0)
            if switch.title:
                row.addWidget(Word(self._look, switch.title, title=True))
            for option in switch.options:
                word = Word(self._look, option)
                word.clicked.connect(lambda: None)
                self.words[switch.title, option] = word
                row.addWidget(word)
            self._row.addWidget(one)
            one.show()  # what is hidden still takes no room
