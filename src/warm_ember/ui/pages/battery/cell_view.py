"""The cell: its curves, each typed under its own picture, and the check by a constant discharge."""

from __future__ import annotations

import html
from collections.abc import Callable
from dataclasses import dataclass

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

from warm_ember.model.allowed import Allowed
from warm_ember.model.arrays import Floats
from warm_ember.model.battery import Battery, Cell, Points
from warm_ember.session.battery_results import CellRun
from warm_ember.session.cells import CELL_NUMBERS, REFERENCE_C, cell_of
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.points_edit import PointsEdit
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import ampere_hours_text, format_trimmed, percent_text, quantity_text

_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTER = Qt.AlignmentFlag.AlignHCenter
_DEGREES = (-40.0, 60.0)


@dataclass(frozen=True)
class _Curve:
    """What one picture shows."""

    field: str
    title: str
    across: str
    unit: str


_CURVES = (
    _Curve("ocv_v", "voltage without a load", "state of charge", "V"),
    _Curve("resistance_by_charge", "resistance by charge", "state of charge", "×"),
    _Curve("resistance_by_temperature", "resistance by temperature", "°C", "×"),
    _Curve("capacity_by_temperature", "what can be taken by temperature", "°C", "%"),
    _Curve("capacity_by_load", "what can be taken by mean current", "A", "%"),
    _Curve("", "self-discharge by temperature", "°C", "% a year"),
)


