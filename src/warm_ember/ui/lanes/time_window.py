"""The one window on time that all lanes of a stack share."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal

from warm_ember.signal.envelope import Columns, Envelope, envelope, per_column
from warm_ember.signal.series import Series

_SHORTEST_SAMPLES = 4
_HISTORY = 100


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
        self._drawn: dict[tuple[Series, int], tuple[Envelope, Columns]] = {}
        self.changed.connect(self._drawn.clear)

    def envelope(self, series: Series, columns: int) -> tuple[Envelope, Columns]:
        """Return a channel's bins and pixel columns in this window; lanes that show the same share them."""
        key = (series, columns)
        if key not in self._drawn:
            bins = envelope(series, self.from_s, self.to_s, columns)
            self._drawn[key] = (bins, per_column(bins, self.from_s, self.to_s, columns))
        return self._drawn[key]

    @property
    def length_s(self) -> float:
        """Length of the window."""
        return self.to_s - self.from_s

    def set_capture(self, duration_s: float, interval_s: float) -> None:
        """Show another capture, all of it."""
        self.duration_s, self.interval_s = max(duration_s, interval_s), interval_s
        self._history = []
        self.from_s, self.to_s = 0.0, self.duration_s
        self.cursor_s = None
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
        self.from_s, self.to_s = start, start + length
        self.changed.emit()

    def fit(self) -> None:
        """Show all of the capture."""
        self.show(0.0, self.duration_s)

    def back(self) -> None:
        """Go back to the window before."""
        if self._history:
            self.from_s, self.to_s = self._history.pop()
            self.changed.emit()

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
