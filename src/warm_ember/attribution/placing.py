"""Placing states on the time axis by rules."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from warm_ember.attribution.clock import TIMED_EVENTS, align
from warm_ember.attribution.kinds import Kinds, find_kinds
from warm_ember.attribution.line_levels import draw_one_level_each
from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Indices
from warm_ember.model.kinds import UNSORTED
from warm_ember.model.placement import TYPED_CLOCK, UNPLACED, Alignment, Placement
from warm_ember.model.project import TypedClock
from warm_ember.model.rules import BandRule, HandRule, KindsRule, LevelsRule, LineRule, LogRule, Rule
from warm_ember.signal.band_limit import BandLimited
from warm_ember.signal.bands import absorbed, band_stays, runs_of
from warm_ember.signal.bits import LineSeries
from warm_ember.signal.level_numbers import numbered
from warm_ember.signal.levels import MOST_LEVELS, Levels, find_levels
from warm_ember.signal.series import CHUNK_SAMPLES, Series, ShouldStop, never
from warm_ember.units import duration_text, quantity_text

_SLEEP = "sleep"
_VECTOR_BIT = re.compile(r"(.+)\[(\d{1,2})\]\Z")


@dataclass(frozen=True, eq=False)
class _Layer:
    """What one rule places: the whole capture cut into intervals, unplaced ones included."""

    edges: Indices
    names: tuple[str | None, ...]
    state: Indices
    how: str


def default_rules(recording: Recording, levels: Callable[[], Levels]) -> tuple[Rule, ...]:
    """Return the rules that hold while the project has none.

    Parameters
    ----------
    recording
        The capture.
    levels
        Gives the levels of the current where they are needed.

    Returns
    -------
    tuple of Rule
        The log where it tells states; else the lines where each combination of them draws one level; else the levels.
    """
    if any(event.event == "state" for event in recording.events):
        return (LogRule(),)
    lines = recording.lines
    if lines is None or not lines.names:
        return (LevelsRule(),)
    edges, values = _line_changes(lines)
    tells = draw_one_level_each(edges, values, levels(), recording.current.interval_s)
    return (LineRule(),) if tells else (LevelsRule(),)


def place(
    recording: Recording,
    rules: tuple[Rule, ...] | None = None,
    *,
    clock: TypedClock | None = None,
    levels: Callable[[], Levels] | None = None,
    kinds: Callable[[], Kinds] | None = None,
    alignment: Callable[[], Alignment] | None = None,
    limited: BandLimited | None = None,
    should_stop: ShouldStop = never,
) -> Placement:
    """Place states on a capture.

    Parameters
    ----------
    recording
        The capture.
    rules
        In order; None takes `default_rules`, an empty tuple places nothing. Rules by hand go before all others.
    clock
        How the log's clock maps to the capture's; found when None.
    levels
        Gives the levels of the current where they are needed; found here when None.
    kinds
        Gives the kinds of its wakes where they are needed; found here when None.
    alignment
        Gives how the log lies on the capture where that is needed and `clock` is None; found here when None.
    limited
        The current with its band limited, which bands and levels are looked for in; None for the current itself.
    should_stop
        Polled on long passes.

    Returns
    -------
    Placement
        Neighbouring intervals of one state are one interval.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    find = levels or cache(lambda: find_levels(limited or recording.current, should_stop=should_stop))
    rules = default_rules(recording, find) if rules is None else rules
    by_hand = tuple(r for r in rules if isinstance(r, HandRule))
    others = tuple(r for r in rules if not isinstance(r, HandRule))
    sort = kinds or cache(lambda: find_kinds(recording.current, should_stop=should_stop))
    lay = alignment or cache(lambda: align(recording, find))
    placer = _Placer(recording, limited, find, sort, lay, should_stop)
    if clock is not None:
        placer.alignment = Alignment(clock.offset_s, clock.drift, method=TYPED_CLOCK)
    # Of two strokes by hand the later one counts, as with paint.
    ordered = (*reversed(by_hand), *others)
    layers = [(rules.index(rule), placer.layer(rule)) for rule in ordered]
    told = [(number, layer) for number, layer in layers if layer is not None]
    # Wakes and sleeps lie on the capture by the same clock, whatever places the states.
    has_log = any(event.event in TIMED_EVENTS for event in recording.events)
    flat = _flatten(told, recording.current.samples, placer.clock() if has_log else placer.alignment)
    return replace(flat, rules=rules)


