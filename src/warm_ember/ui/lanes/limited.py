"""A channel with its band limited, drawn as a line over the channel as it was measured, and what the line hides."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QPainter

from warm_ember.model.arrays import Floats
from warm_ember.signal.band_limit import BandLimited
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import duration_text, format_distinct

_AS_HIGH = 0.995


def limited_of(results: LaneData | None, channel: str) -> BandLimited | None:
    """Return a channel of a run with its band limited; None where it is shown as it was measured."""
    return results.limited.get(channel) if results is not None else None


def course_of(limited: BandLimited, window: TimeWindow, columns: int) -> Floats:
    """Return the line: the mean in each column of pixels, shape ``(columns,)``, NaN where nothing was measured."""
    return np.asarray(window.envelope(limited, columns)[1].mean, dtype=np.float64)


def hidden_words(limited: BandLimited, unit: str) -> str:
    """Return what a limit hides, as rich text."""
    words = f"line: nothing shorter than {duration_text(limited.shortest_s).rich}"
    if not limited.highest < _AS_HIGH * limited.highest_measured:
        return words
    measured, shown = (text.rich for text in format_distinct(limited.highest_measured, limited.highest, unit))
    return f"{words}; the highest, {measured}, shows as {shown}"


def paint_hidden(painter: QPainter, rect: QRectF, limited: BandLimited, unit: str, look: Appearance) -> None:
    """Write what a limit hides into the upper right corner of a plot."""
    words, gap = hidden_words(limited, unit), look.px(6)
    wide = min(width_of(look, words, "small") + 2 * gap, rect.width())
    box = QRectF(rect.right() - wide, rect.top(), wide, look.px(16))
    painter.fillRect(box, look.theme.sunken)  # it stands before what is drawn there
    right = Qt.AlignmentFlag.AlignRight
    draw_rich_text(painter, box.adjusted(gap, 0, -gap, 0), words, look, size="small", dim=look.theme.ink, align=right)
