"""The wakes by source: what each takes, and the time between its wakes with the timers in it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QLineEdit

from warm_ember.model.arrays import Floats
from warm_ember.model.figure import Bound, signed
from warm_ember.session.wake_results import WakesShown
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import column_writer, duration_text, format_trimmed, percent_text

if TYPE_CHECKING:
    from warm_ember.session.records import SourceRow, WakeLedger


_HEAD, _ROW, _MOST_ROW, _FOOT = 52, 34, 64, 22
_NAME, _PER_HOUR, _AWAKE, _EACH, _BAR, _BAR_END, _HIST = 120, 184, 256, 346, 358, 504, 526
_WORDS, _ROOMY, _LEAST_HIST = 118, 760, 90
_FIGURE_END = 426
"""Where there is no room for bars, the figure alone ends here."""
_RIGHT = Qt.AlignmentFlag.AlignRight
COLUMNS = ("source", "per hour", "awake", "charge each", "adds to average")
_KEYS = ("source", "rate_per_h", "awake_s_mean", "charge_c_mean", "added_a")


class SourceTable(PaintedView):
    """A row for each source, sorted by a click on a head; the arrow keys choose one, Enter renames it.

    Signals
    -------
    source_chosen
        The name of a source.
    renamed
        ``(old, new)``: a source was given another name; that of another joins the two.
    gap_asked
        ``(source, shortest_s, longest_s)``: a bar of the histogram was clicked.
    """

    paints_focus = True
    source_chosen = Signal(str)
    renamed = Signal(str, str)
    gap_asked = Signal(str, float, float)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.ledger: WakeLedger | None = None
        self.chosen = ""
        self.sorted_by, self.largest_first = 4, True
        self._gaps: dict[str, Floats] = {}
        self._gap_edges: Floats = np.zeros(2)
        self.edit = QLineEdit(self)
        self.edit.hide()
        self.edit.setAccessibleName("Name of the source")
        self.edit.editingFinished.connect(self._on_named)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Wakes by source")
        look.changed.connect(self._arrange)

    def show_wakes(self, found: WakesShown | None) -> None:
        """Show another run."""
        self.ledger = found.ledger if found is not None else None
        self._gaps = found.profile.gaps if found is not None else {}
        self._gap_edges = found.profile.gap_edges if found is not None else np.zeros(2)
        self.edit.hide()
        self._arrange()

    def choose(self, source: str) -> None:
        """Mark a row; an empty name marks none."""
        self.chosen = source
        self.update()
        names = [row.source for row in self.rows]
        if source in names:
            self.tell_named(names.index(source))

    @property
    def rows(self) -> list[SourceRow]:
        """The sources in the order shown."""
        if self.ledger is None:
            return []
        key = _KEYS[self.sorted_by]
        return sorted(self.ledger.sources, key=lambda row: getattr(row, key), reverse=self.largest_first)

    def _arrange(self) -> None:
        px = self._look.px
        rows = len(self.ledger.sources) if self.ledger is not None else 0
        self.setMinimumHeight(px(_HEAD) + rows * px(_ROW) + 2 * px(_FOOT) + px(4))
        self.update()

    def sort_by(self, column: int) -> None:
        """Sort by a column; again turns the order."""
        self.largest_first = not self.largest_first if column == self.sorted_by else column != 0
        self.sorted_by = column
        self.update()

    @property
    def _row_height(self) -> int:
        """Height of a row: few rows share what room there is."""
        px, rows = self._look.px, max(len(self.rows), 1)
        room = self.height() - px(_HEAD) - 2 * px(_FOOT) - px(8)
        return min(max(room // rows, px(_ROW)), px(_MOST_ROW))

    def row_box(self, index: int) -> QRectF:
        """Return where a row is."""
        height = self._row_height
        return QRectF(0, self._look.px(_HEAD) + index * height, self.width(), height)

    def named_boxes(self) -> list[NamedBox]:
        return [
            NamedBox(row.source, self.row_box(index), row.source == self.chosen) for index, row in enumerate(self.rows)
        ]

    def histogram_box(self, index: int) -> QRectF:
        """Return where the times between a row's wakes are drawn."""
        px, row = self._look.px, self.row_box(index)
        left, right = (_HIST, _WORDS + 12) if self._is_roomy else (_FIGURE_END + 14, 10)
        return QRectF(px(left), row.top() + px(4), max(self.width() - px(left + right), 40), row.height() - px(8))

    @property
    def _is_roomy(self) -> bool:
        return self.width() >= self._look.px(_ROOMY)

    def _reach(self) -> tuple[float, float]:
        """Return the decades of the axis of time between wakes."""
        edges = self._gap_edges
        all_gaps = sum(self._gaps.values(), np.zeros(len(edges) - 1))
        there = np.flatnonzero(all_gaps)
        if not len(there):
            return -2.0, 2.0
        low, high = np.floor(edges[there[0]] - 0.2), np.ceil(edges[there[-1] + 1] + 0.2)
        return float(low), float(max(high, low + 2))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        ledger = self.ledger
        if ledger is None:
            painter.end()
            return
        self._paint_head(painter)
        rows = self.rows
        most_a = max((row.added_a for row in rows), default=0.0)
        for index, row in enumerate(rows):
            box = self.row_box(index)
            if row.source == self.chosen:
                painter.fillRect(box, theme.mark_ground)
                painter.fillRect(QRectF(0, box.top(), px(3), box.height()), theme.mark)
            self._paint_row(painter, box, row, most_a, ledger)
            self._paint_gaps(painter, index, row)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(px(16), box.bottom()), QPointF(self.width() - px(8), box.bottom()))
        top = px(_HEAD) + len(rows) * self._row_height
        self._paint_foot(painter, QRectF(0, top, self.width(), px(_FOOT)), ledger)
        if not rows:
            words = "No wakes: the log has none, and the current never falls to a sleep and rises again."
            draw_rich_text(painter, QRectF(px(24), px(_HEAD), self.width() - px(32), px(20)), words, look)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    def _head_boxes(self) -> list[QRectF]:
        px = self._look.px
        last = (_BAR, _BAR_END) if self._is_roomy else (_EACH + 4, _FIGURE_END)
        ends = ((16, _NAME), (_NAME, _PER_HOUR), (_PER_HOUR, _AWAKE), (_AWAKE, _EACH), last)
        return [QRectF(px(left), px(28), px(right - left), px(18)) for left, right in ends]

    def _paint_head(self, painter: QPainter) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        draw_rich_text(
            painter, QRectF(px(16), px(6), px(300), px(18)), "Wakes of this capture, by source", look, dim=theme.ink
        )
        for column, (words, box) in enumerate(zip(COLUMNS, self._head_boxes(), strict=True)):
            arrow = (" ▾" if self.largest_first else " ▴") if column == self.sorted_by else ""
            align = Qt.AlignmentFlag.AlignLeft if column == 0 or (column == 4 and self._is_roomy) else _RIGHT
            words = "adds" if column == 4 and not self._is_roomy else words
            dim = theme.ink if arrow else None
            draw_rich_text(painter, box, f"{words}{arrow}", look, size="small", align=align, dim=dim)
        hist = self.histogram_box(0)
        if hist.width() < px(_LEAST_HIST):
            return
        title = QRectF(hist.left(), px(6), self.width() - hist.left(), px(18))
        words = "Time between wakes of a source" if self._is_roomy else "Apart"
        draw_rich_text(painter, title, words, look, dim=theme.ink)
        low, high = self._reach()
        step = max(1, int(np.ceil((high - low) * px(52) / hist.width())))
        for at in range(int(low), int(high) + 1, step):
            x = hist.left() + (at - low) / (high - low) * hist.width()
            box = QRectF(x - px(40), px(28), px(80), px(18))
            if x < hist.left() + px(20) and not self._is_roomy:
                continue  # the head of the column before stands there
            if x + px(24) < hist.right() + px(20):
                words = str(duration_text(10.0**at, 1))
                draw_rich_text(painter, box, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(px(16), px(_HEAD) - 0.5), QPointF(self.width() - px(8), px(_HEAD) - 0.5))

    def _paint_row(self, painter: QPainter, box: QRectF, row: SourceRow, most_a: float, ledger: WakeLedger) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        own_a = row.charge_c_mean / row.awake_s_mean if row.awake_s_mean > 0 else 0.0
        color = theme.ramp.color(own_a)
        painter.fillRect(QRectF(px(12), box.top() + px(9), px(4), box.height() - px(18)), color)
        draw_rich_text(
            painter, QRectF(px(24), box.top(), px(_NAME - 28), box.height()), row.source, look, dim=theme.ink
        )
        for left, right, words in (
            (_NAME, _PER_HOUR, f"**{format_trimmed(row.rate_per_h)}**"),
            (_PER_HOUR, _AWAKE, duration_text(row.awake_s_mean).rich),
            (_AWAKE, _EACH, self._charge(row.charge_c_mean, "C", row.bound)),
        ):
            cell = QRectF(px(left), box.top(), px(right - left), box.height())
            draw_rich_text(painter, cell, words, look, align=_RIGHT)
        share = max(row.added_a, 0.0) / most_a if most_a > 0 else 0.0
        tall = px(_ROW - 16)
        bar = QRectF(px(_BAR), box.center().y() - tall / 2, share * px(_BAR_END - _BAR - 62), tall)
        words = self._charge(row.added_a, "A", row.bound)
        if not self._is_roomy:
            cell = QRectF(px(_EACH), box.top(), px(_FIGURE_END - _EACH), box.height())
            draw_rich_text(painter, cell, words, look, align=_RIGHT)
            return
        painter.fillRect(bar, color)
        label = QRectF(bar.right() + px(6), box.top(), px(70), box.height())
        draw_rich_text(painter, label, words, look)

    def _charge(self, value: float, unit: str, bound: Bound | None = None) -> str:
        """Return a charge or current in words, all of a column in one unit; a dash where none was measured."""
        if self.ledger is None or not self.ledger.is_measured:
            return "–"
        rows = self.ledger.sources
        write = column_writer([row.charge_c_mean if unit == "C" else row.added_a for row in rows], unit)
        return signed(bound, write(value).rich)

    def _paint_gaps(self, painter: QPainter, index: int, row: SourceRow) -> None:
        if self.histogram_box(index).width() < self._look.px(_LEAST_HIST):
            return
        look, theme, px = self._look, self._look.theme, self._look.px
        hist, (low, high) = self.histogram_box(index), self._reach()
        painter.fillRect(hist, theme.sunken)
        words = self._words(row)
        label = QRectF(hist.right() + px(10), hist.top() - px(3), px(_WORDS), hist.height() + px(6))
        if not self._is_roomy:
            pass  # the marks above the bars have to do
        elif len(words) > 1:
            upper = QRectF(label.left(), label.center().y() - px(15), label.width(), px(15))
            lower = QRectF(label.left(), label.center().y(), label.width(), px(15))
            draw_rich_text(painter, upper, words[0], look, size="small")
            draw_rich_text(painter, lower, words[1], look, size="small")
        else:
            draw_rich_text(painter, label, words[0], look, size="small")
        counts = self._gaps.get(row.source, np.zeros(0))
        if not counts.any():
            return
        heights = np.log1p(counts) / np.log1p(counts.max())
        color = theme.ramp.color(row.charge_c_mean / row.awake_s_mean if row.awake_s_mean > 0 else 0.0)
        for at in np.flatnonzero(counts).tolist():
            ends = ((float(edge) - low) / (high - low) * hist.width() for edge in self._gap_edges[at : at + 2])
            x, end = (hist.left() + place for place in ends)
            tall = max(float(heights[at]) * hist.height(), 2.0)
            painter.fillRect(QRectF(x, hist.bottom() - tall, max(end - x - 1, 1), tall), color)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for period in row.periods:
            x = hist.left() + (np.log10(period.period_s) - low) / (high - low) * hist.width()
            half, tip = px(4), hist.top() + px(6)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.ink)
            painter.drawPolygon(
                QPolygonF([QPointF(x - half, hist.top()), QPointF(x + half, hist.top()), QPointF(x, tip)])
            )
            painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _words(self, row: SourceRow) -> list[str]:
        """Return which timers a source's wakes come from, and what the log does not say."""
        if row.count < 2:
            first = "once"
        elif row.periods:
            first = "every " + ", ".join(duration_text(period.period_s).rich for period in row.periods[:2])
        else:
            first = "no period"
        words = [first]
        # Less than a sample is not seen.
        least_s = 0.1 * self.ledger.interval_s if self.ledger is not None else 0.0
        if len(row.periods) == 1 and row.periods[0].jitter_s > least_s:
            words.append(f"± {duration_text(row.periods[0].jitter_s, 2).rich}")
        if row.by_line or row.by_period:
            found = [f"{row.by_line} by the line"] * bool(row.by_line) + [f"{row.by_period} by it"] * bool(
                row.by_period
            )
            words = [words[0], ", ".join(found)]
        return words

    def _paint_foot(self, painter: QPainter, box: QRectF, ledger: WakeLedger) -> None:
        look, px = self._look, self._look.px
        awake_s = float(ledger.awake_s.sum())
        for offset, name, per_h, awake, added in (
            (0, "Sleep, and the ends", "", "", ledger.rest_a),
            (
                1,
                "sum",
                f"**{format_trimmed(ledger.rate_per_h)}**",
                percent_text(awake_s / ledger.duration_s / max(len(ledger.wakes.cpus), 1)).rich,
                ledger.mean_a,
            ),
        ):
            top = box.top() + px(2) + offset * px(_FOOT)
            draw_rich_text(painter, QRectF(px(24), top, px(140), px(_FOOT)), name, look)
            for left, right, words in ((_NAME, _PER_HOUR, per_h), (_PER_HOUR, _AWAKE, awake)):
                cell = QRectF(px(left), top, px(right - left), px(_FOOT))
                draw_rich_text(painter, cell, words, look, align=_RIGHT)
            words = self._charge(added, "A", ledger.bound if offset else ledger.floor.bound)
            if self._is_roomy:
                draw_rich_text(painter, QRectF(px(_BAR), top, px(120), px(_FOOT)), words, look)
            else:
                cell = QRectF(px(_EACH), top, px(_FIGURE_END - _EACH), px(_FOOT))
                draw_rich_text(painter, cell, words, look, align=_RIGHT)

    def text(self) -> str:
        """Return the table as tab-separated text."""
        lines = ["source\twakes\tper hour\tawake (s)\tcharge each (C)\tadds (A)\tperiods (s)\tresuming (C)"]
        for row in self.rows:
            periods = ", ".join(f"{period.period_s:.6g}" for period in row.periods)
            resume = f"{row.resume_c:.6g}" if row.resume_c is not None else ""
            lines.append(
                f"{row.source}\t{row.count}\t{row.rate_per_h:.6g}\t{row.awake_s_mean:.6g}\t{row.charge_c_mean:.6g}"
                f"\t{row.added_a:.6g}\t{periods}\t{resume}"
            )
        return "\n".join(lines)

    def rename(self) -> None:
        """Type another name over the chosen source's."""
        names = [row.source for row in self.rows]
        if self.chosen not in names:
            return
        px, box = self._look.px, self.row_box(names.index(self.chosen))
        self.edit.setGeometry(px(20), int(box.center().y()) - px(13), px(_NAME - 12), px(26))
        self.edit.setText(self.chosen)
        self.edit.show()
        self.edit.setFocus()
        self.edit.selectAll()

    def _on_named(self) -> None:
        if self.edit.isHidden():
            return
        self.edit.hide()
        self.setFocus()
        name = self.edit.text().strip()
        if name and name != self.chosen:
            self.renamed.emit(self.chosen, name)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        for column, box in enumerate(self._head_boxes()):
            if box.contains(event.position()):
                self.sort_by(column)
                return
        for index, row in enumerate(self.rows):
            if not self.row_box(index).contains(event.position()):
                continue
            self.source_chosen.emit(row.source)
            hist = self.histogram_box(index)
            if hist.contains(event.position()):
                low, high = self._reach()
                clicked = low + (high - low) * (event.position().x() - hist.left()) / hist.width()
                edges = self._gap_edges
                at = min(max(int(np.searchsorted(edges, clicked, side="right")) - 1, 0), len(edges) - 2)
                self.gap_asked.emit(row.source, *(10.0 ** edges[at : at + 2]).tolist())

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if event.position().x() < self._look.px(_NAME):
            self.rename()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names = [row.source for row in self.rows]
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if event.key() == Qt.Key.Key_Escape and not self.edit.isHidden():
            self.edit.hide()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2):
            self.rename()
        elif step is not None and names:
            at = names.index(self.chosen) + step if self.chosen in names else 0
            self.source_chosen.emit(names[min(max(at, 0), len(names) - 1)])
        else:
            super().keyPressEvent(event)