class _Placer:
    def __init__(
        self,
        recording: Recording,
        limited: BandLimited | None,
        levels: Callable[[], Levels],
        kinds: Callable[[], Kinds],
        lay: Callable[[], Alignment],
        should_stop: ShouldStop,
    ) -> None:
        self._recording, self._levels, self._kinds, self._lay = recording, levels, kinds, lay
        self._looked_at: Series = limited or recording.current
        self._limit = f", nothing shorter than {duration_text(limited.shortest_s)}" if limited is not None else ""
        self._should_stop = should_stop
        self.alignment: Alignment | None = None

    def clock(self) -> Alignment:
        """Return how the log lies on the capture; found when it is asked for the first time."""
        if self.alignment is None:
            self.alignment = self._lay()
        return self.alignment

    def layer(self, rule: Rule) -> _Layer | None:
        makers: dict[type, Callable[..., _Layer | None]] = {
            LogRule: self._by_log,
            LineRule: self._by_line,
            BandRule: self._by_band,
            LevelsRule: self._by_levels,
            KindsRule: self._by_kinds,
            HandRule: self._by_hand,
        }
        return makers[type(rule)](rule)

    def _by_log(self, rule: LogRule) -> _Layer | None:
        states = [event for event in self._recording.events if event.event == "state"]
        if not states:
            return None
        alignment = self.clock()
        if alignment.is_unusable:
            return None
        samples = self._recording.current.samples
        times = np.array([alignment.to_capture(event.time_s) for event in states])
        starts = np.clip(np.rint(times / self._recording.current.interval_s), 0, samples).astype(np.int64)
        names = [_log_name(rule, event.name) for event in states]
        known = tuple(dict.fromkeys(name for name in names if name is not None))
        state = np.array([known.index(name) if name is not None else UNPLACED for name in names])
        how = f"event “{rule.event_name}”" if rule.event_name else "event log"
        return _Layer(np.concatenate(([0], starts, [samples])), known, np.append(UNPLACED, state), how)

    def _by_line(self, rule: LineRule) -> _Layer | None:
        lines = self._recording.lines
        if lines is None:
            return None
        edges, values = _line_changes(lines)
        if rule.is_all:
            names = [_combination_name(int(value), lines.names) for value in values]
            names = [rule.names.get(name, name) for name in names]
            known = tuple(dict.fromkeys(names))
            return _Layer(edges, known, np.array([known.index(name) for name in names]), "digital lines")
        wanted = [(lines.names.index(n), True) for n in rule.high if n in lines.names]
        wanted += [(lines.names.index(n), False) for n in rule.low if n in lines.names]
        if len(wanted) < len(rule.high) + len(rule.low) or not wanted:
            return None
        fits = np.all([(values >> bit & 1) == high for bit, high in wanted], axis=0)
        words = [f"{n} high" for n in rule.high] + [f"{n} low" for n in rule.low]
        return _Layer(edges, (rule.state,), np.where(fits, 0, UNPLACED), "line " + ", ".join(words))

    def _by_band(self, rule: BandRule) -> _Layer:
        stays = band_stays(
            self._looked_at,
            rule.low_a,
            rule.high_a,
            hysteresis=rule.hysteresis,
            shortest_s=rule.shortest_s,
            absorb_s=rule.absorb_s,
            should_stop=self._should_stop,
        )
        how = f"band {quantity_text(rule.low_a, 'A')} to {quantity_text(rule.high_a, 'A')}{self._limit}"
        return self._layer_of_stays(stays, rule.state, how)

    def _by_levels(self, rule: LevelsRule) -> _Layer:
        levels = self._levels()
        if rule.centres_a or rule.most != MOST_LEVELS:
            levels = find_levels(
                self._looked_at, most=rule.most, centres_a=rule.centres_a, should_stop=self._should_stop
            )
        # Levels that were learned keep their numbers whatever is on them here.
        if not rule.centres_a and not len(levels.number):
            levels = numbered(self._recording.current, levels, should_stop=self._should_stop)
        own = [levels.name_of(level) for level in range(len(levels.centres_a))]
        names = [rule.names.get(name, name) for name in own]
        known = tuple(dict.fromkeys(names))
        numbers = np.array([*(known.index(name) for name in names), UNPLACED])
        how = ("level learned" if rule.centres_a else "level found in the current") + self._limit
        shortest = rule.absorb_s / self._recording.current.interval_s
        edges, state = absorbed(levels.edges, numbers[levels.level], shortest)
        return _Layer(edges, known, state, how)

    def _by_kinds(self, rule: KindsRule) -> _Layer:
        kinds = self._kinds()
        labels = {kind.number: kind.label for kind in kinds.kinds}
        rests = [(stay.first, stay.last) for stay in kinds.stays]
        ends = [0, self._recording.current.samples, *(end for rest in rests for end in rest)]
        edges = np.unique(np.concatenate((kinds.first, kinds.last, ends))).astype(np.int64)
        at = np.searchsorted(kinds.first, edges[:-1], side="right") - 1
        awake = (at >= 0) & (edges[:-1] < np.append(kinds.last, 0)[at])
        own = np.full(len(at), _SLEEP, dtype=object)
        for number, (first, last) in enumerate(rests, 1):
            own[(edges[:-1] >= first) & (edges[:-1] < last)] = f"state {number}"
        own[awake] = [labels.get(int(kinds.kind[wake]), UNSORTED) for wake in at[awake].tolist()]
        names = [rule.names.get(name, name) for name in own.tolist()]
        known = tuple(dict.fromkeys(names))
        state = np.array([known.index(name) for name in names], dtype=np.int64)
        return _Layer(edges, known, state, "kind of wake found in the current")

    def _by_hand(self, rule: HandRule) -> _Layer | None:
        if rule.capture != self._recording.name:
            return None
        interval_s = self._recording.current.interval_s
        ends = np.clip(np.rint(np.array([[rule.from_s, rule.to_s]]) / interval_s), 0, self._recording.current.samples)
        return self._layer_of_stays(ends.astype(np.int64), rule.state, "by hand")

    def _layer_of_stays(self, stays: Indices, state: str, how: str) -> _Layer:
        edges = np.concatenate(([0], stays.ravel(), [self._recording.current.samples]))
        placed = np.full(len(edges) - 1, UNPLACED)
        placed[1::2] = 0
        return _Layer(edges, (state,), placed, how)


