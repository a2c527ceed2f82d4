"""Slack: by how much later a source may wake the device, and what letting it would save."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen

from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, format_trimmed, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Saving, WakeLedger


_TOP, _ROW = 28, 44
_NAME, _WORDS = 134, 330
_MOST = 3
_NOTHING = 0.002
_KEY_STEP = 1.15
_RIGHT = Qt.AlignmentFlag.AlignRight


class SlackStrip(PaintedView):
    """A track for each timer, with what each slack saves drawn along it; its handle is dragged, or moved by the arrows.

    Signals
    -------
    slack_entered
        ``(source, s)``: a slack was let go of.
    """

    paints_focus = True
    slack_entered = Signal(str, float)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.ledger: WakeLedger | None = None
        self.savings: dict[str, Saving] = {}
        self.chosen = ""
        self.moved: tuple[str, float] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Slack of timers")
        self.setToolTip("How late a source may run; drag the handle, or choose a source and press left and right")
        look.changed.connect(self._arrange)

    def show_ledger(self, ledger: WakeLedger | None) -> None:
        """Show another run."""
        self.ledger, self.savings, self.moved = ledger, {}, None
        self._arrange()

    def show_saving(self, saving: Saving) -> None:
        """Show what the slacks of one source save."""
        self.savings[saving.source] = saving
        self.update()

    def choose(self, source: str) -> None:
        """Show this source's track too; an empty name shows none beside the timers'."""
        self.chosen = source
        self._arrange()

    @property
    def sources(self) -> list[str]:
        """Sources whose tracks are shown: the chosen one, those with slack, and timers."""
        ledger = self.ledger
        if ledger is None:
            return []
        rows = [row for row in ledger.sources if row.count > 1]
        rank = {
            row.source: (row.source != self.chosen, not ledger.slack_s.get(row.source), not row.periods) for row in rows
        }
        shown = sorted((row.source for row in rows if not all(rank[row.source])), key=lambda name: rank[name])[:_MOST]
        return [row.source for row in ledger.sources if row.source in shown]

    def _arrange(self) -> None:
        px = self._look.px
        self.setFixedHeight(px(_TOP) + px(_ROW) * max(len(self.sources), 1) + px(4))
        self.update()

    def track(self, index: int) -> QRectF:
        """Return where a source's track is."""
        px = self._look.px
        top = px(_TOP) + index * px(_ROW)
        return QRectF(px(_NAME), top + px(4), max(self.width() - px(_NAME + 16) - self._words_width, 60), px(22))

    @property
    def _words_width(self) -> float:
        """Width of what is said right of a track."""
        return min(self._look.px(_WORDS), 0.46 * self.width())

    def slack_of(self, source: str) -> float:
        """Return the slack that is shown: the one that is being dragged, else the project's."""
        if self.moved is not None and self.moved[0] == source:
            return self.moved[1]
        return self.ledger.slack_s.get(source, 0.0) if self.ledger is not None else 0.0

    @staticmethod
    def _share(saving: Saving, slack_s: float) -> float:
        """Return where a slack is on its track: logarithmic, with 0 at the left end."""
        low, high = float(saving.slack_s[1]), float(saving.slack_s[-1])
        if slack_s < low:
            return 0.0
        return min(0.04 + 0.96 * math.log(slack_s / low) / math.log(high / low), 1.0)

    @staticmethod
    def _slack_at(saving: Saving, share: float) -> float:
        low, high = float(saving.slack_s[1]), float(saving.slack_s[-1])
        return 0.0 if share < 0.02 else float(low * (high / low) ** min(max((share - 0.04) / 0.96, 0.0), 1.0))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        if self.ledger is not None:
            title = QRectF(px(16), px(6), px(300), px(18))
            draw_rich_text(painter, title, "Slack: how late a timer may run", look, dim=theme.ink)
            left, now = format_trimmed(self.ledger.aligned.rate_per_h), format_trimmed(self.ledger.rate_per_h)
            words = f"aligned: **{left}** wakes/h instead of **{now}**"
            right = QRectF(px(320), px(6), self.width() - px(336), px(18))
            draw_rich_text(painter, right, words, look, size="small", align=_RIGHT)
            for index, source in enumerate(self.sources):
                self._paint_source(painter, index, source, self.ledger)
            if not self.sources:
                words = "No source wakes the device more than once with a period; choose one to try a slack."
                draw_rich_text(painter, QRectF(px(16), px(_TOP), self.width() - px(32), px(20)), words, look)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 1.5, -0.5, -0.5))
        painter.end()

    def _paint_source(self, painter: QPainter, index: int, source: str, ledger: WakeLedger) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        track = self.track(index)
        name = QRectF(px(24), track.top(), px(_NAME - 30), track.height())
        draw_rich_text(painter, name, f"**{source}**" if source == self.chosen else source, look, dim=theme.ink)
        painter.fillRect(track, theme.sunken)
        saving = self.savings.get(source)
        words = QRectF(track.right() + px(16), track.top() - px(2), self._words_width - px(16), px(18))
        if saving is None:
            draw_rich_text(painter, words, "trying slacks …", look, size="small")
            return
        most_a = float(saving.saved_a.max(initial=0.0))
        row = ledger.row(source)
        color = theme.ramp.color(row.charge_c_mean / row.awake_s_mean if row and row.awake_s_mean > 0 else 0.0)
        for at in range(1, len(saving.slack_s)):
            left = track.left() + self._share(saving, float(saving.slack_s[at])) * track.width()
            end = track.right()
            if at + 1 < len(saving.slack_s):
                end = track.left() + self._share(saving, float(saving.slack_s[at + 1])) * track.width()
            tall = float(saving.saved_a[at]) / most_a * track.height() if most_a > 0 else 0.0
            painter.fillRect(QRectF(left, track.bottom() - max(tall, 0.0), end - left, max(tall, 0.0)), color)
        middle_s, last_s = float(saving.slack_s[len(saving.slack_s) // 2]), float(saving.slack_s[-1])
        for slack_s in (0.0, middle_s, last_s) if track.width() > px(160) else (0.0, last_s):
            x = track.left() + self._share(saving, slack_s) * track.width()
            label = "0" if not slack_s else str(duration_text(slack_s, 2))
            box = QRectF(x - px(40), track.bottom() + px(1), px(80), px(14))
            align = Qt.AlignmentFlag.AlignHCenter
            if not slack_s:
                box, align = QRectF(track.left(), box.top(), px(60), box.height()), Qt.AlignmentFlag.AlignLeft
            elif slack_s == last_s:
                box, align = QRectF(track.right() - px(80), box.top(), px(80), box.height()), _RIGHT
            draw_rich_text(painter, box, label, look, size="small", align=align, dim=theme.faint)
        self._paint_handle(painter, track, saving, source)
        self._paint_words(painter, words, saving, source, ledger)

    def _paint_handle(self, painter: QPainter, track: QRectF, saving: Saving, source: str) -> None:
        theme, px = self._look.theme, self._look.px
        x = track.left() + self._share(saving, self.slack_of(source)) * track.width()
        painter.setPen(QPen(theme.mark, 2))
        painter.drawLine(QPointF(x, track.top() - px(2)), QPointF(x, track.bottom()))
        painter.fillRect(QRectF(x - px(5), track.top() - px(4), px(10), px(7)), theme.mark)

    def _paint_words(self, painter: QPainter, box: QRectF, saving: Saving, source: str, ledger: WakeLedger) -> None:
        look, px = self._look, self._look.px
        slack_s = self.slack_of(source)
        at = int(np.searchsorted(saving.slack_s, slack_s * (1 + 1e-9), side="right")) - 1
        saved_a, spared = float(saving.saved_a[at]), int(saving.spared[at])
        when = f"at {duration_text(slack_s).rich}" if slack_s else "without slack"
        if spared <= 0:
            words = f"{when} no wakes are merged"
        else:
            little = saved_a < _NOTHING * ledger.mean_a
            gain = quantity_text(saved_a, "A", 2).rich
            words = f"{when} **{spared}** wakes join others: {'only ' if little else ''}{gain} saved"
        draw_rich_text(painter, box, words, look, size="small")
        most = float(saving.saved_a.max(initial=0.0))
        best = int(np.argmax(saving.saved_a >= 0.98 * most)) if most > 0 else 0
        second = "no slack would save anything"
        if best:
            from_s = duration_text(float(saving.slack_s[best]), 2).rich
            second = f"at most {quantity_text(most, 'A', 2).rich}, from {from_s} on"
        draw_rich_text(painter, box.translated(0, px(16)), second, look, size="small", dim=look.theme.faint)

    def _row_at(self, point: QPointF) -> str:
        for index, source in enumerate(self.sources):
            track = self.track(index)
            if track.adjusted(-8, -8, 8, 12).contains(point):
                return source
        return ""

    def _move(self, source: str, x: float) -> None:
        saving = self.savings.get(source)
        if saving is not None:
            track = self.track(self.sources.index(source))
            self.moved = (source, float(f"{self._slack_at(saving, (x - track.left()) / track.width()):.3g}"))
            self.update()

    def _drop(self) -> None:
        if self.moved is not None:
            self.slack_entered.emit(*self.moved)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        source = self._row_at(event.position())
        if source:
            self._move(source, event.position().x())

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if self.moved is not None and event.buttons() & Qt.MouseButton.LeftButton:
            self._move(self.moved[0], event.position().x())

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._drop()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Right: _KEY_STEP, Qt.Key.Key_Left: 1 / _KEY_STEP}.get(Qt.Key(event.key()))
        source = self.chosen if self.chosen in self.sources else next(iter(self.sources), "")
        saving = self.savings.get(source)
        if event.key() == Qt.Key.Key_Escape and self.moved is not None:
            self.moved = None
            self.update()
        elif step is not None and saving is not None:
            low, high = float(saving.slack_s[1]), float(saving.slack_s[-1])
            slack_s = self.slack_of(source) * step if self.slack_of(source) else (low if step > 1 else 0.0)
            self.moved = (source, 0.0 if slack_s < 0.99 * low else float(f"{min(slack_s, high):.3g}"))
            self._drop()
        else:
            super().keyPressEvent(event)
