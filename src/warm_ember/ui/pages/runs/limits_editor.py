"""The text of a limits file, with the numbers of its lines."""

from __future__ import annotations

from PySide6.QtCore import QRect, QRectF, QSize, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QFontDatabase,
    QGuiApplication,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QSyntaxHighlighter,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
    QTextFormat,
)
from PySide6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from warm_ember.ui.look.theme import Appearance

_GUTTER, _LIGHT, _HEAVY = 40, 400, 700


class _Colors(QSyntaxHighlighter):
    """Comments faint, names of tables and values heavy."""

    def __init__(self, document: QTextDocument, look: Appearance) -> None:
        super().__init__(document)
        self._look = look

    def highlightBlock(self, text: str) -> None:
        plain, comment, value = QTextCharFormat(), QTextCharFormat(), QTextCharFormat()
        plain.setForeground(self._look.theme.dim)
        comment.setForeground(self._look.theme.faint)
        value.setForeground(self._look.theme.ink)
        for one, weight in ((plain, _LIGHT), (comment, _LIGHT), (value, _HEAVY)):
            one.setFontWeight(weight)
        is_table, equals = text.lstrip().startswith("["), text.find("=")
        self.setFormat(0, len(text), value if is_table else plain)
        if equals >= 0 and not is_table:
            self.setFormat(equals + 1, len(text) - equals - 1, value)
        at = _comment_start(text)
        if at >= 0:
            self.setFormat(at, len(text) - at, comment)


def _comment_start(text: str) -> int:
    """Return where a comment begins, -1 where there is none: not within quotes."""
    quote = ""
    for at, sign in enumerate(text):
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "\"'":
            quote = sign
        elif sign == "#":
            return at
    return -1


class _Gutter(QWidget):
    """The numbers beside the lines."""

    def __init__(self, editor: LimitsEditor) -> None:
        super().__init__(editor)
        self._editor = editor

    def sizeHint(self) -> QSize:
        return QSize(self._editor.gutter_width, 0)

    def paintEvent(self, event: QPaintEvent) -> None:
        self._editor.paint_numbers(self, event)


class LimitsEditor(QPlainTextEdit):
    """A plain text with its lines numbered; the line of the chosen limit is lit.

    Signals
    -------
    line_chosen
        The cursor has come to another line, counted from 1.
    """

    line_chosen = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.setAccessibleName("Limits, as TOML")
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setTabChangesFocus(True)
        self._gutter = _Gutter(self)
        self._colors = _Colors(self.document(), look)
        self._lit, self._problem, self._last = 0, 0, 1
        self.updateRequest.connect(self._on_update_request)
        self.cursorPositionChanged.connect(self._on_cursor)
        look.changed.connect(self._on_look)
        self._on_look()

    def _on_look(self) -> None:
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setPointSizeF(QGuiApplication.font().pointSizeF())
        self.setFont(font)
        self.setViewportMargins(self.gutter_width, 0, 0, 0)
        self._colors.rehighlight()
        self._light()

    @property
    def gutter_width(self) -> int:
        """Room for the numbers."""
        return self._look.px(_GUTTER)

    def replace_text(self, text: str) -> None:
        """Put another text in, so that undo gives the one before back."""
        if text == self.toPlainText():
            return
        cursor = self.textCursor()
        line = cursor.blockNumber()
        cursor.beginEditBlock()
        cursor.select(QTextCursor.SelectionType.Document)
        cursor.insertText(text)
        cursor.endEditBlock()
        self._go_to(line)

    def light(self, line: int, problem_line: int = 0) -> None:
        """Light the line of a limit, and mark the line that is wrong; 0 for none."""
        self._lit, self._problem = line, problem_line
        if line and self.textCursor().blockNumber() != line - 1:
            self.blockSignals(True)
            self._go_to(line - 1)
            self.blockSignals(False)
            self._last = line
        self._light()
        self._gutter.update()

    def _go_to(self, block: int) -> None:
        cursor = QTextCursor(self.document().findBlockByNumber(min(block, self.blockCount() - 1)))
        self.setTextCursor(cursor)

    def _light(self) -> None:
        theme, marks = self._look.theme, []
        for line, color in ((self._lit, theme.mark_ground), (self._problem, theme.raised)):
            block = self.document().findBlockByNumber(line - 1)
            if line and block.isValid():
                mark = QTextEdit.ExtraSelection()
                mark.cursor = QTextCursor(block)
                mark.format.setBackground(QColor(color))
                mark.format.setProperty(QTextFormat.Property.FullWidthSelection, True)
                marks.append(mark)
        self.setExtraSelections(marks)

    def _on_cursor(self) -> None:
        line = self.textCursor().blockNumber() + 1
        if line != self._last:
            self._last = line
            self.line_chosen.emit(line)

    def _on_update_request(self, rect: QRect, dy: int) -> None:
        if dy:
            self._gutter.scroll(0, dy)
        else:
            self._gutter.update(0, rect.y(), self._gutter.width(), rect.height())

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        inside = self.contentsRect()
        self._gutter.setGeometry(inside.left(), inside.top(), self.gutter_width, inside.height())

    def paint_numbers(self, gutter: QWidget, event: QPaintEvent) -> None:
        """Paint the numbers of the lines that are seen."""
        theme = self._look.theme
        painter = QPainter(gutter)
        painter.setFont(self.font())
        painter.fillRect(event.rect(), theme.sunken)
        block = self.firstVisibleBlock()
        while block.isValid():
            box = self.blockBoundingGeometry(block).translated(self.contentOffset())
            if box.top() > event.rect().bottom():
                break
            line = block.blockNumber() + 1
            row = QRectF(0, box.top(), gutter.width(), box.height())
            if line == self._lit:
                painter.fillRect(row, theme.mark_ground)
                painter.fillRect(QRectF(0, box.top(), 3, box.height()), theme.mark)
            if line == self._problem:
                painter.fillRect(QRectF(0, box.top(), 3, box.height()), theme.warning)
            painter.setPen(theme.ink if line in (self._lit, self._problem) else theme.faint)
            painter.drawText(row.adjusted(0, 0, -10, 0), Qt.AlignmentFlag.AlignRight, str(line))
            block = block.next()
        painter.end()
