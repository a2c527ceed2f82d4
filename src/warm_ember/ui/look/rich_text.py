"""Text with marks: ``**9.62** s`` sets the figure heavier than its unit."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter

from warm_ember.model.figure import Bound, Figure, signed
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.units import quantity_text

_RUN = re.compile(r"\*\*(.+?)\*\*")


@dataclass(frozen=True)
class TextRun:
    """A piece of text of one weight."""

    text: str
    bold: bool


@lru_cache(maxsize=4096)
def runs_of(rich: str) -> tuple[TextRun, ...]:
    """Split rich text into runs.

    Examples
    --------
    >>> [(run.text, run.bold) for run in runs_of("takes **9.62** s")]
    [('takes ', False), ('9.62', True), (' s', False)]
    """
    parts = _RUN.split(rich)
    return tuple(TextRun(text, bool(index % 2)) for index, text in enumerate(parts) if text)


def plain(rich: str) -> str:
    """Return rich text without its marks."""
    return rich.replace("**", "")


def rich_figure(figure: Figure, unit: str) -> str:
    """Return a figure as rich text: its number, or the bound that is known of it behind its sign."""
    # What a noise or a step resolves is known to two digits at best.
    digits = 2 if figure.bound is Bound.BELOW else 3
    return signed(figure.bound, quantity_text(figure.shown, unit, digits).rich)


def width_of(look: Appearance, rich: str, size: str = "normal") -> float:
    """Return the width of rich text."""
    return sum(look.width(run.text, size, bold=run.bold) for run in runs_of(rich))


def draw_rich_text(
    painter: QPainter,
    rect: QRectF,
    rich: str,
    look: Appearance,
    *,
    size: str = "normal",
    ink: QColor | None = None,
    dim: QColor | None = None,
    align: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignLeft,
    on: QColor | None = None,
) -> float:
    """Draw rich text on one line, elided at its end where it does not fit.

    Parameters
    ----------
    painter, rect
        Where; the line is centred in the height.
    rich
        The text.
    look, size
        Theme and type size.
    ink, dim
        Colours of the heavy and of the light runs.
    align
        Left, right or centre.
    on
        A ground to paint under the text.

    Returns
    -------
    float
        The width drawn.
    """
    _note(painter, rect, plain(rich))
    ink, dim = ink or look.theme.ink, dim or look.theme.dim
    runs = [(run.text, run.bold, look.width(run.text, size, bold=run.bold)) for run in runs_of(rich)]
    width = sum(length for _, _, length in runs)
    left = rect.left()
    if align == Qt.AlignmentFlag.AlignRight:
        left = max(left, rect.right() - width)
    elif align == Qt.AlignmentFlag.AlignHCenter:
        left = max(left, rect.center().x() - width / 2)
    metrics = look.metrics(size)
    if on is not None:
        height = metrics.height()
        painter.fillRect(QRectF(left - 3, rect.center().y() - height / 2, min(width, rect.width()) + 6, height), on)
    baseline = rect.center().y() + (metrics.ascent() - metrics.descent()) / 2
    limit, x = rect.right() + 0.5, left
    for text, bold, length in runs:
        shown = text
        if x + length > limit and x + look.width(text.rstrip(), size, bold=bold) > limit:
            room = max(0.0, limit - x)
            shown = look.metrics(size, bold=bold).elidedText(text, Qt.TextElideMode.ElideRight, room)
        painter.setFont(look.font(size, bold=bold))
        painter.setPen(ink if bold else dim)
        painter.drawStaticText(
            QPointF(x, baseline - look.metrics(size, bold=bold).ascent()), look.prepared(shown, size, bold=bold)
        )
        if shown != text:
            return x + look.width(shown, size, bold=bold) - left
        x += length
    return x - left


def draw_wrapped(
    painter: QPainter, rect: QRectF, text: str, look: Appearance, *, size: str = "small", ink: QColor | None = None
) -> None:
    """Draw plain text on as many lines as it takes, from the top of a rectangle."""
    _note(painter, rect, text)
    painter.setFont(look.font(size))
    painter.setPen(ink or look.theme.ink)
    painter.drawText(rect, int(Qt.TextFlag.TextWordWrap), text)


class DrawnText(NamedTuple):
    """Words that were drawn, whole even where they were elided, and where."""

    words: str
    box: QRectF


_drawn: list[DrawnText] | None = None


@contextmanager
def noting_drawn() -> Iterator[list[DrawnText]]:
    """Note all words that are drawn: what the eye reads is what a screen reader and the clipboard get."""
    global _drawn
    before, _drawn = _drawn, []
    try:
        yield _drawn
    finally:
        _drawn = before


def _note(painter: QPainter, rect: QRectF, words: str) -> None:
    if _drawn is not None and words.strip():
        _drawn.append(DrawnText(words.strip(), painter.combinedTransform().mapRect(rect)))


def draw_chip(painter: QPainter, rect: QRectF, letter: str, look: Appearance) -> None:
    """Draw the chip of a bracket or of a picked run: its letter on the colour of the reader's marks."""
    painter.fillRect(rect, look.theme.mark)
    ink = ink_on(look.theme.mark)
    draw_rich_text(painter, rect, f"**{letter}**", look, size="small", ink=ink, align=Qt.AlignmentFlag.AlignHCenter)
