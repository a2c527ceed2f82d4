"""The guide in the window: chapters with search at the left, the text with the page's keys at the right."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent, QTextTable
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from warm_ember.session.guide import Chapter, chapters, passage
from warm_ember.ui.look.theme import Appearance


@dataclass(frozen=True)
class KeyGroup:
    """Keys that belong together: a title, and what is done with which."""

    title: str
    keys: tuple[tuple[str, str], ...]


class GuideView(QWidget):
    """Chapters, searched by words.

    Signals
    -------
    closed
        The reader is done.
    """

    closed = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.look = look
        self.keys_of: Callable[[str], tuple[KeyGroup, ...]] = lambda _title: ()
        self.chapter = ""
        self.search = QLineEdit()
        self.search.setPlaceholderText("search the guide")
        self.search.setAccessibleName("Search the guide")
        self.search.setClearButtonEnabled(True)
        self.list = QListWidget()
        self.list.setAccessibleName("Chapters of the guide")
        self.text = QTextBrowser()
        self.text.setAccessibleName("Text of the chapter")
        self.text.setOpenExternalLinks(False)
        self.close_key = QPushButton("Close the guide")
        self.close_key.setToolTip("Esc")
        self._build()
        self.search.textChanged.connect(self._fill)
        self.list.currentRowChanged.connect(self._on_row)
        self.close_key.clicked.connect(self.closed)
        look.changed.connect(self._show)
        self._found: tuple[Chapter, ...] = ()
        self._fill()

    def _build(self) -> None:
        px = self.look.px
        side = QWidget()
        side.setObjectName("panel")
        side.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        side.setFixedWidth(px(272))
        column = QVBoxLayout(side)
        column.setContentsMargins(px(16), px(16), px(16), px(16))
        column.setSpacing(px(8))
        for widget in (self.search, self.list, self.close_key):
            column.addWidget(widget)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(side)
        row.addWidget(self.text, 1)
        self.text.setFrameShape(QTextBrowser.Shape.NoFrame)
        self.text.document().setDocumentMargin(px(24))

    def open_at(self, title: str, keys_of: Callable[[str], tuple[KeyGroup, ...]]) -> None:
        """Open the chapter of a page; `keys_of` returns the keys of a page by its title."""
        self.keys_of = keys_of
        self.search.clear()
        titles = [one.title for one in self._found]
        self.list.setCurrentRow(titles.index(title) if title in titles else 0)
        self._show()
        self.search.setFocus()

    def _fill(self) -> None:
        wanted = self.search.text()
        self._found = tuple(one for one in chapters() if one.fits(wanted))
        self.list.blockSignals(True)
        self.list.clear()
        for one in self._found:
            at = passage(one.text, wanted)
            self.list.addItem(f"{one.title}\n    {at[:60]}" if wanted and at else one.title)
        self.list.blockSignals(False)
        self.list.setCurrentRow(0 if self._found else -1)
        if not self._found:
            self.text.setPlainText("No chapter has all of these words.")

    def _on_row(self, row: int) -> None:
        if 0 <= row < len(self._found):
            self.chapter = self._found[row].title
            self._show()

    def _show(self) -> None:
        chapter = next((one for one in self._found if one.title == self.chapter), None)
        if chapter is not None:
            self.text.setMarkdown(chapter.text + _keys_text(self.keys_of(chapter.title)))
            self._quieten_tables()

    def _quieten_tables(self) -> None:
        """Draw the rules of tables as thin as all others."""
        for frame in self.text.document().rootFrame().childFrames():
            if isinstance(frame, QTextTable):
                shape = frame.format().toTableFormat()
                shape.setBorderCollapse(True)
                shape.setBorderBrush(self.look.theme.rule)
                shape.setCellPadding(self.look.px(4))
                frame.setFormat(shape)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        elif event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up) and self.search.hasFocus():
            by = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))
        else:
            super().keyPressEvent(event)


def _keys_text(groups: Sequence[KeyGroup]) -> str:
    """Return keys as Markdown tables."""
    parts = []
    for group in groups:
        rows = "\n".join(f"| {words} | `{keys}` |" for words, keys in group.keys)
        parts.append(f"\n\n## {group.title}\n\n| what it does | keys |\n| --- | --- |\n{rows}\n")
    return "".join(parts)