def _line_changes(lines: LineSeries) -> tuple[Indices, Indices]:
    """Return where lines change, with the capture's ends, and the combination from there on."""
    starts, values, last = [], [], -1
    for first in range(0, lines.samples, CHUNK_SAMPLES):
        bits = lines.read(first, min(first + CHUNK_SAMPLES, lines.samples)).astype(np.int64)
        changed = np.flatnonzero(np.diff(bits, prepend=last))
        starts.append(changed + first)
        values.append(bits[changed])
        last = int(bits[-1])
    return np.append(np.concatenate(starts), lines.samples), np.concatenate(values)


def _log_name(rule: LogRule, name: str) -> str | None:
    if not rule.event_name:
        return name
    return (rule.state or name) if name == rule.event_name else None


def _combination_name(value: int, names: tuple[str, ...]) -> str:
    """Name a combination by its high lines, and by the values of the vectors among them.

    Examples
    --------
    >>> _combination_name(0b01, ("TX", "RX")), _combination_name(0b1010, ("TX", "s[0]", "s[1]", "s[2]"))
    ('TX', '5')
    """
    vectors: dict[str, int] = {}
    parts: list[str] = []
    for bit, name in enumerate(names):
        element = _VECTOR_BIT.match(name)
        high = value >> bit & 1
        if element is not None:
            vectors[element[1]] = vectors.get(element[1], 0) | high << int(element[2])
        elif high:
            parts.append(name)
    # One vector is known by its value alone; of several each says which it is.
    parts += [str(number) if len(vectors) == 1 else f"{name}={number}" for name, number in vectors.items()]
    return "+".join(parts) or "none"


def _flatten(layers: list[tuple[int, _Layer]], samples: int, alignment: Alignment | None) -> Placement:
    """Lay layers over each other: what one leaves unplaced shows the next."""
    edges = np.unique(np.concatenate([np.array([0, samples]), *(layer.edges for _, layer in layers)]))
    edges = edges[(edges >= 0) & (edges <= samples)].astype(np.int64)
    state = np.full(max(len(edges) - 1, 0), UNPLACED, dtype=np.int64)
    names: dict[str, int] = {}
    how: list[str] = []
    overruled: dict[int, float] = {}
    lengths = np.diff(edges)
    for number, layer in layers:
        at = np.searchsorted(layer.edges, edges[:-1], side="right") - 1
        local = np.where(at < len(layer.state), layer.state[np.clip(at, 0, len(layer.state) - 1)], UNPLACED)
        to_fill = (state == UNPLACED) & (local != UNPLACED)
        own = np.array([*(names.get(name, UNPLACED) if name else UNPLACED for name in layer.names), UNPLACED])[local]
        matches, elsewhere = local != UNPLACED, (local != UNPLACED) & (state != UNPLACED) & (state != own)
        if elsewhere.any():
            overruled[number] = float(lengths[elsewhere].sum() / lengths[matches].sum())
        for index, name in enumerate(layer.names):
            here = to_fill & (local == index)
            if name is None or not here.any():
                continue
            if name not in names:
                names[name] = len(names)
                how.append(layer.how)
            elif layer.how not in how[names[name]]:
                how[names[name]] += f", {layer.how}"
            state[here] = names[name]
    starts = np.flatnonzero(np.diff(state, prepend=-2))
    return Placement(
        tuple(names),
        np.append(edges[starts], samples).astype(np.int64),
        state[starts],
        tuple(how),
        alignment,
        overruled,
    )


def longest_unplaced(placement: Placement) -> tuple[int, int] | None:
    """Return first and last-plus-one sample of the longest stretch that no rule places, or None."""
    runs = runs_of(placement.state == UNPLACED)
    if not len(runs):
        return None
    lengths = placement.edges[runs[:, 1]] - placement.edges[runs[:, 0]]
    longest = runs[int(np.argmax(lengths))]
    return int(placement.edges[longest[0]]), int(placement.edges[longest[1]])
