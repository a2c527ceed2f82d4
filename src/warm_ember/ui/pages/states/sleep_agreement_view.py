"""What the firmware believes of its sleep against what the current shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QSizePolicy, QVBoxLayout

from warm_ember.session.state_results import Marker
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import AgreementRow, Disagreement, SleepAgreement

_CENTER = Qt.AlignmentFlag.AlignHCenter
_RIGHT = Qt.AlignmentFlag.AlignRight
_WORTH_TELLING = 1e-3
_LOG = "the log's sleep and wake events"


class _Square(PaintedView):
    """Belief across, current down: a field for each combination, as bright as it draws."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self._agreement: SleepAgreement | None = None
        self.setMinimumWidth(look.px(340))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Sleep reported against sleep seen")
        look.changed.connect(self.update)

    def show_agreement(self, agreement: SleepAgreement | None) -> None:
        self._agreement = agreement
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        look, px = self._look, self._look.px
        painter.fillRect(self.rect(), look.theme.ground)
        if self._agreement is not None:
            left, top = px(112), px(24)
            width, height = (self.width() - left - px(8)) / 2, min((self.height() - top) / 2 - px(8), px(128))
            for column, words in enumerate(("firmware says asleep", "firmware says awake")):
                box = QRectF(left + column * (width + px(8)), 0, width, px(20))
                draw_rich_text(painter, box, words, look, size="small", align=_CENTER)
            for row, words in enumerate(("current says asleep", "current says awake")):
                box = QRectF(0, top + row * (height + px(8)), left - px(12), height)
                draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
            for one in self._agreement.rows:
                x = left + (not one.believed_asleep) * (width + px(8))
                y = top + (not one.drew_asleep) * (height + px(8))
                self._paint_field(painter, QRectF(x, y, width, height), one)
        painter.end()

    def _paint_field(self, painter: QPainter, box: QRectF, row: AgreementRow) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        if not row.count:
            painter.setPen(theme.rule)
            painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5))
            draw_rich_text(painter, box, "never", look, align=_CENTER, dim=theme.faint)
            return
        color = theme.ramp.color(row.mean_a)
        ink = ink_on(color)
        painter.fillRect(box, color)
        if not row.agrees:
            painter.fillRect(QRectF(box.left(), box.top(), px(6), box.height()), theme.warning)
        lines = (
            quantity_text(row.mean_a, "A").rich,
            f"{duration_text(row.time_s).rich} in **{row.count}** stretch{'es' if row.count > 1 else ''}",
            quantity_text(row.charge_c, "C").rich,
        )
        for index, words in enumerate(lines):
            line = QRectF(box.left() + px(16), box.top() + px(8) + index * px(22), box.width() - px(24), px(22))
            size = "normal" if width_of(look, words) <= line.width() else "small"
            draw_rich_text(painter, line, words, look, ink=ink, dim=ink, size=size)


