"""The shutdown matrix: parts down, states across; each state's sum against what was measured."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPoint, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QToolTip

from warm_ember.model.figure import Figure
from warm_ember.model.parts import Part, Power
from warm_ember.model.plan import CurrentBy, CurrentTo, LengthTo, PartTo, PlannedChange, ScaleRate
from warm_ember.session.tuning_results import WAKES
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, rich_figure
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Matrix, MatrixCell, MatrixRow, StateColumn


_NAME, _HEAD, _ROW, _GROUP, _SUMS, _LEAST_COLUMN, _HIGHEST = 168, 44, 21, 17, 3, 76, 28
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTRE = Qt.AlignmentFlag.AlignHCenter
_PLURAL = {"part": "parts", "clock": "clocks", "memory": "memory", "regulator": "regulators", "domain": "domains",
           WAKES: "wake sources"}  # fmt: skip


@dataclass(frozen=True)
class _Line:
    """One line of the matrix: a group's head, or a row."""

    top: float
    height: float
    group: str = ""
    row: MatrixRow | None = None


class ShutdownMatrix(PaintedView):
    """The matrix, with a cursor that the arrow keys move.

    Signals
    -------
    mode_planned
        Part, mode and state: it is to be changed so.
    mode_said
        Part, mode and state: it is so already.
    power_said
        Domain or clock, state, and whether it stays on there.
    source_asked
        A wake source whose way is to be shown.
    """

    paints_focus = True
    mode_planned = Signal(str, str, str)
    mode_said = Signal(str, str, str)
    power_said = Signal(str, str, bool)
    source_asked = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Shutdown matrix")
        self.look = look
        self.matrix: Matrix | None = None
        self.changes: tuple[tuple[str, PlannedChange], ...] = ()
        self._parts: dict[str, Part] = {}
        self._planned: dict[tuple[str, str], tuple[str, str]] = {}
        self.cursor_at = (0, 0)
        look.changed.connect(self._on_look)

    @property
    def part_at_cursor(self) -> str:
        """The part in whose row the cursor is; empty for none."""
        rows = self.matrix.rows if self.matrix is not None else ()
        name = rows[self.cursor_at[0]].name if self.cursor_at[0] < len(rows) else ""
        return name if name in self._parts else ""

    def _on_look(self) -> None:
        self.updateGeometry()
        self.update()

    def show_matrix(
        self, matrix: Matrix | None, parts: tuple[Part, ...], changes: tuple[tuple[str, PlannedChange], ...]
    ) -> None:
        """Show a matrix with the changes ahead, each with its letter."""
        self.matrix, self.changes = matrix, changes
        self._parts = {part.name: part for part in parts}
        self._planned = {}
        for letter, change in changes:
            for effect in change.effects:
                if isinstance(effect, PartTo) and matrix is not None:
                    for state in self._states_of(effect, matrix):
                        self._planned[effect.part, state] = (letter, effect.mode)
        if matrix is not None and matrix.rows and matrix.columns:
            row, column = self.cursor_at
            self.cursor_at = (min(row, len(matrix.rows) - 1), min(column, len(matrix.columns) - 1))
        self.setMinimumHeight(self.sizeHint().height())
        self.setMinimumWidth(self.sizeHint().width())
        self.updateGeometry()
        self.update()

    def _states_of(self, effect: PartTo, matrix: Matrix) -> list[str]:
        """Return the states in which a change moves its part."""
        part = self._parts.get(effect.part)
        to = part.mode(effect.mode) if part is not None else None
        if part is None or to is None:
            return []
        found = []
        for column in matrix.columns:
            cell = matrix.cell(effect.part, column.state)
            before = part.mode(cell.mode) if cell is not None else None
            here = effect.state in ("", column.state)
            if before is not None and here and effect.moves(before.name, before.current_a, to.current_a):
                found.append(column.state)
        return found

    def sizeHint(self) -> QSize:
        px = self.look.px
        lines = self._lines(px(_ROW))
        columns = len(self.matrix.columns) if self.matrix is not None else 4
        bottom = lines[-1].top + lines[-1].height if lines else px(_HEAD)
        return QSize(px(_NAME) + columns * px(_LEAST_COLUMN) + px(8), int(bottom) + self._below())

    def _below(self) -> int:
        """Return how high the sums are."""
        return self.look.px(_ROW * _SUMS + 26)

    def _row_height(self) -> float:
        """Return how high a row is: few rows take what room there is."""
        px = self.look.px
        rows = self.matrix.rows if self.matrix is not None else ()
        groups = len({row.group for row in rows})
        room = self.height() - self._below() - px(_HEAD) - groups * px(_GROUP)
        return min(max(room / max(len(rows), 1), px(_ROW)), px(_HIGHEST))

    def _lines(self, height: float | None = None) -> list[_Line]:
        height = height or self._row_height()
        lines, top, group = list[_Line](), float(self.look.px(_HEAD)), ""
        for row in self.matrix.rows if self.matrix is not None else ():
            if row.group != group:
                group = row.group
                lines.append(_Line(top, self.look.px(_GROUP), group=group))
                top += self.look.px(_GROUP)
            lines.append(_Line(top, height, row=row))
            top += height
        return lines

    def _column(self, index: int) -> QRectF:
        px, count = self.look.px, len(self.matrix.columns) if self.matrix is not None else 1
        left = px(_NAME)
        width = (self.width() - left - px(8)) / max(count, 1)
        return QRectF(left + index * width, 0, width, self.height())

    def cell_box(self, name: str, state: str) -> QRectF | None:
        """Return where a cell is."""
        if self.matrix is None:
            return None
        states = [column.state for column in self.matrix.columns]
        line = next((one for one in self._lines() if one.row is not None and one.row.name == name), None)
        if line is None or state not in states:
            return None
        column = self._column(states.index(state))
        return QRectF(column.left(), line.top, column.width(), line.height)

    def named_boxes(self) -> list[NamedBox]:
        if self.matrix is None:
            return []
        at, cells = self._cursor_box(), []
        for row in self.matrix.rows:
            for column in self.matrix.columns:
                box = self.cell_box(row.name, column.state)
                if box is not None:
                    cells.append(NamedBox(f"{row.name} in {column.state}", box, box == at))
        return cells

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        if self.matrix is None:
            draw_rich_text(painter, QRectF(px(16), px(8), self.width(), px(20)), "Working out the matrix …", look)
            painter.end()
            return
        draw_rich_text(painter, QRectF(px(16), px(12), px(_NAME), px(20)), "Shutdown matrix", look, dim=theme.ink)
        lines = self._lines()
        for index, column in enumerate(self.matrix.columns):
            self._paint_head(painter, self._column(index), column)
        for line in lines:
            if line.row is None:
                words = QRectF(px(16), line.top, px(_NAME) - px(16), line.height)
                width = draw_rich_text(painter, words, _PLURAL[line.group], look, size="small")
                painter.setPen(theme.grid)
                y = line.top + line.height / 2
                painter.drawLine(QPointF(words.left() + width + px(8), y), QPointF(self.width() - px(8), y))
            else:
                self._paint_row(painter, line, line.row)
        if not lines:
            missing = "No parts are known yet: enter one below, or paste a table of a data sheet."
            draw_rich_text(painter, QRectF(px(16), px(_HEAD + 96), self.width() - px(24), px(20)), missing, look)
        self._paint_broken(painter)
        bottom = lines[-1].top + lines[-1].height if lines else px(_HEAD)
        self._paint_sums(painter, bottom + px(6))
        self._paint_cursor(painter)
        painter.end()

    def _paint_head(self, painter: QPainter, box: QRectF, column: StateColumn) -> None:
        look, px = self.look, self.look.px
        strip = QRectF(box.left() + 1, 0, box.width() - 2, px(5))
        painter.fillRect(strip, look.theme.ramp.color(column.measured.value))
        letters = [letter for letter, change in self.changes if any(_is_of(e, column.state) for e in change.effects)]
        for number, letter in enumerate(letters[:3]):
            draw_chip(painter, QRectF(box.left() + px(3) + number * px(16), px(17), px(14), px(14)), letter, look)
        taken = min(len(letters), 3) * px(16)
        words = column.state.split(" ")
        room = box.width() - px(8) - taken
        fits = look.width(column.state, "small") <= room or len(words) == 1
        half = (len(words) + 1) // 2
        lines = [column.state] if fits else [" ".join(words[:half]), " ".join(words[half:])]
        top = px(10) if len(lines) == 2 else px(17)
        for number, text in enumerate(lines):
            line = QRectF(box.left() + px(4) + taken, top + number * px(14), room, px(14))
            draw_rich_text(painter, line, text, look, size="small", dim=look.theme.ink, align=_CENTRE)

    def _paint_row(self, painter: QPainter, line: _Line, row: MatrixRow) -> None:
        look, px = self.look, self.look.px
        name = QRectF(px(24), line.top, px(_NAME) - px(32), line.height)
        draw_rich_text(painter, name, row.name, look, size="small", dim=look.theme.ink)
        for index, cell in enumerate(row.cells):
            box = self._column(index)
            state = self.matrix.columns[index].state if self.matrix is not None else ""
            inner = QRectF(box.left() + 1, line.top + 1, box.width() - 2, line.height - 2)
            self._paint_cell(painter, inner, cell)
            planned = self._planned.get((row.name, state))
            if planned is not None:
                draw_chip(painter, QRectF(inner.left() + px(2), inner.top() + px(2), px(14), px(14)), planned[0], look)

    def _paint_cell(self, painter: QPainter, box: QRectF, cell: MatrixCell) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        text = QRectF(box.left() + px(4), box.top(), box.width() - px(10), box.height())
        if not cell.mode:
            draw_rich_text(painter, text, "–", look, size="small", dim=theme.faint, align=_RIGHT)
            return
        has_current = bool(cell.current_a)
        color = theme.ramp.color(cell.current_a) if has_current else theme.rule
        ink, dim, on = theme.ink, theme.dim, None
        if cell.power is Power.ON:
            painter.fillRect(box, color)
            ink = dim = ink_on(color)
        elif cell.power is Power.GATED:
            painter.fillRect(box, theme.sunken)
            painter.fillRect(box, texture_brush(FINE, color))
            on = theme.sunken
        elif cell.power is Power.RETAINED:
            painter.fillRect(box, theme.sunken)
            painter.setPen(QPen(color, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(1, 1, -1, -1))
        else:
            painter.fillRect(box, theme.sunken)
            dim = theme.faint
        words = cell.mode
        if cell.power is Power.OFF and not has_current and cell.mode not in ("not armed", "lost", "stopped"):
            words = "off"
        elif has_current:
            words = quantity_text(cell.current_a, "A").rich
        draw_rich_text(painter, text, words, look, size="small", ink=ink, dim=dim, align=_RIGHT, on=on)

    def _paint_broken(self, painter: QPainter) -> None:
        """Join the cells of a rule that does not hold."""
        if self.matrix is None:
            return
        pen = QPen(self.look.theme.warning, 2)
        for broken in self.matrix.broken:
            boxes = [box for name in broken.rows if (box := self.cell_box(name, broken.state)) is not None]
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            for box in boxes:
                painter.drawRect(box.adjusted(1, 1, -1, -1))
            if len(boxes) > 1:
                x = boxes[0].left() - self.look.px(5)
                middles = [box.center().y() for box in boxes]
                painter.drawLine(QPointF(x, min(middles)), QPointF(x, max(middles)))
                for box, y in zip(boxes, middles, strict=True):
                    painter.drawLine(QPointF(x, y), QPointF(box.left() + 1, y))

    def _paint_sums(self, painter: QPainter, top: float) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(8), top))
        for number, words in enumerate(("sum of the column", "measured", "unexplained")):
            line = QRectF(px(16), top + px(4) + number * px(_ROW), px(_NAME), px(_ROW))
            draw_rich_text(painter, line, words, look, size="small", dim=theme.ink if number == 2 else theme.dim)
        for index, column in enumerate(self.matrix.columns if self.matrix is not None else ()):
            box = self._column(index)
            rows = [QRectF(box.left() + 1, top + px(4) + n * px(_ROW), box.width() - 2, px(_ROW)) for n in range(3)]
            for line, figure in zip(rows, (Figure(column.sum_a), column.measured), strict=False):
                words = rich_figure(figure, "A") if figure.value is not None else "–"
                draw_rich_text(painter, line.adjusted(0, 0, -px(6), 0), words, look, size="small", align=_RIGHT)
            self._paint_unexplained(painter, rows[2], column)

    def _paint_unexplained(self, painter: QPainter, box: QRectF, column: StateColumn) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        left_a = column.unexplained_a
        if left_a is None:
            draw_rich_text(painter, box.adjusted(0, 0, -px(6), 0), "–", look, size="small", align=_RIGHT)
            return
        ink, dim = theme.ink, theme.dim
        if column.is_open and left_a > 0:
            color = theme.ramp.color(left_a)
            box = box.adjusted(-2, 0, 2, 0)
            painter.fillRect(QRectF(box.left(), box.top(), box.width(), px(_ROW + 15)), color)
            ink = dim = ink_on(color)
        share = abs(left_a) / column.measured.value if column.measured.value else None
        lines = (quantity_text(left_a, "A").rich, str(percent_text(share)) if share is not None else "")
        for number, words in enumerate(lines):
            height = px(18) if number else px(_ROW)
            line = QRectF(box.left(), box.top() + number * px(15), box.width() - px(6), height)
            draw_rich_text(painter, line, words, look, size="small", ink=ink, dim=dim, align=_RIGHT)

    def _paint_cursor(self, painter: QPainter) -> None:
        box = self._cursor_box()
        if box is not None and self.hasFocus():
            painter.setPen(QPen(self.look.theme.mark, 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(box.adjusted(0, 0, -1, -1))

    def _cursor_box(self) -> QRectF | None:
        if self.matrix is None or not self.matrix.rows or not self.matrix.columns:
            return None
        row, column = self.cursor_at
        return self.cell_box(self.matrix.rows[row].name, self.matrix.columns[column].state)

    def _at(self, position: QPointF) -> tuple[int, int] | None:
        """Return row and column under a point."""
        if self.matrix is None:
            return None
        rows = [line for line in self._lines() if line.row is not None]
        row = next((n for n, line in enumerate(rows) if line.top <= position.y() < line.top + line.height), None)
        columns = range(len(self.matrix.columns))
        column = next((n for n in columns if self._column(n).contains(position)), None)
        return None if row is None or column is None else (row, column)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self._at(event.position())
        if found is not None:
            self.cursor_at = found
            self.update()
            self.open_menu()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0), Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1)}
        step = steps.get(Qt.Key(event.key()))
        if step is not None and self.matrix is not None:
            rows, columns = len(self.matrix.rows), len(self.matrix.columns)
            row, column = self.cursor_at[0] + step[0], self.cursor_at[1] + step[1]
            self.cursor_at = (min(max(row, 0), rows - 1), min(max(column, 0), columns - 1))
            self.update()
            self.tell_named(self.cursor_at[0] * columns + self.cursor_at[1])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.open_menu()
        else:
            super().keyPressEvent(event)

    def open_menu(self) -> None:
        """Open what can be done with the cell under the cursor."""
        menu = self.cell_menu()
        box = self._cursor_box()
        if menu is not None and box is not None:
            menu.popup(self.mapToGlobal(QPoint(int(box.left()), int(box.bottom()))))

    def cell_menu(self) -> QMenu | None:
        """Return the menu of the cell under the cursor; None where nothing can be done."""
        if self.matrix is None or not self.matrix.rows or not self.matrix.columns:
            return None
        row, state = self.matrix.rows[self.cursor_at[0]], self.matrix.columns[self.cursor_at[1]].state
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        cell = row.cells[self.cursor_at[1]]
        if row.group == WAKES:
            menu.addAction(f"Show the way of {row.name}", lambda: self.source_asked.emit(row.name))
            return menu
        part = self._parts.get(row.name)
        if part is None:
            for word in ("on", "off"):
                action = menu.addAction(f"{row.name} is {word} in {state}")
                action.setCheckable(True)
                action.setChecked(cell.mode == word)
                on = word == "on"
                action.triggered.connect(lambda _c=False, on=on: self.power_said.emit(row.name, state, on))
            return menu
        planned = self._planned.get((row.name, state))
        for title, chosen, signal in (
            (f"Plan for {state}", planned[1] if planned is not None else cell.mode, self.mode_planned),
            (f"As it is in {state}", cell.mode, self.mode_said),
        ):
            menu.addSection(title)
            for mode in part.modes:
                action = menu.addAction(f"{title.split(' ')[0]}: {mode.name}, {quantity_text(mode.current_a, 'A')}")
                action.setCheckable(True)
                action.setChecked(mode.name == chosen)
                name = mode.name
                action.triggered.connect(lambda _c=False, s=signal, name=name: s.emit(row.name, name, state))
        return menu

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent) and self.matrix is not None:
            found = self._at(QPointF(event.pos()))
            if found is not None:
                row, column = self.matrix.rows[found[0]], self.matrix.columns[found[1]]
                cell = row.cells[found[1]]
                current = f", {quantity_text(cell.current_a, 'A')}" if cell.current_a is not None else ""
                broken = [b.words for b in self.matrix.broken if b.state == column.state and row.name in b.rows]
                said = f"{row.name} in {column.state}: {cell.mode or 'nothing is said of it'}{current}"
                QToolTip.showText(event.globalPos(), tip("\n".join((said, *broken))), self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)


def _is_of(effect: object, state: str) -> bool:
    return isinstance(effect, CurrentBy | CurrentTo | LengthTo | ScaleRate) and effect.state == state
