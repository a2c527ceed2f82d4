"""Radio timers: asked and granted side by side, all ways to write a time, and what another period would take."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.model.allowed import Allowed
from warm_ember.session.timer_words import (
    CODED_TIMERS,
    PERIOD_STANDARDS,
    timer_limits,
    try_period,
    ways_to_write,
)
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.ui.widgets.side_by_side import SideBySide
from warm_ember.units import counted, duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import GrantedTimer, PeriodModel


_HEADS = ("granted at", "timer", "requested", "granted", "")
_RIGHT = Qt.AlignmentFlag.AlignRight
_STEPS, _DECADES = 120, 2.0
_LEFT, _TOP, _BOTTOM = 84, 34, 30


class _Curve(PaintedView):
    """Average current against the period, with the measured one and the one that is asked for."""

    reads_as = "Average against the timer"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setMinimumHeight(look.px(200))
        self.look = look
        self.model: PeriodModel | None = None
        self.asked_s = 1.0
        look.changed.connect(self.update)

    def show_model(self, model: PeriodModel | None, asked_s: float) -> None:
        """Show a model and the period to try."""
        self.model, self.asked_s = model, asked_s
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        title = "Average current against the period"
        draw_rich_text(painter, QRectF(px(16), px(8), self.width(), px(18)), title, look, dim=theme.ink)
        model = self.model
        if model is None:
            words = "Nothing in this run has a period."
            draw_rich_text(painter, QRectF(px(16), px(34), self.width(), px(18)), words, look)
            painter.end()
            return
        plot = QRectF(px(_LEFT), px(_TOP), self.width() - px(_LEFT + 16), self.height() - px(_TOP + _BOTTOM))
        painter.fillRect(plot, theme.sunken)
        low_s = min(model.period_s, self.asked_s) / 10**_DECADES
        high_s = max(model.period_s, self.asked_s) * 10**_DECADES
        top_a = max(model.mean_a(low_s), 1e-9)
        bottom_a = max(min(model.floor_a, model.mean_a(high_s)) * 0.8, 1e-6 * top_a)
        top_a = max(top_a, 10 * bottom_a)

        def place(period_s: float) -> QPointF:
            across = math.log(period_s / low_s) / math.log(high_s / low_s)
            up = math.log(max(model.mean_a(period_s), bottom_a) / bottom_a) / math.log(top_a / bottom_a)
            return QPointF(plot.left() + across * plot.width(), plot.bottom() - up * plot.height())

        periods = [low_s * (high_s / low_s) ** (k / _STEPS) for k in range(_STEPS + 1)]
        for before, after in pairwise(periods):
            painter.setPen(QPen(theme.ramp.color(model.mean_a(before)), 2.4))
            painter.drawLine(place(before), place(after))
        self._paint_grid(painter, plot, (low_s, high_s), (bottom_a, top_a))
        for period_s, name in ((model.period_s, "now"), (self.asked_s, "tried")):
            is_left = (period_s <= self.asked_s) if name == "now" else (period_s < model.period_s)
            self._paint_mark(
                painter, plot, place(period_s), f"{name} {quantity_text(model.mean_a(period_s), 'A').rich}", is_left
            )
        painter.end()

    def _paint_grid(
        self, painter: QPainter, plot: QRectF, periods_s: tuple[float, float], currents_a: tuple[float, float]
    ) -> None:
        look, theme, px = self.look, self.look.theme, self.look.px
        (low_s, high_s), (bottom_a, top_a) = periods_s, currents_a
        for current_a in _decades(bottom_a, top_a):
            share = math.log(current_a / bottom_a) / math.log(top_a / bottom_a)
            y = plot.bottom() - share * plot.height()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
            box = QRectF(0, y - px(9), plot.left() - px(8), px(18))
            draw_rich_text(painter, box, str(quantity_text(current_a, "A", 1)), look, size="small", align=_RIGHT)
        for period_s in _decades(low_s, high_s):
            x = plot.left() + math.log(period_s / low_s) / math.log(high_s / low_s) * plot.width()
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
            box = QRectF(x - px(50), plot.bottom() + px(4), px(100), px(16))
            align = Qt.AlignmentFlag.AlignHCenter
            draw_rich_text(painter, box, str(quantity_text(period_s, "s", 1)), look, size="small", align=align)

    def _paint_mark(self, painter: QPainter, plot: QRectF, point: QPointF, said: str, is_left: bool) -> None:
        """Paint a period on the curve with what it takes."""
        theme, px = self.look.theme, self.look.px
        is_now = said.startswith("now")
        color = theme.ink if is_now else theme.mark
        painter.setPen(QPen(color, 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(point.x(), plot.top()), QPointF(point.x(), plot.bottom()))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(color)
        diamond = [QPointF(0, -5), QPointF(5, 0), QPointF(0, 5), QPointF(-5, 0)]
        painter.drawPolygon(QPolygonF([point + one for one in diamond]))
        left = point.x() - px(126) if is_left else point.x() + px(6)
        text = QRectF(left, plot.top() + (px(2) if is_now else px(18)), px(120), px(16))
        align = _RIGHT if is_left else Qt.AlignmentFlag.AlignLeft
        draw_rich_text(painter, text, said, self.look, size="small", on=theme.sunken, align=align)


_WIDE = 900


class TimersView(QWidget):
    """Asked and granted; ways to write a time; what if.

    Signals
    -------
    planned
        A `PeriodModel` and the period that it shall have.
    refused
        What was expected where something else was typed.
    """

    planned = Signal(object, float)
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.look = look
        self.models: tuple[PeriodModel, ...] = ()
        self.table = FigureTable(look, _HEADS, words=(0, 1, 4))
        self.table.setAccessibleName("Timers requested and granted")
        self.none = Label("The log has no timers: record the modem's replies with it.")
        self.kind, self.time, self.codes = QComboBox(), QLineEdit("10 min"), Label()
        self.what, self.standard = QComboBox(), QComboBox()
        self.period = QuantityEdit(look, "s", "the period to try", 92, allowed=Allowed(1e-6, above=True))
        self.skipped = QuantityEdit(look, "", "events that are skipped", 60, allowed=Allowed(0, 499))
        self.answer = Label()
        self.curve = _Curve(look)
        self.add = KeyButton(look, "Add to the plan", "Ctrl+Return")
        self._build()

    def _build(self) -> None:
        self.kind.addItems(CODED_TIMERS)
        self.kind.setAccessibleName("kind of timer")
        self.time.setAccessibleName("a time to be written")
        self.standard.addItems(PERIOD_STANDARDS)
        self.standard.setAccessibleName("standard of the period")
        self.what.setAccessibleName("what has a period")
        self.what.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.codes.setWordWrap(True)
        self.answer.setWordWrap(True)
        left, right = QWidget(), QWidget()
        left.setLayout(self._build_left())
        right.setLayout(self._build_right())
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(SideBySide(self.look, (left, 1), (right, 1), _WIDE, left))
        self._connect()
        self._show_codes()

    def _build_left(self) -> QVBoxLayout:
        px = self.look.px
        left = QVBoxLayout()
        left.setContentsMargins(px(16), px(8), px(16), px(8))
        left.setSpacing(px(8))
        self.table.share_width(3, 4, 2, 3, 2)
        left.addWidget(self._title("Requested from the network, and granted"))
        left.addWidget(self.none)
        left.addWidget(self.table)
        left.addWidget(self._title("All ways to write a time"))
        row = QHBoxLayout()
        for widget in (self.time, self.kind):
            row.addWidget(widget)
        row.addStretch(1)
        left.addLayout(row)
        left.addWidget(self.codes)
        left.addWidget(self._title("What the standards allow"))
        self.allowed = FigureTable(self.look, ("timer", "shortest", "longest", "step", "where"), words=(0, 4))
        self.allowed.setAccessibleName("What the standards allow")
        self.allowed.show_rows(_allowed())
        self.allowed.share_width(4, 3, 3, 3, 6)
        left.addWidget(self.allowed, 1)
        return left

    def _build_right(self) -> QVBoxLayout:
        px = self.look.px
        right = QVBoxLayout()
        right.setContentsMargins(0, px(8), px(16), px(8))
        right.setSpacing(px(8))
        grid = QGridLayout()
        grid.setContentsMargins(px(16), 0, 0, 0)
        fields: tuple[tuple[str, QWidget], ...] = (
            ("what if", self.what),
            ("came every", self.period),
            ("as", self.standard),
            ("skipping", self.skipped),
        )
        for number, (words, field) in enumerate(fields):
            grid.addWidget(Label(words), number // 2, 2 * (number % 2))
            grid.addWidget(field, number // 2, 2 * (number % 2) + 1)
        grid.setColumnStretch(4, 1)
        right.addLayout(grid)
        self.answer.setContentsMargins(px(16), 0, 0, 0)
        right.addWidget(self.answer)
        right.addWidget(self.curve, 1)
        right.addWidget(self.add, 0, Qt.AlignmentFlag.AlignRight)
        return right

    def _connect(self) -> None:
        self.skipped.set_value(0.0)
        self.time.textChanged.connect(lambda _text: self._show_codes())
        self.kind.activated.connect(lambda _index: self._show_codes())
        self.what.activated.connect(lambda _index: self._choose())
        self.standard.activated.connect(lambda _index: self._show_answer())
        for edit in (self.period, self.skipped):
            edit.value_entered.connect(lambda _value: self._show_answer())
            edit.refused.connect(self.refused)
        self.add.clicked.connect(lambda _checked: self.plan())

    def _title(self, words: str) -> QLabel:
        label = Label(words)
        label.setFont(self.look.font(bold=True))
        return label

    def show_timers(self, granted: tuple[GrantedTimer, ...], models: tuple[PeriodModel, ...]) -> None:
        """Show another run."""
        rows: list[tuple[tuple[str, float | str], ...]] = []
        for one in granted:
            for name, asked, given in (
                ("active time", one.asked.active_s, one.granted.active_s),
                ("periodic update", one.asked.periodic_s, one.granted.periodic_s),
            ):
                verdict = (
                    "" if asked is None or given is None else "as requested" if abs(asked - given) < 1e-6 else "other"
                )
                at = (str(duration_text(one.at_s)), one.at_s)
                rows.append((at, (name, name), _time(asked), _time(given), (verdict, verdict)))
        self.table.show_rows(rows)
        # As high as its rows, up to a dozen: what stands below it follows at once.
        self.table.setFixedHeight(self.look.px(28 + 22 * min(len(rows), 12)))
        self.table.setVisible(bool(rows))
        self.none.setVisible(not rows)
        before = self.what.currentText()
        self.models = models
        self.what.clear()
        self.what.addItems([model.name for model in models])
        self.what.setCurrentIndex(max(self.what.findText(before), 0 if models else -1))
        self.add.setEnabled(bool(models))
        self._choose(keep=self.what.currentText() == before and bool(before))

    @property
    def model(self) -> PeriodModel | None:
        """What is asked about."""
        index = self.what.currentIndex()
        return self.models[index] if 0 <= index < len(self.models) else None

    def _choose(self, *, keep: bool = False) -> None:
        model = self.model
        if model is not None and not keep:
            self.period.set_value(2 * model.period_s)
        self._show_answer()

    def _show_codes(self) -> None:
        try:
            lines = ways_to_write(self.kind.currentText(), self.time.text())
        except BadArgumentError as error:
            lines = (str(error),)
        self.codes.setText("\n".join(lines))

    def _show_answer(self) -> None:
        model, asked_s = self.model, self.period.shown
        if model is None or asked_s is None:
            self.answer.setText("")
            self.curve.show_model(None, 1.0)
            return
        try:
            tried = try_period(model, self.standard.currentText(), asked_s, int(self.skipped.shown or 0))
        except BadArgumentError as error:
            self.answer.setText(str(error))
            self.curve.show_model(model, asked_s)
            return
        self.answer.setText(tried.words)
        self.curve.show_model(model, tried.wakes_every_s)

    def plan(self) -> None:
        """Ask for the period that is shown to be planned."""
        if self.model is not None:
            self.planned.emit(self.model, self.curve.asked_s)


def _allowed() -> list[tuple[tuple[str, float | str], ...]]:
    """Return the limits of every timer as rows."""
    rows: list[tuple[tuple[str, float | str], ...]] = []
    for one in timer_limits():
        step = (str(duration_text(one.step_s)), one.step_s) if one.step_s else ("any", 0.0)
        if one.times is not None:
            step = (f"{counted(one.times, 'time')}", float(one.times))
        name, where = (one.timer, one.timer), (one.clause, one.clause)
        rows.append((name, _time(one.shortest_s), _time(one.longest_s), step, where))
    return rows


def _decades(low: float, high: float) -> list[float]:
    """Return the powers of ten in a range; its ends where there are none."""
    found = [10.0**power for power in range(math.ceil(math.log10(low)), math.floor(math.log10(high)) + 1)]
    return found or [low, high]


def _time(seconds: float | None) -> tuple[str, float | str]:
    return (str(duration_text(seconds)), seconds) if seconds is not None else ("off", -1.0)
