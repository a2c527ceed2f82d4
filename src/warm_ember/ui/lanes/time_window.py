"""The one window on time that all lanes of a stack share."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta

from PySide6.QtCore import QObject, Signal

from warm_ember.signal.envelope import NOTHING, Envelope, PixelColumns, envelope, per_column
from warm_ember.signal.series import Series
from warm_ember.ui.lanes.window_reader import WindowReader

_SHORTEST_SAMPLES = 4
_HISTORY = 100
_DAY_S = 86400.0


class TimeWindow(QObject):
    """From when to when the lanes show, with a history to go back through."""

    changed = Signal()
    cursor_moved = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.from_s, self.to_s = 0.0, 1.0
        self.duration_s, self.interval_s = 1.0, 1e-3
        self.cursor_s: float | None = None
        self._history: list[tuple[float, float]] = []
        self._undone: list[tuple[float, float]] = []
        self.start: datetime | None = None
        self.shows_clock = False
        self.reader = WindowReader(self)
        self._drawn: dict[tuple[Series, int], tuple[Envelope, PixelColumns]] = {}
        self.changed.connect(self._drawn.clear)
        self.reader.arrived.connect(self._drawn.clear)

    def envelope(self, series: Series, columns: int) -> tuple[Envelope, PixelColumns]:
        """Return a channel's bins and pixel columns in this window; lanes that show the same share them.

        While they are being read, these are the bins of the window before where it overlaps with this one.
        """
        key, from_s, to_s = (series, columns), self.from_s, self.to_s
        if key not in self._drawn:
            bins = self.reader.read(
                ("window", *key), (from_s, to_s, series.samples), lambda: envelope(series, from_s, to_s, columns)
            )
            bins = NOTHING if bins is None else bins
            self._drawn[key] = (bins, per_column(bins, from_s, to_s, columns))
        return self._drawn[key]

    @property
    def length_s(self) -> float:
        """Length of the window."""
        return self.to_s - self.from_s

    def set_capture(self, duration_s: float, interval_s: float, start_utc: str = "") -> None:
        """Show another capture, all of it; times can be shown by the clock when its start is known."""
        self.reader.forget()
        self.duration_s, self.interval_s = max(duration_s, interval_s), interval_s
        self._history, self._undone = [], []
        self.start = _moment(start_utc)
        self.from_s, self.to_s = 0.0, self.duration_s
        self.cursor_s = None
        self.changed.emit()

    def grow(self, duration_s: float, span_s: float | None) -> None:
        """Show a recording that got longer; with a span its newest part of that length."""
        self.duration_s = max(duration_s, self.interval_s)
        if span_s is not None:
            self.from_s, self.to_s = max(0.0, self.duration_s - span_s), self.duration_s
        self.changed.emit()

    def show(self, from_s: float, to_s: float, *, remember: bool = True) -> None:
        """Show a stretch, kept within the capture and not shorter than a few samples."""
        length = min(max(to_s - from_s, _SHORTEST_SAMPLES * self.interval_s), self.duration_s)
        middle = (from_s + to_s) / 2
        start = min(max(middle - length / 2, 0.0), self.duration_s - length)
        if (start, start + length) == (self.from_s, self.to_s):
            return
        if remember:
            self._history = [*self._history[-_HISTORY:], (self.from_s, self.to_s)]
            self._undone = []
        self.from_s, self.to_s = start, start + length
        self.changed.emit()

    def fit(self) -> None:
        """Show all of the capture."""
        self.show(0.0, self.duration_s)

    def back(self) -> None:
        """Go back to the window before."""
        self._step(self._history, self._undone)

    def forward(self) -> None:
        """Go to the window that `back` came from."""
        self._step(self._undone, self._history)

    def _step(self, source: list[tuple[float, float]], target: list[tuple[float, float]]) -> None:
        if source:
            target.append((self.from_s, self.to_s))
            self.from_s, self.to_s = source.pop()
            self.changed.emit()

    def show_clock(self, by_clock: bool) -> None:
        """Show times of day instead of times from the start."""
        self.shows_clock = by_clock
        self.changed.emit()

    @property
    def origin_s(self) -> float:
        """Time of day at the capture's start, 0 while times are counted from it."""
        if not self.shows_clock or self.start is None:
            return 0.0
        midnight = self.start.replace(hour=0, minute=0, second=0, microsecond=0)
        return (self.start - midnight).total_seconds()

    def label(self, time_s: float, window_s: float) -> str:
        """Write a moment with as many decimals as a window of that length needs, by the clock when it is shown."""
        if not self.shows_clock or self.start is None:
            return clock_text(time_s, window_s)
        second = round(self.origin_s + time_s, _decimals(window_s))
        text = clock_text(second % _DAY_S, window_s, hours=True)
        if window_s < _DAY_S and second % _DAY_S:
            return text
        text = text[:5] if window_s >= _DAY_S else text
        day = (self.start + timedelta(seconds=second - self.origin_s)).strftime("%d %b")
        return f"{day} {text}" if window_s < 300 * _DAY_S else day

    def zoom(self, factor: float, around_s: float) -> None:
        """Zoom so that a moment stays where it is; factors above 1 show more."""
        length = min(max(self.length_s * factor, _SHORTEST_SAMPLES * self.interval_s), self.duration_s)
        share = (around_s - self.from_s) / self.length_s if self.length_s else 0.5
        start = around_s - share * length
        self.show(start, start + length, remember=False)

    def pan(self, by_s: float) -> None:
        """Move along the time axis."""
        start = min(max(self.from_s + by_s, 0.0), self.duration_s - self.length_s)
        self.show(start, start + self.length_s, remember=False)

    def set_cursor(self, time_s: float | None) -> None:
        """Put the reading cursor somewhere, or nowhere."""
        if time_s != self.cursor_s:
            self.cursor_s = time_s
            self.cursor_moved.emit(time_s)


def _moment(start_utc: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(start_utc)
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _decimals(window_s: float) -> int:
    return min(max(math.ceil(-math.log10(max(window_s, 1e-9) / 300)), 0), 9)


def clock_text(time_s: float, window_s: float, *, hours: bool = False) -> str:
    """Write a time as minutes and seconds, with as many decimals as a window of that length needs.

    Parameters
    ----------
    time_s
        From the capture's start, or of the day.
    window_s
        Length of the window that it is shown in.
    hours
        Write the hours even when they are 0.

    Examples
    --------
    >>> clock_text(75.25, 300.0), clock_text(75.2512, 0.5), clock_text(4000.0, 9000.0), clock_text(1e5, 2e5)
    ('1:15', '1:15.251', '1:06:40', '1d 3:46:40')
    """
    decimals = _decimals(window_s)
    rounded = round(time_s, decimals)
    days, rest = divmod(rounded, _DAY_S)
    whole_hours, rest = divmod(rest, 3600)
    minutes, seconds = divmod(rest, 60)
    tail = f"{seconds:0{3 + decimals if decimals else 2}.{decimals}f}"
    if hours:
        return f"{whole_hours:02.0f}:{minutes:02.0f}:{tail}"
    text = f"{whole_hours:.0f}:{minutes:02.0f}:{tail}" if whole_hours or days else f"{minutes:.0f}:{tail}"
    return f"{days:.0f}d {text}" if days else text
