"""Textures: states of one decade are told apart by them, and never by another hue.

Cross-hatching is only for what is unplaced, coarse slanting only for what spills over the budget, fine slanting
for what is predicted or gated.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPen, QPixmap

from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import decade

PLAIN, DOTS, BARS, RINGS, CROSS, COARSE, FINE = "plain", "dots", "bars", "rings", "cross", "coarse", "fine"
_BY_ORDER = (PLAIN, DOTS, BARS, RINGS)


@dataclass(frozen=True)
class Swatch:
    """How a state looks: the colour of its mean current and a texture."""

    color: QColor
    texture: str = PLAIN


def swatches(look: Appearance, means_a: Iterable[tuple[str, float | None]]) -> dict[str, Swatch]:
    """Give each state its swatch; states of one decade get different textures, in their order."""
    used: dict[int, int] = {}
    found = {}
    for name, mean_a in means_a:
        place = round(decade(mean_a or 0.0))
        order = used.get(place, 0)
        used[place] = order + 1
        texture = CROSS if name == UNPLACED_NAME else _BY_ORDER[order % len(_BY_ORDER)]
        found[name] = Swatch(look.theme.ramp.color(mean_a), texture)
    return found


def fill(painter: QPainter, rect: QRectF, swatch: Swatch, ground: QColor) -> None:
    """Fill a rectangle with a swatch."""
    if swatch.texture in (CROSS, COARSE, FINE):
        painter.fillRect(rect, ground)
        painter.fillRect(rect, texture_brush(swatch.texture, swatch.color))
        return
    painter.fillRect(rect, swatch.color)
    if swatch.texture != PLAIN:
        shade = swatch.color.darker(150) if swatch.color.lightnessF() > 0.4 else swatch.color.lighter(160)
        painter.fillRect(rect, texture_brush(swatch.texture, shade))


def texture_brush(texture: str, color: QColor) -> QBrush:
    """Return a brush that draws a texture in a colour on nothing."""
    return _brush(texture, color.rgba())


@lru_cache(maxsize=256)
def _brush(texture: str, rgba: int) -> QBrush:
    color = QColor.fromRgba(rgba)
    side = {DOTS: 6, BARS: 5, RINGS: 8, CROSS: 6, COARSE: 8, FINE: 4}[texture]
    tile = QPixmap(side, side)
    tile.fill(Qt.GlobalColor.transparent)
    painter = QPainter(tile)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, texture not in (DOTS, BARS))
    if texture == DOTS:
        painter.fillRect(QRectF(1, 1, 2, 2), color)
        painter.fillRect(QRectF(4, 4, 2, 2), color)
    elif texture == BARS:
        painter.fillRect(QRectF(1, 0, 2, side), color)
    elif texture == RINGS:
        painter.setPen(QPen(color, 1.2))
        painter.drawEllipse(QPointF(4, 4), 2.4, 2.4)
    else:
        width = {CROSS: 1.2, COARSE: 3.4, FINE: 1.0}[texture]
        painter.setPen(QPen(color, width))
        for shift in (-side, 0, side):
            painter.drawLine(QPointF(shift, side), QPointF(shift + side, 0))
            if texture == CROSS:
                painter.drawLine(QPointF(shift, 0), QPointF(shift + side, side))
    painter.end()
    return QBrush(tile)
