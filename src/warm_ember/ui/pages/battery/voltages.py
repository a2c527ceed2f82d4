"""The voltage over a life, at rest and under the pulses, as it is drawn wherever a life is."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from warm_ember.model.arrays import Floats
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance

if TYPE_CHECKING:
    from warm_ember.session.records import LifeEstimate


_DRAWN = 140
_LEAST_SPAN_V = 0.05
NO_CELL = "Choose a cell to see its voltage: no voltage limit is applied without one."
CANNOT = "The battery cannot give this load at any voltage."


@dataclass(frozen=True, eq=False)
class Voltages:
    """What is drawn of a life's voltage, and the scale that it is drawn on.

    Parameters
    ----------
    times_s, rest_v, pulse_v
        Up to the end of the life; a pulse that the battery cannot carry is drawn at the foot, shape ``(n,)``.
    low_v, high_v
        Ends of the scale.
    end_v
        Where the device stops; 0 when it never does.
    """

    times_s: Floats
    rest_v: Floats
    pulse_v: Floats
    low_v: float
    high_v: float
    end_v: float

    def y_of(self, box: QRectF, volts: float) -> float:
        """Return where a voltage is in a box."""
        return float(box.bottom() - (volts - self.low_v) / (self.high_v - self.low_v) * box.height())

    def line(self, box: QRectF, xs: Floats, volts: Floats) -> list[QPointF]:
        """Return where voltages are in a box."""
        ys = box.bottom() - (volts - self.low_v) * (box.height() / (self.high_v - self.low_v))
        return list(map(QPointF, xs.tolist(), ys.tolist()))


def voltages_of(life: LifeEstimate) -> Voltages | str:
    """Return what is to be drawn of a life, or why there is nothing."""
    course = life.course
    if np.isnan(course.rest_v).all():
        return NO_CELL
    lived = (course.time_s[0] <= life.life_s) & np.isfinite(course.rest_v[0])
    if not lived.any():
        return CANNOT
    chosen = np.flatnonzero(lived)
    chosen = chosen[np.unique(np.linspace(0, len(chosen) - 1, _DRAWN).astype(np.int64))]
    times_s, rest_v, pulse_v = course.time_s[0][chosen], course.rest_v[0][chosen], course.pulse_v[0][chosen]
    carried = pulse_v[np.isfinite(pulse_v)]
    floor_v = course.end_v or math.inf
    low_v = min(float(carried.min(initial=float(rest_v.min()))), floor_v)
    high_v = max(float(rest_v.max()), course.end_v)
    span_v = max(high_v - low_v, _LEAST_SPAN_V)
    low_v, high_v = low_v - 0.07 * span_v, high_v + 0.1 * span_v
    return Voltages(times_s, rest_v, np.where(np.isfinite(pulse_v), pulse_v, low_v), low_v, high_v, course.end_v)


def paint_voltages(
    painter: QPainter,
    look: Appearance,
    box: QRectF,
    shown: Voltages,
    xs_of: Callable[[Floats], Floats],
    colors: tuple[QColor, QColor],
) -> None:
    """Draw the voltage at rest and under the pulses, what lies between them hatched, and where the device stops.

    Parameters
    ----------
    painter, look, box
        Where.
    shown
        What.
    xs_of
        Places times.
    colors
        Of the line at rest, and of that under the pulses.
    """
    xs = xs_of(shown.times_s)
    upper, lower = shown.line(box, xs, shown.rest_v), shown.line(box, xs, shown.pulse_v)
    area = QPainterPath()
    area.addPolygon(QPolygonF([*upper, *reversed(lower)]))
    painter.save()
    painter.setClipRect(box)
    painter.fillPath(area, texture_brush(FINE, look.theme.faint))
    painter.setPen(QPen(colors[1], 1.6))
    painter.drawPolyline(QPolygonF(lower))
    painter.setPen(QPen(colors[0], 2))
    painter.drawPolyline(QPolygonF(upper))
    painter.restore()
    if shown.end_v:
        y = shown.y_of(box, shown.end_v)
        painter.setPen(QPen(look.theme.dim, 1))
        painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
