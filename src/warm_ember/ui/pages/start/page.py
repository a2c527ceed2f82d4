"""The start page: four ways in, and the projects that were open before. It is shown while no project is open."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember import __version__
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.start.choices import ChoiceCard, TitleScale, paint_key
from warm_ember.ui.pages.start.recent_row import RecentRow
from warm_ember.units import counted

if TYPE_CHECKING:
    from warm_ember.session.recent import RecentProject
    from warm_ember.session.start_figures import DecadeLives

_SHOWN = 5
_CHOICES = (
    (
        "demo",
        "D",
        "Explore the demo",
        "A trail counter post and five firmware builds, from 1.7 to 42 months, in seven steps.",
    ),
    (
        "file",
        "O",
        "Open a file of current",
        "Text, NumPy, Parquet, HDF5 or binary; or drop it anywhere on this window.",
    ),
    ("record", "R", "Record", "From an instrument over a socket or a serial line, or from the simulated bench."),
    ("project", "P", "Open a project", "A folder with its captures and changes; or a data set of many runs."),
)
_RIGHT = Qt.AlignmentFlag.AlignRight


class _Heading(QWidget):
    """The heads of the columns of recent projects."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.setFixedHeight(look.px(40))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, px = self._look, self._look.px
        painter = QPainter(self)
        painter.setPen(look.theme.rule)
        painter.drawLine(0, self.height() - 1, self.width(), self.height() - 1)
        line = self.height()
        draw_rich_text(painter, QRectF(px(16), 0, px(160), line), "Recently", look, dim=look.theme.ink)
        draw_rich_text(painter, QRectF(px(232), 0, px(160), line), "project", look, size="small")
        if self.width() >= px(1100):
            for left, width, words in ((520, 56, "runs"), (850, 114, "months"), (968, 0, "last opened")):
                room = px(width) if width else self.width() - px(968 + 184)
                draw_rich_text(painter, QRectF(px(left), 0, room, line), words, look, size="small", align=_RIGHT)
            draw_rich_text(painter, QRectF(px(608), 0, px(60), line), "life", look, size="small")
            target = QRectF(px(684), 0, px(80), line)
            draw_rich_text(painter, target, "target", look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
        painter.end()


class _Foot(QWidget):
    """How the lives are to be read, and how many projects there are."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look, self.words = look, ""
        self.setFixedHeight(look.px(40))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, px = self._look, self._look.px
        painter = QPainter(self)
        about = "Life is the median against the project’s target; the bar has the colour of its mean current."
        room = QRectF(px(16), 0, self.width() - px(200), self.height())
        draw_rich_text(painter, room, about, look, size="small", dim=look.theme.faint)
        if self.words:
            box = QRectF(0, 0, self.width() - px(44), self.height())
            draw_rich_text(painter, box, self.words, look, size="small", align=_RIGHT)
            paint_key(painter, QRectF(self.width() - px(36), px(10), px(20), px(20)), "0", look)
        painter.end()


class _KeysStrip(QWidget):
    """The keys that work everywhere, and the version."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.setFixedHeight(look.px(26))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.bar)
        left = float(px(16))
        for words, key in (("Guide", "F1"), ("Find an action", "Ctrl+Shift+A")):
            for text, ink in ((words, theme.ink), (key, theme.faint)):
                width = width_of(look, text, "small")
                draw_rich_text(painter, QRectF(left, 0, width + 2, self.height()), text, look, size="small", dim=ink)
                left += width + px(8)
            left += px(16)
        box = QRectF(0, 0, self.width() - px(16), self.height())
        draw_rich_text(painter, box, f"Warm Ember {__version__}", look, size="small", align=_RIGHT)
        painter.end()


class StartPage(QWidget):
    """Four choices in words, and what was open before.

    Signals
    -------
    chosen
        ``demo``, ``file``, ``record`` or ``project``.
    project_asked
        The folder of a project to open.
    locate_asked, save_asked
        A project that is no longer where it was is to be found; one without a name is to get one.
    """

    chosen = Signal(str)
    project_asked = Signal(Path)
    locate_asked = Signal(str)
    save_asked = Signal(Path)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.look = look
        self.recent: tuple[RecentProject, ...] = ()
        self.rows: list[RecentRow] = []
        self.shows_all = False
        self._unnamed: tuple[str, ...] = ()
        self.scale = TitleScale(look)
        self.cards = {name: ChoiceCard(look, heading, words, key) for name, key, heading, words in _CHOICES}
        self._foot = _Foot(look)
        self._heading = _Heading(look)
        self._build()
        for name, card in self.cards.items():
            card.clicked.connect(lambda _checked=False, name=name: self.chosen.emit(name))

    def _build(self) -> None:
        px = self.look.px
        body = QWidget()
        body.setObjectName("page")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, px(16), 0, 0)
        column.setSpacing(0)
        column.addWidget(self.scale)
        column.addSpacing(px(12))
        cards = QHBoxLayout()
        cards.setContentsMargins(px(13), 0, px(13), 0)
        cards.setSpacing(px(10))
        for card in self.cards.values():
            cards.addWidget(card, 1)
        column.addLayout(cards)
        column.addSpacing(px(16))
        column.addWidget(self._heading)
        self._rows = QVBoxLayout()
        self._rows.setSpacing(0)
        column.addLayout(self._rows)
        column.addWidget(self._foot)
        column.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(body)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        whole.addWidget(scroll, 1)
        whole.addWidget(_KeysStrip(self.look))

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Make the cards as high as the wordiest of them needs to be."""
        px = self.look.px
        width = (self.width() - 2 * px(13) - (len(self.cards) - 1) * px(10)) // len(self.cards)
        highest = max(card.height_for(width) for card in self.cards.values())
        for card in self.cards.values():
            card.setFixedHeight(highest)

    def show_lives(self, lives: DecadeLives) -> None:
        """Show how long the demo's battery lasts at each decade of current."""
        self.scale.show_lives(lives)

    def show_recent(self, entries: Sequence[RecentProject], unnamed: Sequence[str]) -> None:
        """Show the projects that were open, the last one first; `unnamed` are the folders of those without a name."""
        self.recent, self._unnamed = tuple(entries), tuple(unnamed)
        while self._rows.count():
            item = self._rows.takeAt(0)
            row = item.widget() if item is not None else None
            if row is not None:
                row.hide()
                row.deleteLater()
        self.rows = []
        for place, entry in enumerate(self.recent if self.shows_all else self.recent[:_SHOWN]):
            more, more_key = ("Locate …", "L") if not entry.is_there else ("", "")
            if entry.path in unnamed and entry.is_there:
                more, more_key = "Save as …", "S"
            row = RecentRow(self.look, entry, str(place + 1) if place < _SHOWN else "", more, more_key)
            row.clicked.connect(lambda _checked=False, row=row: self._open(row))
            row.more_asked.connect(lambda row=row: self._more(row))
            self._rows.addWidget(row)
            self.rows.append(row)
        self._heading.setVisible(bool(self.rows))
        self._foot.setVisible(bool(self.rows))
        self._foot.words = f"all {counted(len(self.recent), 'project')}" if len(self.recent) > len(self.rows) else ""

    def _open(self, row: RecentRow) -> None:
        if row.is_there:
            self.project_asked.emit(Path(row.entry.path))
        else:
            self.locate_asked.emit(row.entry.path)

    def _more(self, row: RecentRow) -> None:
        if row.is_there:
            self.save_asked.emit(Path(row.entry.path))
        else:
            self.locate_asked.emit(row.entry.path)

    def take_focus(self) -> None:
        """Take the keyboard: the first choice has it."""
        self.cards["demo"].setFocus(Qt.FocusReason.OtherFocusReason)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Do what a key stands for: a letter of a choice, the number of a project, 0 for all of them."""
        text = event.text().upper()
        named = {key: name for name, key, _, _ in _CHOICES}
        if text in named:
            self.chosen.emit(named[text])
        elif text.isdigit() and 0 < int(text) <= min(len(self.rows), _SHOWN):
            self._open(self.rows[int(text) - 1])
        elif text == "0" and self._foot.words:
            self.shows_all = True
            self.show_recent(self.recent, self._unnamed)
        else:
            super().keyPressEvent(event)
