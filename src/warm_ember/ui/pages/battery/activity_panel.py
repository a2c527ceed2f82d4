"""One activity: how often it comes, at which hours and in which season, and what it means."""

from __future__ import annotations

import html

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from warm_ember.model.allowed import Allowed
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Typed
from warm_ember.model.figure import signed
from warm_ember.model.load import ONCE_SPREAD, ActivityCost
from warm_ember.model.project import Project
from warm_ember.model.rates import MOST_RETRIES
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.weights_strip import MONTHS, WeightsStrip
from warm_ember.ui.widgets.drag_label import DragLabel
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import format_trimmed, quantity_text, rate_text

_BY_ITSELF = "on its own schedule"
_MATTERS = 0.05
_HOURS = tuple(str(hour) if hour % 6 == 0 else "" for hour in range(24))


class ActivityPanel(QWidget):
    """The fields of one activity.

    Signals
    -------
    changed
        The activity as it is to be, and what it was called before.
    dragged
        The activity on the way, while a value is being dragged.
    given_up
        A drag was given up.
    dropped_out
        The activity is to be removed.
    closed
        The panel is to go.
    refused
        What was expected of a field.
    """

    changed = Signal(object, str)
    dragged = Signal(object)
    given_up = Signal()
    dropped_out = Signal(str)
    closed = Signal()
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.activity: Activity | None = None
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(6), px(12), px(4))
        column.setSpacing(px(4))
        self.name_edit = QLineEdit()
        self.name_edit.setAccessibleName("Name of the activity")
        self.name_edit.editingFinished.connect(self._on_name)
        column.addWidget(self.name_edit)
        self.origin = self._small(column)
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(px(6))
        self.grid.setVerticalSpacing(px(2))
        column.addLayout(self.grid)
        self._build_fields()
        self.hours = self._strip(column, "at hours of the day", _HOURS, "hours")
        self.months = self._strip(column, "over the year", MONTHS, "months")
        self.facts = self._small(column)
        self.facts.setTextFormat(Qt.TextFormat.RichText)
        column.addStretch(1)
        done = KeyButton(look, "Back to the battery", "Esc")
        done.clicked.connect(self.closed.emit)
        away = KeyButton(look, "Remove this activity", "Ctrl+Shift+D")
        away.clicked.connect(self._on_away)
        column.addWidget(done)
        column.addWidget(away)

    def _on_away(self) -> None:
        if self.activity is not None:
            self.dropped_out.emit(self.activity.name)

    def _small(self, column: QVBoxLayout) -> QLabel:
        label = Label()
        label.setWordWrap(True)
        label.setFont(self._look.font("small"))
        column.addWidget(label)
        return label

    def _strip(self, column: QVBoxLayout, words: str, labels: tuple[str, ...], field: str) -> WeightsStrip:
        head = self._small(column)
        head.setText(words)
        strip = WeightsStrip(self._look, words, labels)
        strip.weights_drawn.connect(lambda weights: self._change(**{field: weights}))
        column.addWidget(strip)
        return strip

    def _build_fields(self) -> None:
        self.labels: dict[QuantityEdit, DragLabel] = {}
        self.follows = QComboBox()
        self.follows.setAccessibleName("What it follows")
        self.follows.activated.connect(lambda _index: self._on_follows())
        self._place(0, Label("comes"), self.follows)
        self.interval = self._number("each", "s", Allowed(above=True), "interval_s")
        self.per_day = self._number("a day", "", Allowed(), "per_day")
        self.probability = self._number("with chance", "%", Allowed(0, 1), "probability")
        self.retries = self._number("tried again", "", Allowed(0, MOST_RETRIES), "retries", whole=True)
        self.charge = self._number("charge", "C", Allowed(), "charge_c", typed=True)
        self.duration = self._number("lasts", "s", Allowed(), "duration_s", typed=True)
        self.peak = self._number("peak", "A", Allowed(), "peak_a", typed=True)
        self.random = QCheckBox("at random, not at an interval")
        self.random.setFont(self._look.font("small"))
        self.random.clicked.connect(lambda checked: self._change(is_random=checked))
        self.grid.addWidget(self.random, self.grid.rowCount(), 0, 1, 2)

    def _number(
        self, words: str, unit: str, allowed: Allowed, field: str, *, typed: bool = False, whole: bool = False
    ) -> QuantityEdit:
        edit = QuantityEdit(self._look, unit, words, 132, allowed=allowed)
        label = DragLabel(self._look, words, edit)
        make = self._typed_with if typed else self._with

        def changed(value: float) -> Activity | None:
            return make(**{field: round(value) if whole else value})

        edit.value_entered.connect(lambda value: self._send(changed(value)))
        edit.refused.connect(self.refused)
        label.dragged.connect(lambda value: self.dragged.emit(changed(value)))
        label.dropped.connect(lambda value: self._send(changed(value)))
        label.given_up.connect(self.given_up)
        self._place(self.grid.rowCount(), label, edit)
        self.labels[edit] = label
        return edit

    def _place(self, row: int, label: QLabel, widget: QWidget) -> None:
        for one in (label, widget):
            one.setFont(self._look.font("small"))
        self.grid.addWidget(label, row, 0)
        self.grid.addWidget(widget, row, 1)

    def _with(self, **changes: object) -> Activity | None:
        if self.activity is None:
            return None
        if "interval_s" in changes:
            changes["per_day"] = None
        if "per_day" in changes:
            changes["interval_s"] = None
        return msgspec.structs.replace(self.activity, **changes)

    def _typed_with(self, **changes: object) -> Activity | None:
        if self.activity is None or not isinstance(self.activity.source, Typed):
            return None
        return msgspec.structs.replace(self.activity, source=msgspec.structs.replace(self.activity.source, **changes))

    def _change(self, **changes: object) -> None:
        self._send(self._with(**changes))

    def _send(self, activity: Activity | None) -> None:
        if activity is not None and self.activity is not None and activity != self.activity:
            self.changed.emit(activity, self.activity.name)

    def _on_name(self) -> None:
        name = self.name_edit.text().strip()
        if self.activity is not None and name and name != self.activity.name:
            self._change(name=name)
        elif self.activity is not None:
            self.name_edit.setText(self.activity.name)

    def _on_follows(self) -> None:
        leader = self.follows.currentText()
        if leader == _BY_ITSELF:
            self._change(follows="", per_day=24.0)
        elif self.activity is not None:
            self._send(msgspec.structs.replace(self.activity, follows=leader, interval_s=None, per_day=None))

    def show_activity(self, project: Project, name: str, results: RunResults | None) -> None:
        """Show an activity; an unknown name shows nothing."""
        activity = next((one for one in project.activities if one.name == name), None)
        self.activity = activity
        if activity is None:
            return
        if not self.name_edit.isModified():
            self.name_edit.setText(activity.name)
        leaders = [_BY_ITSELF, *(f"{one.name}" for one in project.activities if one is not activity)]
        self.follows.clear()
        self.follows.addItems(leaders)
        self.follows.setCurrentText(activity.follows or _BY_ITSELF)
        self.interval.set_value(activity.interval_s)
        self.per_day.set_value(activity.per_day)
        self.probability.set_value(activity.probability)
        self.retries.set_value(activity.retries)
        self.random.setChecked(activity.is_random)
        for edit in (self.interval, self.per_day):
            self._show_row(edit, shown=not activity.follows)
        source = activity.source
        typed = source if isinstance(source, Typed) else None
        for edit, field in ((self.charge, "charge_c"), (self.duration, "duration_s"), (self.peak, "peak_a")):
            self._show_row(edit, shown=typed is not None)
            edit.set_value(None if typed is None else getattr(typed, field))
        self.hours.set_weights(activity.hours)
        self.months.set_weights(activity.months)
        cost = next((one for one in results.load.costs if one.name == name), None) if results is not None else None
        self.origin.setText(_origin(activity))
        self.facts.setText("" if results is None or cost is None else _facts(cost, results))

    def _show_row(self, edit: QuantityEdit, *, shown: bool) -> None:
        edit.setVisible(shown)
        self.labels[edit].setVisible(shown)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        else:
            super().keyPressEvent(event)


