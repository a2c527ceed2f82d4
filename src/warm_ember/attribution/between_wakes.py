"""The stretches between wakes: a capture cut where wakes and states begin, how long it idles and in which mode."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.cpu_wakes import covered
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.sleep_depth import IdleStretches
from warm_ember.attribution.wakes import Wakes
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.placement import UNPLACED, Alignment, Placement
from warm_ember.model.wakes import SleepMode
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series, ShouldStop

_SOME_SLEEP = "sleep"
_OFTEN, _APART = 5, 3.0


@dataclass(frozen=True, eq=False)
class Pieces:
    """The capture cut where wakes begin and end and where states change, and what flows asleep.

    The charge of a piece that was measured in part is filled up: the rest of it is taken to be alike, and one that was
    not measured at all to be the floor.

    Parameters
    ----------
    edges
        Sample at which each piece begins, ascending, shape (n + 1,); the last one is where the capture ends.
    lasts_s, measured_s
        Length of each piece and how much of it was measured, s, shape (n,).
    measured_c, charge_c
        Charge that was measured in each piece and that of the whole of it, C, shape (n,).
    owner
        Index of the wake that each piece is in or comes after, -1 before the first one, shape (n,).
    awake, asleep
        Whether a wake lasts, and whether the device sleeps, shape (n,); neither where the capture cuts a wake.
    state
        Number of each piece's state, shape (n,).
    floor_a
        Mean current of all sleep, A.
    """

    edges: Indices
    lasts_s: Floats
    measured_s: Floats
    measured_c: Floats
    charge_c: Floats
    owner: Indices
    awake: Flags
    asleep: Flags
    state: Indices
    floor_a: float


def cut_at_wakes(current: Series, placement: Placement, wakes: Wakes, should_stop: ShouldStop) -> Pieces:
    ends = np.array([0, current.samples, *(end for cut in wakes.cut for end in cut)], dtype=np.int64)
    spans = wakes.by_cpu
    idle_ends = (spans.idle_first, spans.idle_last) if spans is not None else ()
    edges = np.unique(np.concatenate((wakes.first, wakes.last, ends, placement.edges, *idle_ends)))
    edges = edges[(edges >= 0) & (edges <= current.samples)]
    sums = interval_sums(current, edges, should_stop=should_stop)
    lasts_s = np.diff(edges) * current.interval_s
    charge_c, measured_s = sums.total * current.interval_s, sums.count.astype(np.float64) * current.interval_s
    owner = np.searchsorted(wakes.first, edges[:-1], side="right") - 1
    longest = np.maximum.accumulate(wakes.last)
    awake = (owner >= 0) & (edges[:-1] < longest[np.maximum(owner, 0)]) if wakes.count else owner >= 0
    asleep = ~awake
    if spans is not None:  # the device sleeps while all its CPUs are known to
        asleep = covered(spans.idle_first, spans.idle_last, edges) >= max(len(wakes.cpus), 1)
    for first, last in wakes.cut:
        asleep &= (edges[:-1] < first) | (edges[:-1] >= last)
    state = placement.state[np.searchsorted(placement.edges, edges[:-1], side="right") - 1]
    asleep_s = float(measured_s[asleep].sum())
    floor_a = float(charge_c[asleep].sum()) / asleep_s if asleep_s > 0 else 0.0
    filled_c = np.where(sums.count > 0, sums.mean, floor_a) * lasts_s
    return Pieces(edges, lasts_s, measured_s, charge_c, filled_c, owner, awake, asleep, state, floor_a)


def idle_stretches(
    recording: Recording, placement: Placement, pieces: Pieces, wakes: Wakes, typed: Sequence[SleepMode]
) -> tuple[IdleStretches, tuple[str, ...]]:
    """Return the stretches of sleep, those of states within wakes that the project calls idle, and their modes."""
    # States may change within a sleep: its pieces are joined, up to the next wake.
    outer = np.unique(np.concatenate((wakes.first, wakes.last, *(np.array(cut) for cut in wakes.cut))).astype(np.int64))
    slept = _joined(pieces, pieces.asleep, np.searchsorted(outer, pieces.edges[:-1], side="right"))
    starts, ends = pieces.edges[slept[0]], pieces.edges[slept[1]]
    if wakes.states is None:
        names = _modes(recording, placement, starts, ends)
    else:
        names = _modes_by_current(placement, wakes.states, starts, ends, slept[3] / np.maximum(slept[2], 1e-300))
    said = {mode.name for mode in typed} & set(placement.names) - set(names)
    every = list(dict.fromkeys((*names, *(name for name in placement.names if name in said))))
    kinds = [(slept, np.array([every.index(name) for name in names], dtype=np.int64), False)]
    for name in every:
        if name in said:
            mine = pieces.awake & (pieces.state == placement.names.index(name))
            inner = _joined(pieces, mine, np.searchsorted(placement.edges, pieces.edges[:-1], side="right"))
            kinds.append((inner, np.full(len(inner[0]), every.index(name), dtype=np.int64), True))
    last = recording.current.samples
    whole = [(pieces.edges[first] > 0) & (pieces.edges[after] < last) for (first, after, _, _), _, _ in kinds]
    return (
        IdleStretches(
            np.concatenate([pieces.edges[one[0]] for one, _, _ in kinds]),
            np.concatenate([one[2] for one, _, _ in kinds]),
            np.concatenate([one[3] for one, _, _ in kinds]),
            np.concatenate(whole),
            np.concatenate([mode for _, mode, _ in kinds]),
            np.concatenate([np.full(len(mode), inner) for _, mode, inner in kinds]),
            wakes.states or (),
        ),
        tuple(every),
    )


def idle_of_cpus(wakes: Wakes, pieces: Pieces) -> tuple[IdleStretches, tuple[str, ...]]:
    """Return the idle stretches of each CPU; what flows in them is the device's, so only one CPU has a floor."""
    spans = wakes.by_cpu
    assert spans is not None
    names = tuple(dict.fromkeys(spans.mode))
    at = {name: index for index, name in enumerate(names)}
    charge_c = np.full(len(spans.mode), np.nan)
    if len(wakes.cpus) <= 1:
        until_c = np.append(0.0, np.cumsum(pieces.charge_c))
        charge_c = np.interp(spans.idle_last, pieces.edges, until_c)
        charge_c = charge_c - np.interp(spans.idle_first, pieces.edges, until_c)
    return (
        IdleStretches(
            spans.idle_first,
            spans.idle_s,
            charge_c,
            np.ones(len(spans.mode), dtype=bool),
            np.array([at[name] for name in spans.mode], dtype=np.int64),
            np.zeros(len(spans.mode), dtype=bool),
        ),
        names,
    )