class SleepAgreementView(StatesPart):
    """Choose what says that the firmware sleeps, and see where the current says otherwise."""

    name = "sleep check"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.agreement: SleepAgreement | None = None
        self._known = False
        self.square = _Square(look)
        self.places = FigureTable(look, ("believes", "at", "for", "mean", "charge"), largest_first=4)
        self.places.share_width(9, 10, 9, 9, 9)
        self.places.setAccessibleName("Where firmware and current differ")
        self.marker = QComboBox()
        self.marker.setAccessibleName("What says that the firmware sleeps")
        self.threshold = QuantityEdit(look, "A", "Awake from this current on", 88, low=1e-12)
        self._build()
        self.marker.activated.connect(lambda _index: self._on_marker())
        self.threshold.value_entered.connect(lambda _value: self.refresh())
        self.places.row_asked.connect(self._show_place)

    def _build(self) -> None:
        px = self.look.px
        self._title = self.small()
        fields = QHBoxLayout()
        for widget in (self.small("Asleep by"), self.marker, self.small("awake from"), self.threshold):
            fields.addWidget(widget)
        fields.addStretch(1)
        left = QVBoxLayout()
        left.addLayout(fields)
        left.addWidget(self.square, 1)
        right = QVBoxLayout()
        right.addWidget(self._title)
        right.addWidget(self.places, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(px(16), px(6), px(16), px(8))
        row.setSpacing(px(24))
        row.addLayout(left, 1)
        row.addLayout(right, 1)

    def set_results(self, results: object) -> None:
        self._offer_markers(results)
        super().set_results(results)  # type: ignore[arg-type]

    def _offer_markers(self, results: object) -> None:
        lines = results.capture.lines if results is not None else None  # type: ignore[attr-defined]
        names = lines.names if lines is not None else ()
        words = [_LOG, *(f"line {name} {level}" for name in names for level in ("low", "high"))]
        if [self.marker.itemText(k) for k in range(self.marker.count())] != words:
            self.marker.clear()
            self.marker.addItems(words)
            self.threshold.set_value(None)

    def _on_marker(self) -> None:
        self.threshold.set_value(None)
        self.refresh()

    def _chosen(self) -> Marker:
        threshold_a = self.threshold.value() if self.threshold.text() and self._typed else None
        words = self.marker.currentText()
        if words == _LOG or not words:
            return Marker(threshold_a=threshold_a)
        name, level = words.removeprefix("line ").rsplit(" ", 1)
        return Marker(name, level == "high", threshold_a)

    @property
    def _typed(self) -> bool:
        return self.agreement is None or self.threshold.value() != self.agreement.threshold_a

    def ask(self) -> None:
        results, marker = self.results, self._chosen()
        assert results is not None
        project, name = self.controller.project, results.run.name
        self.work(
            lambda session, should_stop: session.states.agreement(project, name, marker, should_stop),
            self._on_agreement,
        )

    def show_nothing(self) -> None:
        self._on_agreement(None)
        self._known = False

    def _on_agreement(self, agreement: SleepAgreement | None) -> None:
        self.agreement, self._known = agreement, True
        self.square.show_agreement(agreement)
        if agreement is not None:
            self.threshold.set_value(agreement.threshold_a)
        self.places.show_rows([_place_row(place) for place in agreement.places] if agreement is not None else [])
        count = len(agreement.places) if agreement is not None else 0
        self._title.setText("where they differ, the costliest first; open a row to see it" if count else "")
        self.changed.emit()

    def _show_place(self, index: int) -> None:
        if self.agreement is not None:
            place = self.agreement.places[index]
            self.stretch_asked.emit(place.from_s, place.to_s)

    def sentence(self) -> str:
        if not self._known:
            return "Comparing the sleep that is reported with the current …"
        if self.agreement is None:
            return "The firmware does not report its sleep here: log **sleep** and **wake** events, or choose a line."
        row = next(one for one in self.agreement.rows if one.believed_asleep and not one.drew_asleep)
        asleep_s = sum(one.time_s for one in self.agreement.rows if one.believed_asleep)
        if not asleep_s or row.time_s < _WORTH_TELLING * asleep_s:
            return (
                f"While the firmware reports sleep, the device draws less than {self._threshold}: sleep is confirmed."
            )
        share = percent_text(row.time_s / asleep_s).rich
        mean, charge = quantity_text(row.mean_a, "A").rich, quantity_text(row.charge_c, "C").rich
        return f"For {share} of the sleep that the firmware reports, the device draws {mean}: {charge}."

    @property
    def _threshold(self) -> str:
        return quantity_text(self.agreement.threshold_a, "A").rich if self.agreement is not None else ""

    def text(self) -> str:
        if self.agreement is None:
            return ""
        lines = ["reported asleep\tcurrent asleep\tcount\ttime_s\tcharge_c\tmean_a"]
        lines += [
            f"{row.believed_asleep}\t{row.drew_asleep}\t{row.count}\t{row.time_s:.9g}\t{row.charge_c:.9g}\t"
            f"{row.mean_a or 0:.9g}"
            for row in self.agreement.rows
        ]
        return "\n".join(lines)


def _place_row(place: Disagreement) -> list[tuple[str, float | str]]:
    words = "asleep" if place.believed_asleep else "awake"
    length_s = place.to_s - place.from_s
    return [
        (words, words),
        (f"{place.from_s:.3f} s", place.from_s),
        (str(duration_text(length_s)), length_s),
        (str(quantity_text(place.mean_a, "A")), place.mean_a or 0.0),
        (str(quantity_text(place.charge_c, "C")), place.charge_c),
    ]
