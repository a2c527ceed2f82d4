"""The state ribbon: one labelled block per interval, stacked shares where blocks are narrower than a pixel."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from PySide6.QtCore import QLineF, QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPen

from warm_ember.model.placement import UNPLACED, UNPLACED_NAME, Placement
from warm_ember.ui.lanes.current_axis import draw_pixels
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.textures import PLAIN, Swatch, fill, swatches
from warm_ember.ui.look.theme import Appearance, ink_on

_LABEL_MARGIN = 12
_LABEL_FROM = 24
_TEXTURE_FROM = 6
_DRAG_FROM = 4


@dataclass(frozen=True)
class Block:
    """One interval of the ribbon."""

    state: str
    from_s: float
    to_s: float


class RibbonLane(Lane):
    """States against time.

    Signals
    -------
    state_chosen
        The name of the state that was clicked.
    painted
        ``(state, from_s, to_s)``: a block was dragged over others.
    """

    name = "States"
    state_chosen = Signal(str)
    painted = Signal(str, float, float)

    def __init__(self, look: Appearance, window: TimeWindow, height: int = 33) -> None:
        super().__init__(look, window, height)
        self._swatches: dict[str, Swatch] = {}
        self._preview: Placement | None = None
        self.chosen: Block | None = None
        self._pressed: tuple[float, Block] | None = None
        self._stroke: tuple[float, float] | None = None

    def set_results(self, results: LaneData | None) -> None:
        self._preview, self.chosen, self._stroke = None, None, None
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
        draw_rich_text(
            painter, block, text, self.look, size="small", dim=ink, align=Qt.AlignmentFlag.AlignHCenter, on=on
        )

    def block_at(self, time_s: float) -> Block | None:
        """Return the block at a moment."""
        if self.results is None:
            return None
        placement = self.results.placement
        sample = time_s / self.results.capture.current.interval_s
        at = int(np.searchsorted(placement.edges, sample, side="right")) - 1
        return self._block(at) if 0 <= at < placement.intervals else None

    def _block(self, index: int) -> Block:
        assert self.results is not None
        placement, interval_s = self.results.placement, self.results.capture.current.interval_s
        state = int(placement.state[index])
        name = UNPLACED_NAME if state == UNPLACED else placement.names[state]
        return Block(name, float(placement.edges[index]) * interval_s, float(placement.edges[index + 1]) * interval_s)

    def neighbour(self, block: Block, step: int) -> Block | None:
        """Return the block before (-1) or after (+1) another."""
        if self.results is None:
            return None
        middle_s = (block.from_s + block.to_s) / 2
        sample = middle_s / self.results.capture.current.interval_s
        at = int(np.searchsorted(self.results.placement.edges, sample, side="right")) - 1 + step
        return self._block(at) if 0 <= at < self.results.placement.intervals else None

    def state_at(self, time_s: float) -> str:
        """Return the state at a moment."""
        block = self.block_at(time_s)
        return block.state if block is not None else UNPLACED_NAME

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self.results is None or event.position().x() < self.plot_rect.left():
            super().mousePressEvent(event)
            return
        block = self.block_at(self.time_at(event.position().x()))
        self._pressed = (event.position().x(), block) if block is not None else None

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        super().mouseMoveEvent(event)
        if self._pressed is None or self._pressed[1].state == UNPLACED_NAME:
            return
        x, block = self._pressed
        at_s = self.time_at(float(np.clip(event.position().x(), self.plot_rect.left(), self.plot_rect.right())))
        if abs(event.position().x() - x) < _DRAG_FROM or block.from_s <= at_s <= block.to_s:
            self._stroke = None
        else:
            self._stroke = (block.to_s, at_s) if at_s > block.to_s else (at_s, block.from_s)
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        pressed, stroke = self._pressed, self._stroke
        self._pressed, self._stroke = None, None
        if pressed is None:
            super().mouseReleaseEvent(event)
        elif stroke is not None:
            self.painted.emit(pressed[1].state, *stroke)
        else:
            self.chosen = pressed[1]
            self.state_chosen.emit(pressed[1].state)
        self.update()

    def paint_over(self, painter: QPainter) -> None:
        super().paint_over(painter)
        rect, theme = self.block_rect, self.look.theme
        if self.chosen is not None:
            painter.setPen(QPen(theme.mark, 2))
            painter.drawRect(self._box(self.chosen.from_s, self.chosen.to_s).intersected(rect).adjusted(1, 1, -1, -1))
        if self._stroke is not None and self._pressed is not None:
            box = self._box(*self._stroke).intersected(rect)
            swatch = self._swatches.get(self._pressed[1].state)
            if swatch is not None:
                fill(painter, box, swatch, theme.sunken)
            painter.setPen(QPen(theme.mark, 2))
            painter.drawRect(box.adjusted(1, 1, -1, -1))

    def _box(self, from_s: float, to_s: float) -> QRectF:
        left, right = self.x_of(from_s), self.x_of(to_s)
        return QRectF(left, self.block_rect.top(), max(right - left, 3.0), self.block_rect.height())


def _within(placement: Placement, first: float, last: float) -> Placement:
    """Return the part of a placement that a window of samples touches."""
    begin = max(int(np.searchsorted(placement.edges, first, side="right")) - 1, 0)
    end = min(max(int(np.searchsorted(placement.edges, last, side="left")), begin + 1), placement.intervals)
    if not placement.intervals:
        return placement
    return replace(placement, edges=placement.edges[begin : end + 1], state=placement.state[begin:end])