def _joined(pieces: Pieces, chosen: Flags, group: Indices) -> tuple[Indices, Indices, Floats, Floats]:
    """Join chosen pieces of a group: index of the first piece and of the one after the last, length, charge."""
    at = np.flatnonzero(chosen)
    if not len(at):
        nothing = np.zeros(0, dtype=np.int64)
        return nothing, nothing, np.zeros(0), np.zeros(0)
    opens = np.append(True, (np.diff(at) > 1) | (np.diff(group[at]) != 0))
    starts = np.flatnonzero(opens)
    closing = np.append(at[starts[1:] - 1], at[-1]) + 1
    return (
        at[starts],
        closing,
        np.add.reduceat(pieces.lasts_s[at], starts),
        np.add.reduceat(pieces.charge_c[at], starts),
    )


def floors_under(wakes: Wakes, idle: IdleStretches, modes: int, floor_a: float) -> Floats:
    """Return the floor under each wake: the mean current of the mode that it left.

    Parameters
    ----------
    wakes, idle
        The wakes, in the order of time, and the stretches between them.
    modes
        How many modes there are.
    floor_a
        Mean current of all sleep, A: that of a mode that was never slept in.

    Returns
    -------
    Floats
        A, shape (wakes,).
    """
    asleep = np.flatnonzero(~idle.in_wakes)
    charge_c = np.bincount(idle.mode[asleep], idle.charge_c[asleep], minlength=modes)
    lasts_s = np.bincount(idle.mode[asleep], idle.lasts_s[asleep], minlength=modes)
    floors_a = np.where(lasts_s > 0, charge_c / np.where(lasts_s > 0, lasts_s, 1.0), floor_a)
    if not len(asleep):
        return np.full(wakes.count, floor_a)
    before = np.searchsorted(idle.first[asleep], wakes.first, side="left") - 1
    # A wake at the capture's beginning returns to where it came from.
    return np.asarray(floors_a[idle.mode[asleep[np.maximum(before, 0)]]])


def modes_woken_from(wakes: Wakes, idle: IdleStretches) -> list[Indices]:
    """Return for each source the modes that its wakes ended.

    Returns
    -------
    list of Indices
        In the order of `wakes.names`: numbers of modes, ascending, shape (modes,); empty for a source that ended none.
    """
    asleep = np.flatnonzero(~idle.in_wakes)
    before = np.searchsorted(idle.first[asleep], wakes.first, side="left") - 1
    left = np.where(before >= 0, idle.mode[asleep[np.maximum(before, 0)]], -1) if len(asleep) else before
    return [np.unique(left[wakes.by(source) & (left >= 0)]) for source in wakes.names]


