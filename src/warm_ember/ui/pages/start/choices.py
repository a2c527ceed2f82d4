"""The four ways in, as large keys, and the title with the ramp that says how long a battery lasts."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFont, QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QAbstractButton, QSizePolicy

from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import DAY_S, MONTH_S, YEAR_S, duration_text, format_significant, format_trimmed, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.start_figures import DecadeLives

TITLE = "From amperes to months"
_QUESTION = ("Where does the charge go, and what do I change", "so that the battery lasts?")
_FIRST, _LAST = -9, 0
_LONG_S = 10 * YEAR_S
_TITLE_SCALE = 1.9
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTRE = Qt.AlignmentFlag.AlignHCenter


class TitleScale(PaintedView):
    """The title over the heat ramp, and under each decade of current how long the demo's battery lasts at it."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.lives: DecadeLives | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self._follow()
        look.changed.connect(self._follow)

    def _follow(self) -> None:
        self.setFixedHeight(self._look.px(136))
        self.update()

    def show_lives(self, lives: DecadeLives) -> None:
        """Show how long the battery lasts at each decade."""
        self.lives = lives
        self.setAccessibleName(f"{TITLE}. {' '.join(_QUESTION)}")
        self.setAccessibleDescription(
            "; ".join(f"{quantity_text(a, 'A', 1)}: {life_words(life_s)}" for a, life_s in lives.lives_s)
        )
        self.update()

    def x_of(self, current_a: float) -> float:
        """Return where a current stands on the ramp."""
        margin = self._look.px(16)
        share = (math.log10(current_a) - _FIRST) / (_LAST - _FIRST)
        return margin + share * (self.width() - 2 * margin)

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        font = QFont(look.font("large"))  # a copy: everybody shares that one
        font.setPointSizeF(font.pointSizeF() * _TITLE_SCALE)
        painter.setFont(font)
        painter.setPen(theme.ink)
        painter.drawText(QRectF(px(16), px(8), self.width(), px(48)), int(Qt.AlignmentFlag.AlignVCenter), TITLE)
        if self.width() > px(860):
            for line, words in enumerate(_QUESTION):
                box = QRectF(0, px(14 + 18 * line), self.width() - px(16), px(18))
                draw_rich_text(painter, box, words, look, align=_RIGHT)
        top, high = px(78), px(8)
        for x in range(self.width()):
            current_a = 10 ** (_FIRST + (x - px(16)) / max(1, self.width() - 2 * px(16)) * (_LAST - _FIRST))
            painter.fillRect(QRectF(x, top, 1, high), theme.ramp.color(min(max(current_a, 1e-9), 1.0)))
        self._paint_decades(painter, top + high)
        self._paint_target(painter, top, high)
        painter.end()

    def _paint_decades(self, painter: QPainter, top: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        lives = dict(self.lives.lives_s) if self.lives is not None else {}
        said_long = False
        for decade in range(_FIRST, _LAST + 1):
            current_a = 10.0**decade
            x = self.x_of(current_a)
            painter.setPen(theme.faint)
            painter.drawLine(QPointF(x, top), QPointF(x, top + px(5)))
            align = Qt.AlignmentFlag.AlignLeft if decade == _FIRST else _RIGHT if decade == _LAST else _CENTRE
            left = x if decade == _FIRST else x - px(110) if decade == _LAST else x - px(55)
            draw_rich_text(
                painter, QRectF(left, top + px(6), px(110), px(16)), quantity_text(current_a, "A", 1).rich, look,
                size="small", align=align,
            )  # fmt: skip
            life_s = lives.get(current_a)
            words = ""
            if decade == _FIRST and lives:
                words = "lasts on four FR6 cells, 6.0 Ah"
                box = QRectF(left, top + px(22), px(260), px(16))
            elif life_s is not None and life_s >= _LONG_S:
                is_last_long = lives.get(10.0 ** (decade + 1), 0.0) < _LONG_S
                words, said_long = (life_words(life_s), True) if is_last_long and not said_long else ("", said_long)
                box = QRectF(left - px(30), top + px(22), px(170), px(16))
            elif life_s is not None:
                words, box = life_words(life_s), QRectF(left, top + px(22), px(110), px(16))
            if words:
                draw_rich_text(painter, box, words, look, size="small", dim=theme.faint, align=align)

    def _paint_target(self, painter: QPainter, top: float, high: float) -> None:
        lives = self.lives
        if lives is None or lives.budget_a is None:
            return
        look, theme, px = self._look, self._look.theme, self._look.px
        x = self.x_of(lives.budget_a)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.ink, 2))
        painter.drawLine(QPointF(x, top - px(4)), QPointF(x, top + high + px(4)))
        painter.setBrush(theme.ink)
        painter.setPen(Qt.PenStyle.NoPen)
        tip = [QPointF(x - px(5), top - px(8)), QPointF(x + px(5), top - px(8)), QPointF(x, top - px(2))]
        painter.drawPolygon(QPolygonF(tip))
        months = format_trimmed(lives.target_s / MONTH_S)
        words = f"{quantity_text(lives.budget_a, 'A').rich} all the time for **{months}** months: the demo’s target"
        draw_rich_text(painter, QRectF(x + px(12), top - px(19), px(420), px(16)), words, look, size="small")