class _Picture(PaintedView):
    """One curve."""

    reads_as = "Curve of the cell"

    def __init__(self, look: Appearance, curve: _Curve) -> None:
        super().__init__(look)
        self._look, self._curve = look, curve
        self.points: list[tuple[float, float]] = []
        self.measured: tuple[Floats, Floats] | None = None
        self.modelled: tuple[Floats, Floats] | None = None
        self.setMinimumHeight(look.px(84))
        look.changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        head = QRectF(0, 0, self.width(), px(18))
        draw_rich_text(painter, head, self._curve.title, look, size="small", dim=theme.ink)
        plot = QRectF(px(54), px(20), self.width() - px(60), self.height() - px(38))
        painter.fillRect(plot, theme.sunken)
        if not self.points:
            draw_rich_text(painter, plot, "not known", look, size="small", align=_CENTER, dim=theme.faint)
            painter.end()
            return
        lines = [np.array(self.points)]
        lines += [np.column_stack(one) for one in (self.measured, self.modelled) if one is not None]
        every = np.vstack(lines)
        along = self._along(every[:, 0])
        low_x, high_x = float(along.min()), float(along.max())
        low, high = float(every[:, 1].min()), float(every[:, 1].max())
        if high - low < 1e-9:
            low, high = low - 0.5 * abs(low or 1), high + 0.5 * abs(high or 1)

        def at(values: np.ndarray) -> list[QPointF]:
            across = (self._along(values[:, 0]) - low_x) / max(high_x - low_x, 1e-12)
            up = (values[:, 1] - low) / (high - low)
            return [
                QPointF(plot.left() + a * plot.width(), plot.bottom() - px(3) - b * (plot.height() - px(6)))
                for a, b in zip(across.tolist(), up.tolist(), strict=True)
            ]

        self._paint_curves(painter, at)
        self._paint_ends(painter, plot, (low, high), (float(every[:, 0].min()), float(every[:, 0].max())))
        painter.end()

    def _paint_curves(self, painter: QPainter, at: Callable[[np.ndarray], list[QPointF]]) -> None:
        theme, px = self._look.theme, self._look.px
        painter.setPen(QPen(theme.ink, 1.6))
        points = at(np.array(self.points))
        painter.drawPolyline(QPolygonF(points))
        painter.setPen(QPen(theme.ink, px(4), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawPoints(QPolygonF(points))
        if self.measured is not None:
            painter.setPen(QPen(theme.mark, px(3), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPoints(QPolygonF(at(np.column_stack(self.measured))))
        if self.modelled is not None:
            painter.setPen(QPen(theme.mark, 1.4, Qt.PenStyle.DashLine))
            painter.drawPolyline(QPolygonF(at(np.column_stack(self.modelled))))

    def _paint_ends(
        self, painter: QPainter, plot: QRectF, values: tuple[float, float], places: tuple[float, float]
    ) -> None:
        """Write the lowest and highest value beside the plot, and where it begins and ends below it."""
        look, px = self._look, self._look.px
        for value, y in ((values[1], plot.top() + px(6)), (values[0], plot.bottom() - px(6))):
            box = QRectF(0, y - px(8), px(50), px(16))
            draw_rich_text(painter, box, self._value(value), look, size="small", align=_RIGHT)
        foot = QRectF(plot.left(), plot.bottom() + px(1), plot.width(), px(16))
        draw_rich_text(painter, foot, self._place(places[0]), look, size="small")
        draw_rich_text(painter, foot, self._place(places[1]), look, size="small", align=_RIGHT)
        draw_rich_text(painter, foot, self._curve.across, look, size="small", align=_CENTER, dim=look.theme.faint)

    def _along(self, values: np.ndarray) -> np.ndarray:
        return np.log(np.maximum(values, 1e-12)) if self._curve.across == "A" else values

    def _value(self, value: float) -> str:
        if self._curve.unit.startswith("%"):
            return str(percent_text(value))
        return f"{format_trimmed(value)} {self._curve.unit}"

    def _place(self, value: float) -> str:
        if self._curve.across == "A":
            return str(quantity_text(value, "A", 2))
        return str(percent_text(value)) if self._curve.across == "state of charge" else f"{format_trimmed(value)}"


class CellView(QWidget):
    """A cell's figures and curves.

    Signals
    -------
    cell_entered
        The cell as it is to be.
    discharge_asked
        A current at which to empty it.
    from_discharges_asked, check_asked, open_asked, save_asked
        What the keys at the foot ask for.
    refused
        What was expected of a field.
    """

    cell_entered = Signal(object)
    discharge_asked = Signal(float)
    from_discharges_asked = Signal()
    check_asked = Signal()
    open_asked = Signal()
    save_asked = Signal()
    refused = Signal(str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.cell: Cell | None = None
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(22), px(8), px(12), px(6))
        column.setSpacing(px(6))
        self.head = Label()
        self.head.setTextFormat(Qt.TextFormat.RichText)
        self.head.setWordWrap(True)
        column.addWidget(self.head)
        self.numbers: dict[str, QuantityEdit] = {}
        column.addLayout(self._build_numbers())
        self.pictures: dict[str, _Picture] = {}
        self.edits: dict[str, PointsEdit] = {}
        column.addLayout(self._build_curves(), 1)
        column.addLayout(self._build_check())
        column.addLayout(self._build_keys())

    def _build_numbers(self) -> QGridLayout:
        look, px = self._look, self._look.px
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(6))
        grid.setVerticalSpacing(px(2))
        fields = (
            ("capacity_c", "rated charge", "C"), ("resistance_ohm", "resistance", "Ω"),
            ("self_discharge_per_year", "lost a year", "%"), ("self_discharge_doubles_k", "doubles every", "K"),
            ("resistance_growth_per_year", "grows a year", "%"), ("ocv_v_per_k", "voltage by warmth", "V/K"),
            ("shelf_years", "years on the shelf", ""),
        )  # fmt: skip
        for index, (field, words, unit) in enumerate(fields):
            edit = QuantityEdit(look, unit, words, 84, allowed=CELL_NUMBERS[field])
            edit.value_entered.connect(lambda value, field=field: self._enter(**{field: value}))
            edit.refused.connect(self.refused)
            label = Label(words)
            for widget in (label, edit):
                widget.setFont(look.font("small"))
            row, side = divmod(index, 4)
            grid.addWidget(label, row, 2 * side)
            grid.addWidget(edit, row, 2 * side + 1)
            self.numbers[field] = edit
        grid.setColumnStretch(8, 1)
        return grid

    def _build_curves(self) -> QGridLayout:
        look, px = self._look, self._look.px
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(14))
        grid.setVerticalSpacing(px(2))
        for index, curve in enumerate(_CURVES):
            row, side = divmod(index, 3)
            picture = _Picture(look, curve)
            grid.addWidget(picture, 2 * row, side)
            grid.setColumnStretch(side, 1)
            grid.setRowStretch(2 * row, 1)
            self.pictures[curve.field] = picture
            if not curve.field:
                continue
            edit = PointsEdit(look, f"Points of {curve.title}", ((0.0, 1.0), (1.0, 1.78)))
            edit.points_entered.connect(lambda points, field=curve.field: self._enter(**{field: points}))
            edit.refused.connect(self.refused)
            grid.addWidget(edit, 2 * row + 1, side)
            self.edits[curve.field] = edit
        return grid

    def _build_check(self) -> QHBoxLayout:
        look, px = self._look, self._look.px
        row = QHBoxLayout()
        row.setSpacing(px(8))
        label = Label("emptied by a constant")
        self.current = QuantityEdit(look, "A", "current of the check", 76, allowed=Allowed(above=True))
        self.current.value_entered.connect(self.discharge_asked)
        self.current.refused.connect(self.refused)
        self.verdict = Label()
        self.verdict.setWordWrap(True)
        for widget in (label, self.current, self.verdict):
            widget.setFont(look.font("small"))
            row.addWidget(widget, 1 if widget is self.verdict else 0)
        return row

    def _build_keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(self._look.px(8))
        for words, key, signal in (
            ("Against a discharge …", "Ctrl+K", self.check_asked),
            ("From discharges …", "Ctrl+J", self.from_discharges_asked),
            ("Open …", "Ctrl+L", self.open_asked),
            ("Save …", "Ctrl+U", self.save_asked),
        ):
            button = KeyButton(self._look, words, key)
            button.clicked.connect(signal.emit)
            row.addWidget(button)
        row.addStretch(1)
        return row

    def show_cell(self, battery: Battery, name: str) -> None:
        """Show the battery's cell."""
        cell = cell_of(battery)
        self.cell = cell
        if cell is None:
            self.head.setText("No cell chosen: choose one at the right, or make one from a measured discharge.")
        else:
            origin = cell.origin or "typed"
            what = cell.what if cell.what != name else ""
            self.head.setText(f"<b>{html.escape(name)}</b>  {html.escape(what)}  <i>{html.escape(origin)}</i>")
        for field, edit in self.numbers.items():
            edit.setEnabled(cell is not None)
            edit.set_value(None if cell is None else getattr(cell, field))
        for curve in _CURVES:
            picture = self.pictures[curve.field]
            picture.points = list(_points_of(cell, curve)) if cell is not None else []
            picture.update()
            if curve.field:
                self.edits[curve.field].setEnabled(cell is not None)
                self.edits[curve.field].set_points(() if cell is None else getattr(cell, curve.field))

    def show_run(self, run: CellRun | None) -> None:
        """Show how the cell empties by a constant current, and what was measured of that."""
        picture = self.pictures["ocv_v"]
        picture.measured, picture.modelled = None, None
        if run is None or self.cell is None or not self.cell.capacity_c:
            self.verdict.setText("")
            picture.update()
            return
        self.current.set_value(run.current_a)
        capacity_c = self.cell.capacity_c
        picture.modelled = (1 - run.drawn_c / capacity_c, run.volts)
        gives = ampere_hours_text(float(run.drawn_c[-1]))
        words = f"gives {gives} down to {quantity_text(run.end_v, 'V')}"
        if run.check is not None:
            measured = run.check.measured
            picture.measured = (1 - measured.drawn_c / capacity_c, measured.voltage_v)
            off = format_trimmed(100 * run.check.charge_difference)
            words = (
                f"gives {gives} where {ampere_hours_text(measured.charge_c)} were measured ({off} %), "
                f"voltage within {quantity_text(run.check.worst_v, 'V', 2)}"
            )
        self.verdict.setText(words)
        picture.update()

    def _enter(self, **changes: object) -> None:
        if self.cell is not None:
            self.cell_entered.emit(msgspec.structs.replace(self.cell, **changes))


def _points_of(cell: Cell, curve: _Curve) -> Points:
    if curve.field:
        points: Points = getattr(cell, curve.field)
        return points
    if cell.self_discharge_doubles_k is None or not cell.self_discharge_per_year:
        return ()
    degrees = np.linspace(*_DEGREES, 11)
    lost = cell.self_discharge_per_year * 2.0 ** ((degrees - REFERENCE_C) / cell.self_discharge_doubles_k)
    return tuple(zip(degrees.tolist(), lost.tolist(), strict=True))
