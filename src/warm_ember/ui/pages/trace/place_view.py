"""A stretch of the current drawn small, with the mark of what the eye is to find in it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QSizePolicy

from warm_ember.session.quality_pictures import PlacePicture
from warm_ember.session.quality_results import PassedCheck
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.heat import CurrentScale, heat_picture, log_scale
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, draw_wrapped
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance

_RIGHT = Qt.AlignmentFlag.AlignRight
_PICTURE = (260, 128)


def paint_place(painter: QPainter, box: QRectF, picture: PlacePicture, look: Appearance, *, is_fault: bool) -> None:
    """Paint a place; a fault is underlined in the warning colour, what a check looked at in the reader's marks."""
    theme, px, columns = look.theme, look.px, picture.columns
    painter.fillRect(box, theme.sunken)
    if np.isnan(columns.high).all():
        return
    rows = max(1, round(box.height()))
    scale = _scale_of(picture)
    draw_pixels(painter, box, heat_picture(columns, scale, rows, theme, ground=np.zeros(rows, dtype=bool)))
    left, right = (box.left() + min(max(share, 0.0), 1.0) * box.width() for share in picture.place)
    painter.setPen(QPen(theme.ink, 1))
    hatch = texture_brush(FINE, theme.dim)
    if picture.top_a is not None:
        top = box.bottom() - float(scale.height(np.array([picture.top_a]))[0]) * box.height()
        painter.fillRect(QRectF(box.left(), box.top(), box.width(), top - box.top()), hatch)
        painter.drawLine(QPointF(box.left(), top), QPointF(box.right(), top))
    elif picture.is_end:
        painter.fillRect(QRectF(right, box.top(), box.right() - right, box.height()), hatch)
        painter.drawLine(QPointF(right, box.top()), QPointF(right, box.bottom()))
    if right - left < 0.98 * box.width():
        painter.setPen(QPen(theme.warning if is_fault else theme.mark, 2))
        painter.drawLine(QPointF(left, box.bottom() - 1), QPointF(max(right, left + 2), box.bottom() - 1))
    if picture.words:
        words = box.adjusted(px(4), px(3), -px(4), 0)
        words.setHeight(px(16))
        draw_rich_text(painter, words, picture.words, look, size="small", align=_RIGHT, on=theme.sunken)


def _scale_of(picture: PlacePicture) -> CurrentScale:
    columns = picture.columns
    low, high = float(np.nanmin(columns.low)), float(np.nanmax(columns.high))
    if picture.is_log:
        positive = columns.mean[columns.mean > 0]
        return log_scale(float(positive.min()) if len(positive) else 1e-6, high * 1.5)
    room_a = max(high - low, 1e-12) * 0.6
    return CurrentScale(low - room_a, high + room_a, log=False)


class PassedCard(PaintedView):
    """A check that found nothing: the place that it looked at, and what it saw."""

    def __init__(self, look: Appearance, check: PassedCheck) -> None:
        super().__init__(look)
        self._look, self.check = look, check
        self.setAccessibleName(f"passed: {check.what}: {check.words}")
        self.setMinimumSize(look.px(240), look.px(60))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(self._look.px(400), self._look.px(72))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px, check = self._look, self._look.theme, self._look.px, self.check
        painter = QPainter(self)
        box = QRectF(0, 0, min(px(_PICTURE[0]), 0.52 * self.width()), min(px(_PICTURE[1]), self.height() - px(4)))
        if check.picture is not None:
            paint_place(painter, box, check.picture, look, is_fault=False)
        else:
            painter.fillRect(box, theme.sunken)
        left = box.right() + px(12)
        head = QRectF(left, 0, self.width() - left, px(18))
        draw_rich_text(painter, head, f"✓  {check.what}", look, dim=theme.ink)
        words = QRectF(left, px(21), self.width() - left - px(4), self.height() - px(21))
        draw_wrapped(painter, words, check.words, look, ink=theme.dim)
        painter.end()