def time_to_next_timer(wakes: Wakes, idle: IdleStretches, timers: list[str], interval_s: float) -> Floats:
    """Return for each idle stretch how long it is to the next wake by a timer, NaN where none comes any more.

    What idles within a wake waits for something of about the same length each time.

    Parameters
    ----------
    wakes, idle
        The wakes, in the order of time, and the stretches between them.
    timers
        Sources that wake at regular times.
    interval_s
        Between two samples, s.

    Returns
    -------
    Floats
        s, shape (stretches,).
    """
    due = wakes.first[np.isin(wakes.number, [wakes.names.index(name) for name in timers])]
    after = np.searchsorted(due, idle.first, side="left")
    next_due = np.append(due.astype(float), np.nan)[after]
    found = np.asarray((next_due - idle.first) * interval_s)
    for mode in np.unique(idle.mode[idle.in_wakes]).tolist():
        mine = idle.in_wakes & (idle.mode == mode)
        found[mine] = float(np.median(idle.lasts_s[mine]))
    return found


def _modes(recording: Recording, placement: Placement, starts: Indices, ends: Indices) -> list[str]:
    """Return the mode of each stretch of sleep: as the log says, else the state that it is in for the longest."""
    interval_s = recording.current.interval_s
    alignment = placement.alignment or Alignment()
    events = () if alignment.is_unusable else recording.events
    told = sorted((alignment.to_capture(e.time_s), e.name) for e in events if e.event == "sleep")
    times = np.array([time_s for time_s, _ in told])
    # The event and the change it announces are rounded to a sample each.
    last = np.searchsorted(times, (starts + 2) * interval_s, side="right") - 1
    numbers = _longest(placement, starts, ends).tolist()
    modes = [told[index][1] if index >= 0 else "" for index in last.tolist()]
    # Sleep that began before the log's first word of it is in the mode that its state has later.
    of_state = {number: mode for number, mode in zip(numbers, modes, strict=True) if mode}
    names = [placement.names[number] if number != UNPLACED else _SOME_SLEEP for number in numbers]
    return [mode or of_state.get(number, name) for mode, number, name in zip(modes, numbers, names, strict=True)]


def _modes_by_current(
    placement: Placement, states: tuple[tuple[int, int], ...], starts: Indices, ends: Indices, mean_a: Floats
) -> list[str]:
    """Return the mode of each stretch between wakes that the current alone tells.

    All is one sleep, but for states with floors of their own; levels are modes only where several of them were each
    seen often, and differ by more than what flows in each does.
    """
    numbers = _longest(placement, starts, ends)
    names = [placement.names[number] if number != UNPLACED else _SOME_SLEEP for number in numbers.tolist()]
    inside = np.zeros(len(starts), dtype=bool)
    for first, last in states:
        inside |= (starts >= first) & (starts < last)
    outside = np.array(names)[~inside]
    groups = [mean_a[~inside][outside == name] for name in dict.fromkeys(outside.tolist())]
    middles = np.array([float(np.median(group)) for group in groups])
    spreads = np.array([float(np.std(group)) for group in groups])
    order = np.argsort(middles)
    gaps, widths = np.diff(middles[order]), spreads[order][1:] + spreads[order][:-1]
    if len(groups) > 1 and all(len(group) >= _OFTEN for group in groups) and (gaps > _APART * widths).all():
        return names
    return [name if one else _SOME_SLEEP for name, one in zip(names, inside.tolist(), strict=True)]


def _longest(placement: Placement, starts: Indices, ends: Indices) -> Indices:
    """Return the number of the state that each stretch is in for the longest."""
    first = np.searchsorted(placement.edges, starts, side="right") - 1
    after = np.searchsorted(placement.edges, ends, side="left")
    states = placement.state.copy()
    for row in np.flatnonzero(after - first > 1).tolist():
        inside = slice(int(first[row]), int(after[row]))
        lengths = np.diff(np.clip(placement.edges[inside.start : inside.stop + 1], starts[row], ends[row]))
        number = placement.state[inside]
        states[first[row]] = number[int(np.argmax(np.bincount(number - UNPLACED, lengths)[number - UNPLACED]))]
    return np.asarray(states[np.minimum(first, len(states) - 1)])
