"""The battery and its supply stage, each figure typed where it stands, and what they allow."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QVBoxLayout, QWidget

from warm_ember.model.allowed import BATTERY, SUPPLY, TARGET_S
from warm_ember.model.battery import SupplyKind
from warm_ember.model.figure import Grade, signed
from warm_ember.model.project import Project
from warm_ember.session.battery_results import UnseenLife
from warm_ember.session.cells import cell_name, library
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, draw_wrapped
from warm_ember.ui.look.textures import CROSS, FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.sentences import rests_on
from warm_ember.ui.widgets.drag_label import DragLabel
from warm_ember.ui.widgets.points_edit import PointsEdit
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import MONTH_S, ampere_hours_text, format_trimmed, months_text, percent_text, quantity_text

_NO_CELL = "no cell"
_WHOLE = ("series", "parallel")
_ALLOWED = {"battery": BATTERY, "supply": SUPPLY, "project": {"target_s": TARGET_S}}
_RIGHT = Qt.AlignmentFlag.AlignRight


class _Usable(PaintedView):
    """The capacity as a bar: usable, lost to self-discharge, kept as reserve; and the months it gives."""

    reads_as = "Charge of the battery"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.results: RunResults | None = None
        self.others: tuple[RunResults, ...] = ()
        self.rests_on = ""
        self.setMinimumHeight(look.px(140))

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.results is None:
            return
        painter = QPainter(self)
        self._paint_bar(painter, self.results)
        self._paint_budget(painter, self.results)
        self._paint_months(painter, self.results)
        self._paint_rests_on(painter)
        painter.end()

    def _paint_rests_on(self, painter: QPainter) -> None:
        """Write under the months what of the capture they rest on, where there is room for it."""
        px = self._look.px
        box = QRectF(0, px(142 + 20 * len(self.others)), self.width() - 1, self.height())
        box.setBottom(self.height())
        draw_wrapped(painter, box, self.rests_on, self._look, ink=self._look.theme.dim)

    def _paint_bar(self, painter: QPainter, results: RunResults) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        life = results.life
        capacity = life.capacity_c
        bar = QRectF(0, px(2), self.width() - 1, px(24))
        x = bar.left()
        parts = (
            (life.used_c, None),
            (life.lost_c, FINE),
            (max(capacity - life.used_c - life.lost_c, 0.0), CROSS),
        )
        for charge, texture in parts:
            width = bar.width() * charge / capacity if capacity else 0.0
            part = QRectF(x, bar.top(), width, bar.height())
            if texture is None:
                painter.fillRect(part, theme.dim)
                words = f"{ampere_hours_text(charge).rich} used by the load"
                draw_rich_text(
                    painter,
                    part.adjusted(px(8), 0, 0, 0),
                    words,
                    look,
                    size="small",
                    ink=theme.sunken,
                    dim=theme.sunken,
                )
            else:
                painter.fillRect(part, theme.raised)
                painter.fillRect(part, texture_brush(texture, theme.faint))
            x += width
        left = f"self-discharge {ampere_hours_text(life.lost_c).rich}"
        right = f"left over {ampere_hours_text(max(capacity - life.used_c - life.lost_c, 0.0)).rich}"
        row = QRectF(0, bar.bottom() + px(2), self.width(), px(16))
        draw_rich_text(painter, row, left, look, size="small")
        draw_rich_text(painter, row, right, look, size="small", align=_RIGHT)

    def _paint_budget(self, painter: QPainter, results: RunResults) -> None:
        px, theme = self._look.px, self._look.theme
        life = results.life
        y = px(52)
        if life.budget_a is not None and life.target_s is not None:
            allow = quantity_text(life.budget_a, "A").rich if life.budget_a > 0 else "**nothing**"
            self._pair(painter, y, f"**{format_trimmed(life.target_s / MONTH_S)}** months allow", allow)
        takes = signed(results.load.bound, quantity_text(life.mean_a, "A").rich)
        self._pair(painter, y + px(20), f"{results.run.label} takes", takes)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, y - px(4)), QPointF(self.width(), y - px(4)))
        painter.drawLine(QPointF(0, y + px(44)), QPointF(self.width(), y + px(44)))

    def _pair(self, painter: QPainter, y: float, left: str, right: str) -> None:
        box = QRectF(0, y, self.width() - 1, self._look.px(20))
        draw_rich_text(painter, box, left, self._look)
        draw_rich_text(painter, box, right, self._look, size="large", align=_RIGHT)

    def _paint_months(self, painter: QPainter, results: RunResults) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        y = px(100)
        target_s = results.life.target_s
        heads = ["Months", "low", "median", "high", f"past {format_trimmed(target_s / MONTH_S)}" if target_s else ""]
        columns = (0, 128, 190, 246, 318)
        for text, right in zip(heads, columns, strict=True):
            box = QRectF(0, y, px(120), px(16)) if not right else QRectF(px(right - 70), y, px(70), px(16))
            draw_rich_text(
                painter, box, text, look, size="small", align=_RIGHT if right else Qt.AlignmentFlag.AlignLeft
            )
        for index, one in enumerate((results, *self.others)):
            top = y + px(18 + 20 * index)
            if top + px(20) > self.height():
                break
            painter.fillRect(QRectF(0, top + px(3), px(4), px(14)), theme.ramp.color(one.load.mean_a))
            draw_rich_text(painter, QRectF(px(10), top, px(60), px(20)), one.run.name, look, dim=theme.ink)
            lives = (one.life.p10_s, one.life.p50_s, one.life.p90_s)
            for life_s, right in zip(lives, columns[1:4], strict=True):
                draw_rich_text(
                    painter,
                    QRectF(px(right - 70), top, px(70), px(20)),
                    f"**{months_text(life_s).number}**",
                    look,
                    align=_RIGHT,
                )
            chance = one.life.chance
            if chance is not None:
                color = theme.warning_text if chance < 0.5 else theme.ink
                text = f"**{chance * 100:.0f}** %"
                draw_rich_text(painter, QRectF(px(248), top, px(70), px(20)), text, look, ink=color, align=_RIGHT)


class BatteryPanel(QWidget):
    """The panel at the right of the Battery page.

    Signals
    -------
    changed
        ``(part, field, value)``: ``"battery"``, ``"supply"`` or ``"project"``.
    dragged
        The same on the way, while a value is being dragged.
    given_up
        A drag was given up.
    refused
        What was expected of a field.
    """

    changed = Signal(str, str, object)
    dragged = Signal(str, str, object)
    given_up = Signal()
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(4), px(12), px(4))
        column.setSpacing(px(2))
        self.title = Label()
        column.addWidget(self.title)
        self.grid = QGridLayout()
        self.grid.setHorizontalSpacing(px(6))
        self.grid.setVerticalSpacing(px(2))
        column.addLayout(self.grid)
        self._build_fields()
        self.usable = _Usable(look)
        column.addWidget(self.usable, 1)

    def _build_fields(self) -> None:
        self.cell_box = QComboBox()
        self.cell_box.addItem(_NO_CELL)
        self.cell_box.addItems(list(library()))
        self.cell_box.setAccessibleName("Cell")
        self.cell_box.activated.connect(self._on_cell)
        self.supply_box = QComboBox()
        self.supply_box.addItems([kind.value for kind in SupplyKind])
        self.supply_box.setAccessibleName("Supply stage")
        self.supply_box.activated.connect(
            lambda _i: self.changed.emit("supply", "kind", SupplyKind(self.supply_box.currentText()))
        )
        self.fields: dict[tuple[str, str], QuantityEdit] = {}
        self._labels: dict[tuple[str, str], QLabel] = {}
        self._place(0, 0, "cell", self.cell_box)
        self._place(0, 1, "supply", self.supply_box)
        for row, side, words, part, field, unit in (
            (1, 0, "in series", "battery", "series", ""), (1, 1, "efficiency", "supply", "efficiency", "%"),
            (2, 0, "in parallel", "battery", "parallel", ""), (2, 1, "output", "supply", "output_v", "V"),
            (3, 0, "capacity", "battery", "capacity_c", "C"), (3, 1, "quiescent", "supply", "quiescent_a", "A"),
            (4, 0, "reserve", "battery", "reserve", "%"), (4, 1, "least input", "supply", "min_v", "V"),
            (5, 0, "lost a year", "battery", "self_discharge_per_year", "%"),
            (5, 1, "cut-off", "battery", "cutoff_v", "V"),
            (6, 0, "target", "project", "target_s", "s"), (6, 1, "capacitor", "supply", "input_f", "F"),
        ):  # fmt: skip
            edit = QuantityEdit(self._look, unit, words, 92, allowed=_ALLOWED[part][field])
            edit.value_entered.connect(lambda value, p=part, f=field: self._on_value(p, f, value))
            edit.refused.connect(self.refused)
            self.fields[part, field] = edit
            label = Label(words) if field in _WHOLE else self._handle(words, edit, part, field)
            self._labels[part, field] = self._place(row, side, label, edit)
        self.by_load = PointsEdit(self._look, "efficiency by load", ((1e-5, 0.7), (0.1, 0.93)), "A")
        self.by_load.points_entered.connect(lambda points: self.changed.emit("supply", "efficiency_by_load", points))
        self.by_load.refused.connect(self.refused)
        self._by_load_label = Label("by load")
        self._by_load_label.setFont(self._look.font("small"))
        self.grid.addWidget(self._by_load_label, 7, 0)
        self.grid.addWidget(self.by_load, 7, 1, 1, 3)

    def _handle(self, words: str, edit: QuantityEdit, part: str, field: str) -> DragLabel:
        label = DragLabel(self._look, words, edit)
        label.dragged.connect(lambda value: self.dragged.emit(part, field, value))
        label.dropped.connect(lambda value: self.changed.emit(part, field, value))
        label.given_up.connect(self.given_up)
        return label

    def _place(self, row: int, side: int, label: QLabel | str, widget: QWidget) -> QLabel:
        label = Label(label) if isinstance(label, str) else label
        label.setFont(self._look.font("small"))
        widget.setFont(self._look.font("small"))
        self.grid.addWidget(label, row, 2 * side)
        self.grid.addWidget(widget, row, 2 * side + 1)
        return label

    def _on_value(self, part: str, field: str, value: float) -> None:
        sent: Any = max(1, round(value)) if field in _WHOLE else value
        self.changed.emit(part, field, sent)

    def _on_cell(self, _index: int) -> None:
        text = self.cell_box.currentText()
        self.changed.emit("battery", "cell", None if text == _NO_CELL else text)

    def show_project(self, project: Project) -> None:
        """Show battery, supply and target."""
        battery, supply = project.battery, project.supply
        for (part, field), edit in self.fields.items():
            source: Any = {"battery": battery, "supply": supply, "project": project}[part]
            edit.set_value(getattr(source, field))
        cell = cell_name(battery) or _NO_CELL
        if self.cell_box.findText(cell) < 0:
            self.cell_box.addItem(cell)
        self.cell_box.setCurrentText(cell)
        self.supply_box.setCurrentText(supply.kind.value)
        switching = supply.kind is SupplyKind.SWITCHING
        for field in ("efficiency", "output_v"):
            for widget in (self.fields["supply", field], self._labels["supply", field]):
                widget.setVisible(switching)
        self.fields["supply", "efficiency"].setEnabled(not supply.efficiency_by_load)
        self.by_load.set_points(supply.efficiency_by_load)
        self.by_load.setVisible(switching)
        self._by_load_label.setVisible(switching)
        cells = battery.series * battery.parallel
        name = f"{cells} × {cell} as {battery.series}S{battery.parallel}P" if battery.cell else "no cell chosen"
        note = "" if battery.grade is Grade.ENTERED else "  (assumed)"
        self.title.setText(f"Battery   {name}{note}")

    def show_results(
        self, results: RunResults | None, others: tuple[RunResults, ...], unseen: UnseenLife | None = None
    ) -> None:
        """Show what the battery allows, and what of the capture that rests on."""
        self.usable.results, self.usable.others = results, others
        self.usable.rests_on = rests_on(results, unseen) if results is not None else ""
        if results is not None:
            life = results.life
            chance = percent_text(life.chance) if life.chance is not None else ""
            self.usable.setAccessibleName(f"{months_text(life.life_s)}, {chance} past the target")
        self.usable.update()