def life_words(life_s: float) -> str:
    """Return how long a battery lasts, in the unit that people use for it.

    Examples
    --------
    >>> life_words(20 * YEAR_S), life_words(7.1 * MONTH_S), life_words(22 * DAY_S), life_words(5.2 * 3600)
    ('over 10 years', '7.1 months', '22 days', '5.2 h')
    """
    if life_s > _LONG_S:
        return "over 10 years"
    if life_s >= 2 * MONTH_S:
        return f"{format_significant(life_s / MONTH_S, 2)} months"
    if life_s >= DAY_S:
        return f"{format_significant(life_s / DAY_S, 2)} days"
    return str(duration_text(life_s, 2))


class ChoiceCard(QAbstractButton):
    """One way in: what it does as a heading, a sentence, and its key."""

    def __init__(self, look: Appearance, heading: str, words: str, key: str) -> None:
        super().__init__()
        self._look, self._words, self._key = look, words, key
        self.setText(heading)
        self.setAccessibleName(f"{heading}, key {key}")
        self.setAccessibleDescription(words)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def height_for(self, width: int) -> int:
        """Return how high the card has to be for all of its words."""
        px = self._look.px
        box = self._look.metrics().boundingRect(
            QRectF(0, 0, max(width - px(32), px(80)), 4000), int(Qt.TextFlag.TextWordWrap), self._words
        )
        return round(box.height()) + px(58)

    def sizeHint(self) -> QSize:
        return QSize(self._look.px(300), self.height_for(self._look.px(300)))

    def minimumSizeHint(self) -> QSize:
        return QSize(self._look.px(150), self._look.px(96))

    def keyPressEvent(self, event: object) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):  # type: ignore[attr-defined]
            self.click()
        else:
            super().keyPressEvent(event)  # type: ignore[arg-type]

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        box = QRectF(self.rect()).adjusted(3.5, 3.5, -3.5, -3.5)
        painter.fillRect(box, theme.mark_ground if self.underMouse() or self.isDown() else theme.raised)
        painter.setPen(QPen(theme.mark if self.hasFocus() else theme.rule, 1))
        painter.drawRect(box)
        if self.hasFocus():
            painter.drawRect(box.adjusted(-3, -3, 3, 3))
        heading = QRectF(box.left() + px(14), box.top() + px(10), box.width() - px(60), px(26))
        fits = width_of(look, self.text(), "large") <= heading.width()
        text = self.text() if fits else f"**{self.text()}**"
        draw_rich_text(painter, heading, text, look, size="large" if fits else "normal", dim=theme.ink)
        paint_key(painter, QRectF(box.right() - px(36), box.top() + px(12), px(22), px(20)), self._key, look)
        painter.setFont(look.font())
        painter.setPen(theme.dim)
        words = QRectF(box.left() + px(14), box.top() + px(42), box.width() - px(26), box.height() - px(46))
        painter.drawText(words, int(Qt.TextFlag.TextWordWrap), self._words)
        painter.end()


def paint_key(painter: QPainter, box: QRectF, key: str, look: Appearance) -> None:
    """Paint a key in its frame, as wide as it needs."""
    box = box.adjusted(min(0.0, box.width() - width_of(look, key, "small") - look.px(12)), 0, 0, 0)
    painter.fillRect(box, look.theme.ground)
    painter.setPen(QPen(look.theme.rule, 1))
    painter.drawRect(box)
    draw_rich_text(painter, box, key, look, size="small", dim=look.theme.ink, align=_CENTRE)