def _origin(activity: Activity) -> str:
    source = activity.source
    if isinstance(source, FromStates):
        return f"charge of {', '.join(source.states)}, for each entry of {source.per}"
    if isinstance(source, FromWakes):
        return f"charge of each wake by {source.wake_source}, up to the sleep after it"
    if isinstance(source, FromStretch):
        return f"charge of one bracket on {source.capture}"
    return "charge as entered"


def _facts(cost: ActivityCost, results: RunResults) -> str:
    """Return what an activity means, as lines of rich text."""
    load, life = results.load, results.life
    share = cost.added_a(load.base_a) / load.mean_a if load.mean_a > 0 else 0.0
    adds = signed(cost.bound, quantity_text(cost.added_a(load.base_a), "A"))
    lines = [f"adds <b>{adds}</b>, {format_trimmed(100 * share)} % of the average"]
    per_time_c = cost.charge_c - load.base_a * cost.duration_s
    allowed_a = life.budget_a or load.mean_a
    if per_time_c > 0 and allowed_a > 0:
        matters = rate_text(_MATTERS * allowed_a / per_time_c)
        of = "what is allowed" if life.budget_a else "the average"
        lines.append(f"adds {format_trimmed(100 * _MATTERS)} % of {of} when it comes <b>{matters}</b>")
    times = life.delivered.get(cost.name)
    if times is not None:
        lines.append(f"comes <b>{_count(times)}</b> times in the life")
    if cost.measured_hz is not None:
        lines.append(f"{html.escape(cost.origin)} in the capture: {rate_text(cost.measured_hz)} there")
    if cost.lowest_c is not None and cost.highest_c is not None and cost.highest_c > cost.lowest_c:
        low, high = quantity_text(cost.lowest_c, "C"), quantity_text(cost.highest_c, "C")
        lines.append(f"one takes {low} to {high}")
    if cost.measured_times == 1:
        lines.append(f"measured once: taken to scatter by {100 * ONCE_SPREAD:.0f} %")
    if cost.peak_a:
        lines.append(f"peak {quantity_text(cost.peak_a, 'A')}")
    return "<br>".join(lines)


def _count(times: float) -> str:
    if times == float("inf"):
        return "without end"
    return f"{times:,.0f}".replace(",", " ") if times < 1e9 else format_trimmed(times)
