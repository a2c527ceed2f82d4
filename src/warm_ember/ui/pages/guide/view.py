"""The guide in the window: chapters with search at the left, the text with the page's keys at the right."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import Qt, QUrl, Signal
from PySide6.QtGui import (
    QImage,
    QKeyEvent,
    QResizeEvent,
    QTextBlockFormat,
    QTextCursor,
    QTextDocument,
    QTextFormat,
    QTextTable,
)
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QListWidget, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from warm_ember.session.guide import Chapter, chapters, passage, picture
from warm_ember.ui.look.theme import Appearance

_COLUMN = 840
_SIZES = {1: 1.7, 2: 1.25, 3: 1.1}


@dataclass(frozen=True)
class KeyGroup:
    """Keys that belong together: a title, and what is done with which."""

    title: str
    keys: tuple[tuple[str, str], ...]


class ChapterText(QTextBrowser):
    """A chapter, its pictures as wide as the column."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self._shown = ""
        # Lines of a length that the eye finds its way back in.
        self.setLineWrapMode(QTextBrowser.LineWrapMode.FixedPixelWidth)
        # One that comes and goes would change the column, and every picture with it.
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)

    def show_text(self, text: str) -> None:
        """Show Markdown, pictures in it by their paths."""
        self._shown = text
        self.setMarkdown(text)
        self._size_text()
        self._quieten_tables()

    @property
    def _column(self) -> int:
        return max(self.lineWrapColumnOrWidth() - round(2 * self.document().documentMargin()), 100)

    def loadResource(self, kind: int, name: QUrl | str) -> object:
        place = QUrl(name) if isinstance(name, str) else name
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return None  # nothing else is read, and nothing from anywhere else
        image = QImage()
        image.loadFromData(picture(place.fileName()))
        if image.isNull():
            return None
        ratio = self.devicePixelRatioF()
        wide = min(round(self._column * ratio), image.width())
        scaled = image.scaledToWidth(wide, Qt.TransformationMode.SmoothTransformation)
        scaled.setDevicePixelRatio(ratio)
        return scaled

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        before = self.lineWrapColumnOrWidth()
        self.setLineWrapColumnOrWidth(min(self.viewport().width(), self._look.px(_COLUMN)))
        if self.lineWrapColumnOrWidth() != before and self._shown:
            at = self.verticalScrollBar().value()
            self.document().clear()
            self.show_text(self._shown)
            self.verticalScrollBar().setValue(at)

    def _size_text(self) -> None:
        """Give each heading the size of its level, and no other text that of a heading."""
        base, block, cursor = self.font().pointSizeF(), self.document().begin(), QTextCursor(self.document())
        cursor.beginEditBlock()  # it is laid out once, and not for every piece
        while block.isValid():
            level, pieces = block.blockFormat().headingLevel(), block.begin()
            found = []
            while not pieces.atEnd():
                found.append(pieces.fragment())
                pieces += 1
            for piece in found:
                shape = piece.charFormat()
                shape.clearProperty(QTextFormat.Property.FontSizeAdjustment.value)
                shape.setFontPointSize(base * _SIZES.get(level, 1.0))
                cursor.setPosition(piece.position())
                cursor.setPosition(piece.position() + piece.length(), QTextCursor.MoveMode.KeepAnchor)
                cursor.setCharFormat(shape)
            if level > 1:
                above = QTextBlockFormat()
                above.setTopMargin(self._look.px(14))
                cursor.setPosition(block.position())
                cursor.mergeBlockFormat(above)
            block = block.next()
        cursor.endEditBlock()

    def _quieten_tables(self) -> None:
        """Draw the rules of tables as thin as all others."""
        for frame in self.document().rootFrame().childFrames():
            if isinstance(frame, QTextTable):
                shape = frame.format().toTableFormat()
                shape.setBorderCollapse(True)
                shape.setBorderBrush(self._look.theme.rule)
                shape.setCellPadding(self._look.px(4))
                frame.setFormat(shape)


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
        self.text = ChapterText(look)
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
            self.chapter = ""
            self.text.setPlainText("No chapter has all of these words.")

    def _on_row(self, row: int) -> None:
        if 0 <= row < len(self._found) and self._found[row].title != self.chapter:
            self.chapter = self._found[row].title
            self._show()

    def _show(self) -> None:
        chapter = next((one for one in self._found if one.title == self.chapter), None)
        if chapter is not None:
            self.text.show_text(chapter.text + _keys_text(self.keys_of(chapter.title)))

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
