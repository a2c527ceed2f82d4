"""The target's console: its lines with their times, what is typed to it, and what its lines mean."""

from __future__ import annotations

import html
import time
from datetime import datetime
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QTextCursor
from PySide6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import LinePattern
from warm_ember.session.bench_setup import Patterns, compile_pattern
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.view_stack import ViewStack

if TYPE_CHECKING:
    from warm_ember.session.records import ConsoleLine


_KEPT = 2000


class ConsolePanel(QWidget):
    """Lines from the target, a field to type to it, and the patterns that turn lines into events.

    Signals
    -------
    sent
        A line to send.
    address_entered
        Where the console is; empty to close it.
    patterns_entered
        The patterns as they were edited.
    """

    sent = Signal(str)
    address_entered = Signal(str)
    patterns_entered = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self._patterns = Patterns(())
        self._means: dict[str, float | None] = {}
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(6), px(8), px(4))
        column.setSpacing(px(4))
        head = QHBoxLayout()
        head.addWidget(Label("Target console"))
        head.addStretch(1)
        self.what = QPushButton("What lines mean")
        self.what.setCheckable(True)
        self.what.setFont(look.font("small"))
        self.what.toggled.connect(self._show_meanings)
        head.addWidget(self.what)
        column.addLayout(head)
        self.address = QLineEdit()
        self.address.setPlaceholderText("/dev/ttyUSB0 or socket://host:port")
        self.address.setAccessibleName("Address of the console")
        self.address.setFont(look.font("small"))
        self.address.editingFinished.connect(self._on_address)
        column.addWidget(self.address)
        self.views = ViewStack()
        self._build_lines()
        self._build_patterns()
        column.addWidget(self.views, 1)
        self.field = QLineEdit()
        self.field.setPlaceholderText("send to the target")
        self.field.setAccessibleName("Type to the target")
        self.field.setFont(look.font("small"))
        self.field.returnPressed.connect(self._on_return)
        column.addWidget(self.field)

    def _show_meanings(self, shown: bool) -> None:
        self.views.setCurrentIndex(int(shown))

    def _build_lines(self) -> None:
        self.lines = QPlainTextEdit()
        self.lines.setReadOnly(True)
        self.lines.setMaximumBlockCount(_KEPT)
        self.lines.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.lines.setAccessibleName("Lines from the target")
        self.lines.setFont(self.look.font("small"))
        self.lines.setStyleSheet("font-weight: normal;")
        self.lines.setPlaceholderText(
            "No console is open. Its lines appear here, and those that name a state place it."
        )
        self.views.addWidget(self.lines)

    def _build_patterns(self) -> None:
        page = QWidget()
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        self.table = QTableWidget(0, 3)
        self.table.setHorizontalHeaderLabels(["pattern", "is a", "name"])
        self.table.verticalHeader().hide()
        self.table.horizontalHeader().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.itemChanged.connect(self._on_edited)
        column.addWidget(self.table, 1)
        self.problem = Label()
        self.problem.setWordWrap(True)
        self.problem.setFont(self.look.font("small"))
        column.addWidget(self.problem)
        row = QHBoxLayout()
        for words, slot in (("Add", self.add_pattern), ("Remove", self._remove_pattern)):
            button = QPushButton(words)
            button.setFont(self.look.font("small"))
            button.clicked.connect(lambda _checked=False, slot=slot: slot())
            row.addWidget(button)
        row.addStretch(1)
        column.addLayout(row)
        self.views.addWidget(page)

    def show_bench(self, address: str, patterns: tuple[LinePattern, ...], means: dict[str, float | None]) -> None:
        """Show address and patterns of a project, and the mean currents that colour its states."""
        if not self.address.hasFocus():
            self.address.setText(address)
            self.address.setModified(False)
        self._means = means
        self._patterns = Patterns(patterns)
        if self.patterns() == patterns:
            return
        self.table.blockSignals(True)
        self.table.setRowCount(len(patterns))
        for row, pattern in enumerate(patterns):
            for column, text in enumerate((pattern.pattern, pattern.event, pattern.name)):
                self.table.setItem(row, column, QTableWidgetItem(text))
        self.table.blockSignals(False)
        self.problem.clear()

    def patterns(self) -> tuple[LinePattern, ...]:
        """Return the patterns as they stand in the table."""
        found = []
        for row in range(self.table.rowCount()):
            cells = [self.table.item(row, column) for column in range(3)]
            texts = [cell.text().strip() if cell is not None else "" for cell in cells]
            found.append(LinePattern(*texts))
        return tuple(found)

    def add_pattern(self) -> None:
        """Add a row for a pattern."""
        self.table.insertRow(self.table.rowCount())
        self.table.editItem(self._cell(self.table.rowCount() - 1))

    def _cell(self, row: int) -> QTableWidgetItem:
        item = self.table.item(row, 0)
        if item is None:
            item = QTableWidgetItem("")
            self.table.setItem(row, 0, item)
        return item

    def _remove_pattern(self) -> None:
        self.table.removeRow(self.table.currentRow())
        self._on_edited()

    def _on_edited(self, _item: object = None) -> None:
        patterns = self.patterns()
        try:
            for pattern in patterns:
                if pattern.pattern or pattern.event:
                    compile_pattern(pattern)
        except BadArgumentError as error:
            self.problem.setText(error.one_line)
            self.problem.setStyleSheet(f"color: {self.look.theme.warning_text.name()};")
            return
        self.problem.clear()
        whole = tuple(pattern for pattern in patterns if pattern.pattern and pattern.event)
        self.patterns_entered.emit(whole)

    def _on_address(self) -> None:
        if self.address.isModified():
            self.address.setModified(False)
            self.address_entered.emit(self.address.text().strip())

    def _on_return(self) -> None:
        text = self.field.text()
        if text.strip():
            self.field.clear()
            self.sent.emit(text)

    def add_line(self, line: ConsoleLine) -> None:
        """Show a line at the end; the view follows unless the reader scrolled back."""
        bar = self.lines.verticalScrollBar()
        follows = bar.value() >= bar.maximum() - 2
        self.lines.appendHtml(self._html(line))
        if follows:
            self.lines.moveCursor(QTextCursor.MoveOperation.End)
            self.lines.moveCursor(QTextCursor.MoveOperation.StartOfLine)

    def show_lines(self, lines: list[ConsoleLine]) -> None:
        """Show all lines anew, in the colours of the theme."""
        self.lines.clear()
        for line in lines[-_KEPT:]:
            self.add_line(line)

    def _html(self, line: ConsoleLine) -> str:
        theme = self.look.theme
        moment = datetime.fromtimestamp(time.time() - (time.monotonic() - line.received_s)).astimezone()
        clock = moment.strftime("%H:%M:%S.") + f"{moment.microsecond // 1000:03d}"
        event = self._patterns.event(line, 0.0)
        mark = "&nbsp;"
        if event.event == "state":
            mean_a = self._means.get(event.name)
            color = theme.ramp.color(mean_a) if mean_a else theme.dim
            mark = f'<span style="color:{color.name()}">▌</span>'
        ink = theme.mark if line.sent else theme.ink if event.event != "sync" else theme.faint
        weight = "bold" if line.sent else "normal"
        text = html.escape(("▸ " if line.sent else "") + line.text)
        return (
            f'<span style="color:{theme.faint.name()}">{clock}</span>&nbsp;{mark}&nbsp;'
            f'<span style="color:{ink.name()};font-weight:{weight}">{text}</span>'
        )

    def focus_field(self) -> None:
        """Let the reader send to the target."""
        self.field.setFocus(Qt.FocusReason.ShortcutFocusReason)
