"""The state ribbon: one labelled block per interval, stacked shares where blocks are narrower than a pixel."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter

from warm_ember.attribution.ledger import UNPLACED_NAME
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.shown import Shown
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.marked import draw_marked, width_of
from warm_ember.ui.look.textures import PLAIN, Swatch, fill, swatches
from warm_ember.ui.look.theme import Look, ink_on

_LABEL_MARGIN = 12
_LABEL_FROM = 24
_TEXTURE_FROM = 6


class RibbonLane(Lane):
    """States against time.

    Signals
    -------
    state_chosen
        The name of the state that was clicked.
    """

    name = "States"
    state_chosen = Signal(str)

    def __init__(self, look: Look, window: TimeWindow, height: int = 33) -> None:
        super().__init__(look, window, height)
        self._swatches: dict[str, Swatch] = {}
        self._preview: Placement | None = None

    def set_results(self, results: Shown | None) -> None:
        self._preview = None
        super().set_results(results)

    def set_preview(self, placement: Placement | None) -> None:
        """Show how states would be placed."""
        self._preview = placement
        self.refresh()

    @property
    def block_rect(self) -> QRectF:
        """Where the blocks are."""
        px = self.look.px
        return self.plot_rect.adjusted(0, px(5), 0, -px(5))

    def paint_plot(self, painter: QPainter) -> None:
        if self.results is None:
            return
        placement = self._preview or self.results.placement
        self._swatches = swatches(self.look, self.results.state_means)
        shown = _within(placement, *self._samples_shown)
        self._paint_shares(painter, shown)
        self._paint_blocks(painter, shown)

    @property
    def _samples_shown(self) -> tuple[float, float]:
        interval_s = self.results.capture.current.interval_s if self.results else 1.0
        return self.window_on_time.from_s / interval_s, self.window_on_time.to_s / interval_s

    def _swatch(self, placement: Placement, state: int) -> Swatch:
        name = UNPLACED_NAME if state == UNPLACED else placement.names[state]
        return self._swatches.get(name) or swatches(self.look, [(name, None)])[name]

    def _paint_shares(self, painter: QPainter, placement: Placement) -> None:
        """Paint every pixel column with the shares of the states in it, by stacked height."""
        rect = self.block_rect
        width, height = self.columns_of(rect), max(1, round(rect.height() * self.devicePixelRatioF()))
        columns = np.linspace(*self._samples_shown, width + 1)
        cuts = placement.edges[(placement.edges > columns[0]) & (placement.edges < columns[-1])]
        edges = np.union1d(columns, cuts)
        middles = (edges[:-1] + edges[1:]) / 2
        state = placement.state[
            np.clip(np.searchsorted(placement.edges, middles, side="right") - 1, 0, placement.intervals - 1)
        ]
        column = np.clip(((middles - columns[0]) / (columns[-1] - columns[0]) * width).astype(np.int64), 0, width - 1)
        states = np.unique(state)
        cell = np.searchsorted(states, state) * width + column
        shares = np.bincount(cell, weights=np.diff(edges), minlength=len(states) * width).reshape(len(states), width)
        tops = np.cumsum(shares / np.maximum(shares.sum(axis=0), 1e-30), axis=0) * height
        colors = np.array([self._swatch(placement, int(one)).color.rgb() for one in states], dtype=np.uint32)
        only = np.argmax(shares, axis=0)
        picture = np.empty((height, width), dtype=np.uint32)
        picture[:] = colors[only]
        mixed = np.flatnonzero((shares > 0).sum(axis=0) > 1)
        if len(mixed):
            row = np.arange(height)[:, None, None] + 0.5
            picture[:, mixed] = colors[np.argmax(row <= tops[:, mixed].T[None] + 1e-9, axis=2)]
        draw_pixels(painter, rect, picture)

    def _paint_blocks(self, painter: QPainter, placement: Placement) -> None:
        """Paint the wide blocks with texture, border and label."""
        rect, window = self.block_rect, self.window_on_time
        interval_s = self.results.capture.current.interval_s if self.results else 1.0
        starts = placement.edges[:-1] * interval_s
        ends = placement.edges[1:] * interval_s
        least_s = 3 / rect.width() * window.length_s
        wide = np.flatnonzero((ends > window.from_s) & (starts < window.to_s) & (ends - starts >= least_s))
        scale = rect.width() / window.length_s
        lefts = np.maximum(rect.left() + (starts[wide] - window.from_s) * scale, rect.left())
        rights = np.minimum(rect.left() + (ends[wide] - window.from_s) * scale, rect.right())
        states = placement.state[wide]
        looks = {state: self._swatch(placement, state) for state in np.unique(states).tolist()}
        rules: list[QLineF] = []
        for left, right, state in zip(lefts.tolist(), rights.tolist(), states.tolist(), strict=True):
            swatch = looks[state]
            rules.append(QLineF(right, rect.top(), right, rect.bottom()))
            if right - left < _TEXTURE_FROM:
                continue
            block = QRectF(left, rect.top(), right - left, rect.height())
            if swatch.texture != PLAIN:  # plain ones are painted already
                fill(painter, block, swatch, self.look.theme.sunken)
            if right - left > _LABEL_FROM:
                self._label(painter, block, placement, state, swatch)
        painter.setPen(self.look.theme.ground)
        painter.drawLines(rules)

    def _label(self, painter: QPainter, block: QRectF, placement: Placement, state: int, swatch: Swatch) -> None:
        text = "?" if state == UNPLACED else placement.names[state]
        if width_of(self.look, text, "small") + _LABEL_MARGIN > block.width():
            return
        ground = swatch.color if swatch.texture != "cross" else self.look.theme.sunken
        ink = ink_on(ground)
        on = ground if swatch.texture != "plain" else None
        draw_marked(painter, block, text, self.look, size="small", dim=ink, align=Qt.AlignmentFlag.AlignHCenter, on=on)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.results is None or event.position().x() < self.plot_rect.left():
            super().mousePressEvent(event)
            return
        placement = self.results.placement
        sample = self.time_at(event.position().x()) / self.results.capture.current.interval_s
        at = int(np.clip(np.searchsorted(placement.edges, sample, side="right") - 1, 0, placement.intervals - 1))
        state = int(placement.state[at])
        self.state_chosen.emit(UNPLACED_NAME if state == UNPLACED else placement.names[state])

    def state_at(self, time_s: float) -> str:
        """Return the state at a moment."""
        if self.results is None:
            return ""
        placement = self.results.placement
        sample = time_s / self.results.capture.current.interval_s
        at = int(np.searchsorted(placement.edges, sample, side="right")) - 1
        if not 0 <= at < placement.intervals or placement.state[at] == UNPLACED:
            return UNPLACED_NAME
        return placement.names[int(placement.state[at])]


def _within(placement: Placement, first: float, last: float) -> Placement:
    """Return the part of a placement that a window of samples touches."""
    begin = max(int(np.searchsorted(placement.edges, first, side="right")) - 1, 0)
    end = min(max(int(np.searchsorted(placement.edges, last, side="left")), begin + 1), placement.intervals)
    if not placement.intervals:
        return placement
    return replace(placement, edges=placement.edges[begin : end + 1], state=placement.state[begin:end])
