"""The activity model as a day: what wakes how often, at which hours, and what it adds to the average."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QLineEdit

from warm_ember.model.figure import Bound, signed
from warm_ember.session.battery_results import hourly
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.metrics import HEAD
from warm_ember.units import QuantityText, column_writer, parse_rate, percent_text, quantity_text, rate_text

SIDE = 344
_TOP = 26
_ROW = 23
_HOURS_HEIGHT = 62
_RIGHT = Qt.AlignmentFlag.AlignRight


class RateEdit(QLineEdit):
    """How often an activity comes, typed where it is shown.

    Signals
    -------
    rate_entered
        A `warm_ember.units.Rate`.
    """

    rate_entered = Signal(object)

    def __init__(self, name: str) -> None:
        super().__init__()
        self.activity = name
        self.setAlignment(_RIGHT)
        self.setAccessibleName(f"How often: {name}")
        self.setToolTip("How often; for instance every 6 h, 15 min, or 412 a day")
        self._shown = ""
        self.textEdited.connect(lambda _text: self._mark())
        self.editingFinished.connect(self._on_finished)

    def show_rate(self, text: str) -> None:
        """Show a rate, unless the user is typing."""
        self._shown = text
        if not (self.hasFocus() and self.isModified()):
            self.setText(text)

    def _mark(self) -> None:
        try:
            parse_rate(self.text())
            wrong = False
        except ValueError:
            wrong = True
        self.setProperty("wrong", "true" if wrong else "false")
        self.style().unpolish(self)
        self.style().polish(self)

    def _on_finished(self) -> None:
        if not self.isModified():
            return
        self.setModified(False)
        try:
            rate = parse_rate(self.text())
        except ValueError:
            self.setText(self._shown)
            self._mark()
            return
        if self.text() != self._shown:
            self.rate_entered.emit(rate)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setModified(False)
            self.setText(self._shown)
            self.clearFocus()
        else:
            super().keyPressEvent(event)


class DayView(PaintedView):
    """A day of the current run.

    Signals
    -------
    rate_entered
        ``(activity, Rate)``.
    activity_chosen
        The name of an activity whose row was clicked, or reached by the arrow keys.
    """

    rate_entered = Signal(str, object)
    activity_chosen = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.results: RunResults | None = None
        self.edits: dict[str, RateEdit] = {}
        self.chosen = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Activities over a day")
        look.changed.connect(self._arrange)

    def set_results(self, results: RunResults | None) -> None:
        """Show another run."""
        before, self.results = self.results, results
        if before is not None and results is not None and before.load == results.load:
            self.update(self.hours_box.toRect())  # the same day against another target
            return
        names = [cost.name for cost in results.load.costs] if results is not None else []
        for gone in set(self.edits) - set(names):
            edit = self.edits.pop(gone)
            edit.hide()  # it goes only when the event loop comes round again
            edit.deleteLater()
        for name in names:
            if name not in self.edits:
                edit = RateEdit(name)
                edit.setParent(self)
                edit.rate_entered.connect(lambda rate, name=name: self.rate_entered.emit(name, rate))
                edit.show()
                self.edits[name] = edit
        if results is not None:
            for cost in results.load.costs:
                self.edits[cost.name].show_rate(rate_text(cost.rate_hz))
        self._arrange()

    def _ordered(self) -> list[str]:
        """Return the activities' names, those that add most first."""
        if self.results is None:
            return []
        base_a = self.results.load.base_a
        return [c.name for c in sorted(self.results.load.costs, key=lambda c: -c.added_a(base_a))]

    def _arrange(self) -> None:
        px = self._look.px
        rows = len(self._ordered()) + 1
        self.setFixedHeight(px(_TOP + _ROW * max(rows, 3) + _HOURS_HEIGHT + 12))
        left = self.width() - px(SIDE) + px(12)
        for index, name in enumerate(self._ordered()):
            edit = self.edits[name]
            edit.setFont(self._look.font("small"))
            edit.setGeometry(left, px(_TOP + _ROW * index) + 1, px(108), px(_ROW) - 3)
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._arrange()

    @property
    def strip(self) -> QRectF:
        """Where the hours are."""
        px = self._look.px
        return QRectF(px(HEAD), px(_TOP), self.width() - px(HEAD + SIDE) - px(8), px(_ROW) * (len(self._ordered()) + 1))

    @property
    def hours_box(self) -> QRectF:
        """Where the sum of each hour is, at the foot."""
        top = self.strip.bottom()
        return QRectF(0, top, self.width(), self.height() - top)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        if self.results is None:
            painter.end()
            return
        title = f"A day of {self.results.run.name}"
        draw_rich_text(painter, QRectF(px(16), px(4), px(140), px(18)), title, look, dim=theme.ink)
        self._paint_clock(painter)
        costs = {cost.name: cost for cost in self.results.load.costs}
        base_a = self.results.load.base_a
        each_text = column_writer([cost.charge_c for cost in costs.values()], "C")
        hours = {name: hourly(costs[name], base_a) for name in self._ordered()}
        if event.rect().top() < self.hours_box.top():
            self._paint_table_head(painter)
            for index, name in enumerate(hours):
                cost = costs[name]
                self._paint_row(painter, index, name, hours[name], cost.mean_a or cost.peak_a)
                each = signed(cost.bound, each_text(cost.charge_c).rich)
                self._paint_cells(painter, index, each, cost.added_a(base_a), cost.bound)
            last = len(costs)
            self._paint_row(painter, last, self.results.load.base_name, np.full(24, base_a), base_a)
            self._paint_cells(painter, last, "", base_a, self.results.load.base_bound)
            box = QRectF(self.width() - px(SIDE) + px(12), px(_TOP + _ROW * last), px(108), px(_ROW))
            draw_rich_text(painter, box, "between" if costs else "all the time", look, size="small", align=_RIGHT)
        self._paint_hours(painter, base_a + sum(hours.values(), np.zeros(24)))
        painter.end()

    def _paint_table_head(self, painter: QPainter) -> None:
        px, look = self._look.px, self._look
        left = self.width() - px(SIDE)
        for right, words in ((120, "how often"), (230, "charge each"), (332, "adds ▾")):
            box = QRectF(left + px(right - 110), px(5), px(110), px(16))
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)

    def _paint_row(self, painter: QPainter, index: int, name: str, hours: np.ndarray, own_a: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        strip = self.strip
        top = px(_TOP + _ROW * index)
        if name == self.chosen:
            painter.fillRect(self.row_box(index), theme.mark_ground)
            painter.fillRect(QRectF(0, top, px(3), px(_ROW)), theme.mark)
        painter.fillRect(QRectF(px(12), top + px(5), px(4), px(_ROW - 10)), theme.ramp.color(own_a))
        draw_rich_text(painter, QRectF(px(22), top, px(HEAD - 28), px(_ROW)), name, look, dim=theme.ink)
        width = strip.width() / 24
        for hour in range(24):
            cell = QRectF(strip.left() + hour * width, top + 1, width - 1, px(_ROW) - 2)
            painter.fillRect(cell, theme.ramp.color(float(hours[hour])) if hours[hour] > 0 else theme.sunken)

    def _added_text(self, added_a: float) -> QuantityText:
        """Write what something adds to the average, all in one unit."""
        load = self.results.load if self.results is not None else None
        values = [cost.added_a(load.base_a) for cost in load.costs] + [load.base_a] if load is not None else []
        return column_writer(values, "A")(added_a)

    def _paint_cells(self, painter: QPainter, index: int, charge: str, added_a: float, bound: Bound | None) -> None:
        px, look = self._look.px, self._look
        left, top = self.width() - px(SIDE), px(_TOP + _ROW * index)
        draw_rich_text(painter, QRectF(left + px(124), top, px(106), px(_ROW)), charge, look, align=_RIGHT)
        draw_rich_text(
            painter,
            QRectF(left + px(232), top, px(100), px(_ROW)),
            signed(bound, self._added_text(added_a).rich),
            look,
            align=_RIGHT,
        )
        painter.setPen(look.theme.rule)
        painter.drawLine(
            QPointF(left + px(8), top + px(_ROW) - 0.5), QPointF(self.width() - px(8), top + px(_ROW) - 0.5)
        )

    def _paint_clock(self, painter: QPainter) -> None:
        px, strip = self._look.px, self.strip
        for hour in range(0, 25, 3 if strip.width() > px(480) else 6):
            x = strip.left() + hour / 24 * strip.width()
            align = Qt.AlignmentFlag.AlignLeft if hour == 0 else _RIGHT if hour == 24 else Qt.AlignmentFlag.AlignHCenter
            left = x - (0 if hour == 0 else px(48) if hour == 24 else px(24))
            box = QRectF(left, px(6), px(48), px(16))
            draw_rich_text(painter, box, f"{hour:02d}:00", self._look, size="small", align=align)

    def _paint_hours(self, painter: QPainter, total: np.ndarray) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        if self.results is None:
            return
        strip = self.strip
        box = QRectF(strip.left(), strip.bottom() + px(6), strip.width(), px(_HOURS_HEIGHT))
        painter.fillRect(box, theme.sunken)
        budget_a = self.results.life.budget_a
        positive = total[total > 0]
        shown = np.append(positive, budget_a) if budget_a else positive
        if not len(shown):
            return
        low, high = np.floor(np.log10(shown.min()) - 0.05), np.ceil(np.log10(shown.max()) + 0.02)
        low = min(low, high - 1)

        def y_of(current_a: float) -> float:
            return float(box.bottom() - (np.log10(max(current_a, 1e-12)) - low) / (high - low) * box.height())

        draw_rich_text(painter, QRectF(px(22), box.top(), px(70), px(18)), "Each hour", look, dim=theme.ink)
        axis = QRectF(px(22), box.top() + px(17), px(70), px(16))
        draw_rich_text(painter, axis, "log axis", look, size="small", dim=theme.faint)
        for decade in np.arange(low, high + 1):
            y = y_of(10.0**decade)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            label = QRectF(px(88), min(max(y - px(8), box.top() - px(3)), box.bottom() - px(14)), px(HEAD - 96), px(16))
            draw_rich_text(painter, label, str(quantity_text(10.0**decade, "A", 1)), look, size="small", align=_RIGHT)
        width = strip.width() / 24
        for hour in range(24):
            y = y_of(float(total[hour]))
            painter.fillRect(
                QRectF(box.left() + hour * width, y, width - 1, box.bottom() - y),
                theme.ramp.color(float(total[hour])),
            )
        self._paint_beside_hours(painter, box)
        if budget_a:
            self._paint_allowed(painter, box, y_of(budget_a), budget_a)

    def _paint_beside_hours(self, painter: QPainter, box: QRectF) -> None:
        """Paint the day's mean beside its hours, and how well the capture is reproduced."""
        look, px = self._look, self._look.px
        if self.results is None:
            return
        left = self.width() - px(SIDE)
        mean = signed(self.results.load.bound, self._added_text(self.results.load.mean_a).rich)
        draw_rich_text(
            painter,
            QRectF(left + px(90), box.top() + px(2), px(130), px(18)),
            "mean of the day",
            look,
            size="small",
            align=_RIGHT,
        )
        draw_rich_text(painter, QRectF(left + px(222), box.top() + px(2), px(110), px(18)), mean, look, align=_RIGHT)
        self._paint_reproduced(painter, QRectF(left + px(6), box.bottom() - px(16), px(SIDE) - px(18), px(16)))

    def _paint_allowed(self, painter: QPainter, box: QRectF, y: float, budget_a: float) -> None:
        """Paint the average that the target allows."""
        look, px = self._look, self._look.px
        painter.setPen(QPen(look.theme.ink, 1.5, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right() + px(8), y))
        left = self.width() - px(SIDE)
        words = QRectF(left + px(6), min(y - px(9), box.bottom() - px(34)), px(140), px(18))
        draw_rich_text(painter, words, f"target {quantity_text(budget_a, 'A').rich}", look, size="small")

    def text(self) -> str:
        """Return the activities as tab-separated text."""
        if self.results is None:
            return ""
        load = self.results.load
        lines = ["activity\thow often\tcharge each (C)\tadds (A)"]
        costs = {cost.name: cost for cost in load.costs}
        for name in self._ordered():
            cost = costs[name]
            lines.append(f"{name}\t{rate_text(cost.rate_hz)}\t{cost.charge_c:.6g}\t{cost.added_a(load.base_a):.6g}")
        lines.append(f"{load.base_name}\tbetween\t\t{load.base_a:.6g}")
        return "\n".join(lines)

    def _paint_reproduced(self, painter: QPainter, box: QRectF) -> None:
        """Return how well the model stands for the capture that it was made of."""
        assert self.results is not None
        found = self.results.reproduced
        if found is None or not self.results.load.costs:
            return
        off = percent_text(max(abs(found.difference), 0.001)).rich
        words = f"model reproduces the capture's {quantity_text(found.measured_a, 'A').rich} within {off}"
        if found.unknown:
            words += f", less {', '.join(found.unknown)}"
        look = self._look
        draw_rich_text(painter, box, words, look, size="small", align=_RIGHT, dim=look.theme.faint)

    def choose(self, name: str) -> None:
        """Mark a row; an empty name marks none."""
        self.chosen = name
        self.update()

    def row_box(self, index: int) -> QRectF:
        """Return where a row is."""
        px = self._look.px
        return QRectF(0, px(_TOP + _ROW * index), self.width(), px(_ROW))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        for index, name in enumerate(self._ordered()):
            if self.row_box(index).contains(event.position()):
                self.activity_chosen.emit(name)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        names = self._ordered()
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None or not names:
            super().keyPressEvent(event)
            return
        at = names.index(self.chosen) + step if self.chosen in names else 0
        self.activity_chosen.emit(names[min(max(at, 0), len(names) - 1)])
