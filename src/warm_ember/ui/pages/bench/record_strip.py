"""The record key, and beside it what is being recorded: how long, how much disk is left, what was lost."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.recording_progress import RecordingProgress


KEY = "F9"
_COLUMNS = 3


class RecordKey(QAbstractButton):
    """The one large key: inverted ink, a disc to record and a square to stop."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.is_recording = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.set_recording(recording=False)

    def set_recording(self, *, recording: bool) -> None:
        """Show whether it records or stops."""
        self.is_recording = recording
        self.setText("Stop recording" if recording else "Record")
        self.setAccessibleName(f"{self.text()}, key {KEY}")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(self._look.px(232), self._look.px(76))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme, px = self._look.theme, self._look.px
        box = QRectF(self.rect()).adjusted(3, 3, -3, -3)
        painter.fillRect(box, theme.ink if not self.isDown() else theme.dim)
        if self.hasFocus() or self.underMouse():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        sign = QRectF(box.left() + px(20), box.center().y() - px(9), px(18), px(18))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.ground)
        if self.is_recording:
            painter.drawRect(sign)
        else:
            painter.drawEllipse(sign)
        words = QRectF(sign.right() + px(16), box.top() + px(10), box.right() - sign.right() - px(20), px(26))
        draw_rich_text(
            painter, words, f"**{self.text()}**", self._look, size="large", ink=theme.ground, dim=theme.ground
        )
        key = QRectF(words.left(), words.bottom(), words.width(), px(18))
        draw_rich_text(painter, key, KEY, self._look, size="small", ink=theme.ground, dim=theme.ground)
        painter.end()


class _Figures(PaintedView):
    """How far the recording is."""

    reads_as = "Recording so far"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.progress: RecordingProgress | None = None
        self.room_bytes: int | None = None
        self.doing = ""
        self.idle = ""
        self.size_words = ""
        self.setMinimumHeight(look.px(84))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        look, theme, px = self.look, self.look.theme, self.look.px
        right = Qt.AlignmentFlag.AlignRight
        progress = self.progress
        top = QRectF(0, px(6), self.width() - px(4), px(20))
        if progress is None:
            draw_rich_text(painter, top, self.doing or self.idle, look, dim=theme.ink)
            if self.room_bytes is not None:
                self._paint_column(painter, 0, self.size_words, "on disk", theme.ink)
                self._paint_column(painter, 1, quantity_text(self.room_bytes, "B").rich, "of disk left", theme.ink)
            painter.end()
            return
        name = QRectF(top.left(), top.top(), top.width() - px(100), top.height())
        draw_rich_text(painter, name, f"**{progress.name}**   {progress.state}", look)
        left_s, length_s = progress.left_s, progress.length_s
        ends = f"{duration_text(left_s)} left" if left_s is not None else "until it is stopped"
        draw_rich_text(painter, top, ends, look, size="small", align=right)
        bar = QRectF(0, px(30), self.width() - px(4), px(8))
        painter.fillRect(bar, theme.sunken)
        painter.setPen(theme.rule)
        painter.drawRect(bar)
        if length_s:
            share = min(1.0, progress.done_s / length_s)
            painter.fillRect(QRectF(bar.left(), bar.top(), bar.width() * share, bar.height()), theme.ink)
        self._paint_columns(painter, progress)
        painter.end()

    def _paint_columns(self, painter: QPainter, progress: RecordingProgress) -> None:
        theme, length_s = self.look.theme, progress.length_s
        columns = (
            (
                duration_text(progress.done_s).rich,
                f"of {duration_text(length_s)}" if length_s else f"{quantity_text(progress.samples, 'S')}",
                theme.ink,
            ),
            (
                duration_text(progress.room_s).rich if progress.room_s is not None else "",
                f"disk left, {quantity_text(progress.room_bytes, 'B').rich}",
                theme.ink,
            ),
            (
                f"**{progress.missing}**",
                "samples lost" + (f", {progress.gaps} gaps" if progress.gaps else ""),
                theme.warning_text if progress.missing else theme.ink,
            ),
        )
        for index, column in enumerate(columns):
            self._paint_column(painter, index, *column)

    def _paint_column(self, painter: QPainter, index: int, figure: str, words: str, ink: QColor) -> None:
        """Paint one of three figures with its words below."""
        px, width = self.look.px, self.width() / _COLUMNS
        align = Qt.AlignmentFlag.AlignRight if index == _COLUMNS - 1 else Qt.AlignmentFlag.AlignLeft
        box = QRectF(index * width, px(44), width - px(6), px(22))
        draw_rich_text(painter, box, figure, self.look, size="large", ink=ink, align=align)
        below = QRectF(box.left(), box.bottom(), box.width(), px(16))
        draw_rich_text(painter, below, words, self.look, size="small", align=align)


class RecordStrip(QWidget):
    """The record key with its figures."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        px = look.px
        self.key = RecordKey(look)
        self.figures = _Figures(look)
        row = QHBoxLayout(self)
        row.setContentsMargins(px(10), px(6), px(10), px(6))
        row.setSpacing(px(16))
        row.addWidget(self.key)
        row.addWidget(self.figures, 1)

    def show_progress(
        self, progress: RecordingProgress | None, room_bytes: int | None, *, recording: bool, doing: str
    ) -> None:
        """Show how far a recording is, or that none runs and what the disk has left."""
        if self.key.is_recording != recording:
            self.key.set_recording(recording=recording)
        figures = self.figures
        figures.progress, figures.room_bytes, figures.doing = progress, room_bytes, doing
        figures.update()
