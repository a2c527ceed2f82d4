"""One project that was open before: its picture, where it lies, its runs, its life against its target, and when."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QSizePolicy

from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.heat import columns_from, heat_picture, log_scale
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.start.choices import paint_key
from warm_ember.units import MONTH_S, counted, format_significant, format_trimmed

if TYPE_CHECKING:
    from warm_ember.session.recent import RecentProject

_HEIGHT = 64
_PICTURE = 192
_RIGHT = Qt.AlignmentFlag.AlignRight
_ROOMY = 1100


class RecentRow(QAbstractButton):
    """A row of the recent projects; Enter or a click opens it, its own key finds or saves it.

    Signals
    -------
    more_asked
        What stands at its right is to be done: *Locate* for a project that is gone, *Save as* for one without a name.
    """

    more_asked = Signal()

    def __init__(self, look: Appearance, entry: RecentProject, key: str, more: str, more_key: str) -> None:
        super().__init__()
        self._look, self.entry, self._key, self._more, self._more_key = look, entry, key, more, more_key
        self.is_there = entry.is_there
        self.setText(entry.name)
        self.setAccessibleName(
            f"{entry.name}, {counted(entry.runs, 'run')}, {self.life_text}, {when_text(entry.opened_utc)}"
        )
        self.setAccessibleDescription(self.place)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(look.px(_HEIGHT))

    def sizeHint(self) -> QSize:
        return QSize(self._look.px(700), self._look.px(_HEIGHT))

    @property
    def place(self) -> str:
        """Where the project lies, shortened by the home folder."""
        home, path = str(Path.home()), self.entry.path
        place = path.removeprefix(home + "/") if home != "/" else path
        return place if self.is_there else f"{place}: the folder is not there"

    @property
    def life_text(self) -> str:
        """The life against the target."""
        entry = self.entry
        if entry.life_s is None or not entry.target_s:
            return "no battery chosen yet"
        return f"{format_significant(entry.life_s / MONTH_S)} of {format_trimmed(entry.target_s / MONTH_S)} months"

    @property
    def _more_box(self) -> QRectF:
        px = self._look.px
        return QRectF(self.width() - px(168), (self.height() - px(32)) / 2, px(120), px(32))

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._more and self._more_box.contains(event.position()):
            self.setDown(False)
            self.more_asked.emit()
        else:
            super().mouseReleaseEvent(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        elif self._more and event.text().upper() == self._more_key:
            self.more_asked.emit()
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        if self.underMouse():
            painter.fillRect(self.rect(), theme.raised)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(1.5, 1.5, -1.5, -2.5))
        self._paint_picture(painter, QRectF(px(16), px(10), px(_PICTURE), self.height() - px(20)))
        self._paint_columns(painter)
        if self._more and self.width() >= px(_ROOMY):
            self._paint_more(painter)
        if self._key:
            side = px(20)
            paint_key(painter, QRectF(self.width() - px(36), (self.height() - side) / 2, side, side), self._key, look)
        painter.end()

    def _paint_columns(self, painter: QPainter) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        ink = theme.ink if self.is_there else theme.faint
        left, roomy = px(232), self.width() >= px(_ROOMY)
        room = (px(544) if roomy else self.width() - px(300)) - left
        draw_rich_text(painter, QRectF(left, px(14), room, px(18)), f"**{self.entry.name}**", look, ink=ink)
        draw_rich_text(painter, QRectF(left, px(34), room, px(16)), self.place, look, size="small", dim=theme.faint)
        if roomy:
            runs = QRectF(left + room - px(20), 0, px(52), self.height())
            draw_rich_text(painter, runs, f"**{self.entry.runs}**", look, ink=ink, align=_RIGHT)
            self._paint_life(painter, QRectF(px(608), 0, px(232), self.height()))
            words = when_text(self.entry.opened_utc)
            box = QRectF(px(968), 0, self.width() - px(968 + 184), self.height())
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
        months = QRectF(px(850) if roomy else self.width() - px(300), 0, px(114), self.height())
        draw_rich_text(painter, months, self._months, look, ink=ink, align=_RIGHT)

    def _paint_more(self, painter: QPainter) -> None:
        look, theme, px, box = self._look, self._look.theme, self._look.px, self._more_box
        painter.fillRect(box, theme.ground)
        painter.setPen(QPen(theme.rule, 1))
        painter.drawRect(box)
        words, key = box.adjusted(px(8), 0, 0, 0), box.adjusted(0, 0, -px(8), 0)
        draw_rich_text(painter, words, self._more, look, size="small", dim=theme.ink)
        draw_rich_text(painter, key, self._more_key, look, size="small", dim=theme.faint, align=_RIGHT)

    @property
    def _months(self) -> str:
        entry = self.entry
        if entry.life_s is None or not entry.target_s:
            return "–"
        return f"**{format_significant(entry.life_s / MONTH_S)}** of **{format_trimmed(entry.target_s / MONTH_S)}**"

    def _paint_picture(self, painter: QPainter, box: QRectF) -> None:
        theme, picture = self._look.theme, self.entry.picture
        painter.fillRect(box, theme.sunken)
        if picture is None or not self.is_there:
            if not self.is_there:
                painter.fillRect(box, texture_brush(FINE, theme.faint))
            return
        columns = columns_from(picture.low, picture.high, picture.mean)
        positive = columns.mean[columns.mean > 0]
        if len(positive):
            rows = max(1, round(box.height()))
            scale = log_scale(float(positive.min()), float(np.nanmax(columns.high)))
            draw_pixels(painter, box, heat_picture(columns, scale, rows, theme, ground=np.zeros(rows, dtype=bool)))

    def _paint_life(self, painter: QPainter, box: QRectF) -> None:
        """Paint the life from 0 to twice the target, so that the target stands in the same place in every row."""
        look, theme, px, entry = self._look, self._look.theme, self._look.px, self.entry
        middle = box.center().y()
        if entry.life_s is None or not entry.target_s:
            draw_rich_text(painter, box, "no battery chosen yet", look, size="small")
            return
        painter.fillRect(QRectF(box.left(), middle - px(6), box.width(), px(12)), theme.sunken)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(box.left(), middle + px(6)), QPointF(box.right(), middle + px(6)))
        share = min(entry.life_s / (2 * entry.target_s), 1.0)
        bar = QRectF(box.left(), middle - px(6), max(share * box.width(), 1.0), px(12))
        if self.is_there:
            painter.fillRect(bar, theme.ramp.color(entry.mean_a))
        else:
            painter.fillRect(bar, texture_brush(FINE, theme.faint))
        painter.setPen(QPen(theme.ink if self.is_there else theme.faint, 2))
        notch = box.left() + box.width() / 2
        painter.drawLine(QPointF(notch, middle - px(11)), QPointF(notch, middle + px(11)))


def when_text(utc: str, now: datetime | None = None) -> str:
    """Return when something was, as people say it: today, yesterday, a weekday within a week, else the date.

    Examples
    --------
    >>> now = datetime(2026, 3, 12, 15, tzinfo=UTC)
    >>> when_text("2026-03-11T17:20:00+00:00", now)[:9], when_text("2026-01-20T10:00:00+00:00", now), when_text("", now)
    ('yesterday', '20 January', '')
    """
    try:
        then = datetime.fromisoformat(utc).astimezone()
    except ValueError:
        return ""
    today = (now or datetime.now(UTC)).astimezone()
    days = (today.date() - then.date()).days
    if days == 0:
        return f"today, {then:%H:%M}"
    if days == 1:
        return f"yesterday, {then:%H:%M}"
    if 1 < days < 7:
        return f"{then:%A, %H:%M}"
    return f"{then.day} {then:%B}" if then.year == today.year else f"{then.day} {then:%B %Y}"
