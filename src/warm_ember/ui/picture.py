"""Plots as SVG and PNG files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QBuffer, QPoint, QRect, QSize
from PySide6.QtGui import QImage, QPainter
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QApplication

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.project import Bracket, Note
from warm_ember.report.writing import check_ending, complete_or_nothing
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import DAY, Appearance, Theme

ENDINGS = (".svg", ".png")
MOST_WIDTH = 16_000
_SHARPNESS = 2
_SIZE = QSize(1280, 560)


def save_picture(
    path: Path, size: QSize, title: str, paint: Callable[[QPainter], None], *, width: int | None = None
) -> None:
    """Let a plot paint itself into a file.

    Parameters
    ----------
    path
        Ending in ``.svg`` or ``.png``; a PNG has twice the pixels.
    size
        Of the plot, on the screen.
    title
        For whoever opens the file.
    paint
        Paints the plot with its upper left corner at the origin.
    width
        How wide the picture is to be, in pixels; that of the plot when None, for a PNG twice that.

    Raises
    ------
    BadArgumentError
        If the ending is neither.
    BadFileError
        If the file cannot be written.
    """
    ending = check_ending(path, ENDINGS)
    if width is not None and not 16 <= width <= MOST_WIDTH:
        raise BadArgumentError(f"a picture is 16 to {MOST_WIDTH} pixels wide, found {width}")
    scale = (width or size.width()) / max(size.width(), 1)
    drawn = QSize(width or size.width(), max(round(size.height() * scale), 1))
    # Drawn in memory first: what the drawing library writes itself says nothing when the disk is full.
    data = QBuffer()
    data.open(QBuffer.OpenModeFlag.WriteOnly)
    if ending == ".svg":
        drawing = QSvgGenerator()
        drawing.setOutputDevice(data)
        drawing.setSize(drawn)
        drawing.setViewBox(QRect(QPoint(), drawn))
        drawing.setTitle(title)
        painter = QPainter(drawing)
        painter.scale(scale, scale)
        paint(painter)
        painter.end()
    else:
        picture = QImage(drawn * (1 if width else _SHARPNESS), QImage.Format.Format_RGB32)
        painter = QPainter(picture)
        painter.scale(picture.width() / max(size.width(), 1), picture.height() / max(size.height(), 1))
        paint(painter)
        painter.end()
        picture.save(data, "PNG")  # type: ignore[call-overload]
    content = bytes(data.data().data())
    if not content:
        raise BadFileError(path, "could not be drawn")
    with complete_or_nothing(path) as new:
        new.write(content)


def save_trace(
    results: RunResults,
    path: Path,
    stretch: tuple[float | None, float | None],
    *,
    brackets: tuple[Bracket, ...] = (),
    notes: tuple[Note, ...] = (),
    theme: Theme = DAY,
    width: int | None = None,
) -> None:
    """Draw the lanes of a run into a file, without a window."""
    application = QApplication.instance() or QApplication(["warm-ember"])
    window = TimeWindow()
    stack = LaneStack(Appearance(theme), window, with_flags=False)
    window.set_capture(results.capture.duration_s, results.capture.current.interval_s)
    begin, end = stretch
    window.show(0.0 if begin is None else begin, window.duration_s if end is None else end)
    stack.resize(_SIZE)
    stack.set_results(results)
    stack.current.set_brackets(brackets, "")
    stack.set_notes(notes)
    stack.grab()  # lays the lanes out
    save_picture(path, stack.size(), f"{results.run.label}", stack.paint_onto, width=width)
    stack.deleteLater()
    application.processEvents()
