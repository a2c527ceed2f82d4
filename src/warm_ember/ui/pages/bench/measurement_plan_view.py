"""Planning a capture: what is expected at the left, what follows from it at the right, and what stays unseen."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from warm_ember.errors import BadArgumentError
from warm_ember.session.bench_setup import Expectation, plan_capture
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import InstrumentDescription, PlannedCapture

_FIELDS = (
    ("shortest_s", "shortest event", "s", "that must be seen"),
    ("cycle_s", "cycle", "s", "after which all repeats"),
    ("floor_a", "expected floor", "A", "in the deepest sleep"),
    ("peak_a", "expected peak", "A", "in the hottest burst"),
    ("supply_v", "supply", "V", "at the source"),
    ("least_v", "least at the target", "V", "below it resets"),
    ("capacitance_f", "on-board capacitance", "F", "behind the shunt"),
    ("shunt_ohm", "own shunt", "Ω", "0: the instrument's"),
    ("gain", "amplifier's gain", "", "behind the own shunt"),
    ("full_v", "reader's full scale", "V", "behind the amplifier"),
    ("step_v", "reader's step", "V", "behind the amplifier"),
)
_LOW_A, _HIGH_A = 1e-9, 1.0
_DECADES = 9


class _Outcome(PaintedView):
    """What to set, and what that means."""

    reads_as = "What the capture will tell"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.planned: PlannedCapture | None = None
        self.expectation = Expectation()
        self.setMinimumHeight(look.px(230))

    def paintEvent(self, event: QPaintEvent) -> None:
        plan = self.planned
        if plan is None:
            return
        painter = QPainter(self)
        px, theme, look = self.look.px, self.look.theme, self.look
        resolved = quantity_text(plan.resolved_a, "A").rich if plan.resolved_a is not None else "not known"
        rows = (
            ("interval", duration_text(plan.interval_s).rich, quantity_text(1 / plan.interval_s, "S/s").rich),
            ("length", duration_text(plan.duration_s).rich, "three whole cycles"),
            ("range", plan.range_words, ""),
            ("size on disk", quantity_text(plan.size_bytes, "B").rich, quantity_text(plan.samples, "S").rich),
            ("lost in the shunt", quantity_text(plan.burden_v, "V").rich, "at the peak"),
            ("droop", quantity_text(plan.droop_v, "V").rich, "in the shortest event"),
            (
                "time constant",
                duration_text(plan.time_constant_s).rich if plan.time_constant_s else "none",
                "shunt and capacitors",
            ),
            ("resolved", resolved, "no zero set"),
        )
        for index, (name, figure, note) in enumerate(rows):
            y = px(28) * index
            draw_rich_text(painter, QRectF(0, y, px(116), px(26)), name, look)
            box = QRectF(px(116), y, px(170) if not note else px(76), px(26))
            draw_rich_text(painter, box, figure, look, dim=theme.ink)
            note_box = QRectF(box.right(), y, self.width() - box.right() - px(4), px(26))
            draw_rich_text(
                painter, note_box, note, look, size="small", dim=theme.faint, align=Qt.AlignmentFlag.AlignRight
            )
            painter.setPen(theme.rule)
            painter.drawLine(0, y + px(27), self.width(), y + px(27))
        painter.end()


class _Reach(PaintedView):
    """From nanoamperes to amperes: what the instrument reads in which range, and where floor and peak are expected."""

    reads_as = "What the instrument reaches"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.expectation = Expectation()
        self.spans: tuple[tuple[float, float, str], ...] = ()
        self.setMinimumHeight(look.px(120))
        look.changed.connect(self.update)

    def _x(self, current_a: float) -> float:
        return self.width() * (math.log10(min(max(current_a, _LOW_A), _HIGH_A) / _LOW_A) / _DECADES)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        px, theme, look = self.look.px, self.look.theme, self.look
        axis = QRectF(0, px(26), self.width() - 1, px(10))
        for column in range(self.width()):
            current_a = _LOW_A * 10 ** (_DECADES * column / self.width())
            painter.fillRect(QRectF(column, axis.top(), 1, axis.height()), theme.ramp.color(current_a))
        for decade in range(_DECADES):
            current_a = _LOW_A * 10**decade
            box = QRectF(self._x(current_a), axis.bottom() + px(2), px(60), px(16))
            draw_rich_text(painter, box, quantity_text(current_a, "A", 1).rich, look, size="small")
        self._paint_mark(painter, self.expectation.floor_a, "floor", axis)
        self._paint_mark(painter, self.expectation.peak_a, "peak", axis)
        for index, (least_a, full_a, words) in enumerate(self.spans):
            y = axis.bottom() + px(22 + 16 * index)
            bar = QRectF(self._x(least_a), y, self._x(full_a) - self._x(least_a), px(12))
            painter.fillRect(bar, theme.raised)
            painter.setPen(theme.rule)
            painter.drawRect(bar)
            draw_rich_text(painter, bar.adjusted(px(6), 0, 0, 0), words, look, size="small")
        painter.end()

    def _paint_mark(self, painter: QPainter, current_a: float, words: str, axis: QRectF) -> None:
        x, px = self._x(current_a), self.look.px
        painter.setPen(QPen(self.look.theme.mark, 2))
        painter.drawLine(QPointF(x, px(6)), QPointF(x, self.height()))
        left = min(x + px(5), self.width() - px(130))
        box = QRectF(left, px(4), px(130), px(16))
        text = f"{words} {quantity_text(current_a, 'A').rich}"
        draw_rich_text(painter, box, text, self.look, size="small", ink=self.look.theme.mark, dim=self.look.theme.mark)


class PlanView(QWidget):
    """From what is expected to what is set.

    Signals
    -------
    taken
        A `PlannedCapture` whose settings are to be used.
    """

    taken = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self.expectation = Expectation()
        self.known: InstrumentDescription | None = None
        self._typed = False
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(16), px(10), px(16), px(10))
        column.setSpacing(px(12))
        sides = QHBoxLayout()
        sides.setSpacing(px(24))
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(Label("What is expected"))
        right.addWidget(Label("What follows"))
        self.fields: dict[str, QuantityEdit] = {}
        left.addLayout(self._build_fields())
        left.addStretch(1)
        self.outcome = _Outcome(look)
        right.addWidget(self.outcome, 1)
        sides.addLayout(left)
        sides.addLayout(right, 1)
        column.addLayout(sides)
        column.addWidget(Label("What the instrument reads, and what is expected of it"))
        self.reach = _Reach(look)
        column.addWidget(self.reach)
        column.addWidget(Label("What cannot be seen with these settings"))
        self.unseen = Label()
        self.unseen.setWordWrap(True)
        self.unseen.setAlignment(Qt.AlignmentFlag.AlignTop)
        column.addWidget(self.unseen, 1)
        self.take = QPushButton("Use these settings")
        self.take.clicked.connect(self._take)
        row_of_keys = QHBoxLayout()
        row_of_keys.addWidget(self.take)
        row_of_keys.addStretch(1)
        column.addLayout(row_of_keys)
        self.refresh()

    def _build_fields(self) -> QGridLayout:
        grid = QGridLayout()
        grid.setVerticalSpacing(self.look.px(5))
        for row, (field, words, unit, note) in enumerate(_FIELDS):
            edit = QuantityEdit(self.look, unit, words, 84)
            edit.value_entered.connect(lambda value, field=field: self._set(field, value))
            self.fields[field] = edit
            label = Label(words)
            label.setToolTip(tip(note))
            grid.addWidget(label, row, 0)
            grid.addWidget(edit, row, 1)
        grid.setColumnStretch(2, 1)
        return grid

    def _set(self, field: str, value: float) -> None:
        self._typed = True
        meant = None if field == "shunt_ohm" and not value else value
        self.expectation = msgspec.structs.replace(self.expectation, **{field: meant})
        self.refresh()

    def show_known(self, known: InstrumentDescription | None) -> None:
        """Plan for another instrument."""
        self.known = known
        self.refresh()

    def refresh(self) -> None:
        """Work the plan out anew."""
        for field, edit in self.fields.items():
            edit.set_value(getattr(self.expectation, field) or 0.0)
        try:
            planned = plan_capture(self.expectation, self.known)
        except BadArgumentError as error:
            self.outcome.planned = None
            self.unseen.setText(f"This cannot be planned: {error.one_line}.")
        else:
            self.outcome.planned = planned
            self.unseen.setText("\n".join(f"·  {one}" for one in planned.unseen) or "Everything that is expected.")
        self.take.setEnabled(self.outcome.planned is not None)
        self.outcome.update()
        self.reach.expectation, self.reach.spans = self.expectation, self._spans()
        self.reach.update()

    def _spans(self) -> tuple[tuple[float, float, str], ...]:
        """Return what is read, from the least to the most, in words: by an own shunt, else in each range."""
        wanted = self.expectation
        if wanted.shunt_ohm:
            scale = wanted.gain * wanted.shunt_ohm
            full_a = wanted.full_v / scale
            return ((wanted.step_v / scale, full_a, f"own shunt, to {quantity_text(full_a, 'A').rich}"),)
        ranges = self.known.ranges if self.known is not None else ()
        return tuple(
            (max(one.offset_a, one.step_a), one.full_a, f"range to {quantity_text(one.full_a, 'A').rich}")
            for one in ranges
        )

    def expect(self, floor_a: float, peak_a: float) -> None:
        """Expect what the last run showed, unless something was typed."""
        if not self._typed and 0 < floor_a < peak_a:
            self.expectation = msgspec.structs.replace(self.expectation, floor_a=floor_a, peak_a=peak_a)
            self.refresh()

    def _take(self) -> None:
        if self.outcome.planned is not None:
            self.taken.emit(self.outcome.planned)

    def sentence(self) -> str:
        """Return what the plan says, as rich text."""
        planned = self.outcome.planned
        if planned is None:
            return "These expectations contradict each other."
        unseen = len(planned.unseen)
        tail = (
            f"**{unseen}** {'thing' if unseen == 1 else 'things'} to know first" if unseen else "all of it can be seen"
        )
        return (
            f"Record {duration_text(planned.duration_s).rich} every {duration_text(planned.interval_s).rich}: "
            f"{quantity_text(planned.size_bytes, 'B').rich}, {tail}."
        )
