"""The record key, and beside it what is being recorded: how long, how much disk is left, what was lost."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QWidget

from warm_ember.bench.recorder import Recorder
from warm_ember.store.room import room_left
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, quantity_text

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


class _Figures(QWidget):
    """How far the recording is."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self.recorder: Recorder | None = None
        self.folder: Path | None = None
        self.doing = ""
        self.idle = ""
        self.size_words = ""
        self.setMinimumHeight(look.px(84))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        look, theme, px = self.look, self.look.theme, self.look.px
        right = Qt.AlignmentFlag.AlignRight
        recorder = self.recorder
        top = QRectF(0, px(6), self.width() - px(4), px(20))
        if recorder is None:
            draw_rich_text(painter, top, self.doing or self.idle, look, dim=theme.ink)
            if self.folder is not None:
                self._paint_column(painter, 0, self.size_words, "on disk", theme.ink)
                self._paint_column(painter, 1, quantity_text(_room(self.folder), "B").rich, "of disk left", theme.ink)
            painter.end()
            return
        interval_s = recorder.job.settings.interval_s
        done_s = recorder.samples * interval_s
        name = QRectF(top.left(), top.top(), top.width() - px(100), top.height())
        draw_rich_text(painter, name, f"**{recorder.job.path.name.removesuffix('.h5')}**   {recorder.state}", look)
        length_s = recorder.job.settings.duration_s
        ends = f"{duration_text(max(0.0, length_s - done_s))} left" if length_s is not None else "until it is stopped"
        draw_rich_text(painter, top, ends, look, size="small", align=right)
        bar = QRectF(0, px(30), self.width() - px(4), px(8))
        painter.fillRect(bar, theme.sunken)
        painter.setPen(theme.rule)
        painter.drawRect(bar)
        if length_s:
            painter.fillRect(
                QRectF(bar.left(), bar.top(), bar.width() * min(1.0, done_s / length_s), bar.height()), theme.ink
            )
        self._paint_columns(painter, recorder, done_s, length_s)
        painter.end()

    def _paint_columns(self, painter: QPainter, recorder: Recorder, done_s: float, length_s: float | None) -> None:
        theme = self.look.theme
        room = _room(self.folder) if self.folder is not None else 0
        file = recorder.file
        rate = file.bytes_written / done_s if file is not None and done_s else 0.0
        columns = (
            (
                duration_text(done_s).rich,
                f"of {duration_text(length_s)}" if length_s else f"{quantity_text(recorder.samples, 'S')}",
                theme.ink,
            ),
            (
                duration_text(room / rate).rich if rate else "",
                f"disk left, {quantity_text(room, 'B').rich}",
                theme.ink,
            ),
            (
                f"**{recorder.missing}**",
                "samples lost" + (f", {recorder.gaps} gaps" if recorder.gaps else ""),
                theme.warning_text if recorder.missing else theme.ink,
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


def _room(folder: Path) -> int:
    """Return the room on the disk of a folder that may not exist yet."""
    return room_left(next(one for one in (folder, *folder.parents) if one.is_dir()))


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

    def show_recorder(self, recorder: Recorder | None, folder: Path | None, *, recording: bool, doing: str) -> None:
        """Show how far a recording is, or that none runs."""
        if self.key.is_recording != recording:
            self.key.set_recording(recording=recording)
        figures = self.figures
        figures.recorder, figures.folder, figures.doing = recorder, folder, doing
        figures.update()
