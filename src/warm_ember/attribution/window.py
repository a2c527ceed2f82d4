"""The part of a capture that stands for the device's life: whole cycles, without the start-up.

A mean over 2.3 cycles is off by up to a third, one with the start-up in it by any factor.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from warm_ember.attribution.cycles import wake_sources, wake_times_s
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.stay_sums import StaySums, sum_stays
from warm_ember.model.arrays import Flags, Floats
from warm_ember.model.placement import Placement
from warm_ember.signal.fold_period import find_period
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import duration_text

_REGULAR, _AT_MOST_APART, _SAME_BEYOND = 0.1, 0.3, 1.5
_LEAST_CYCLES, _MOSTLY = 2, 0.7
_UNLIKE, _EARLY, _OFF = 3.0, 0.2, 0.5
_LEAST_REST = 0.1


@dataclass(frozen=True)
class Window:
    """A part of a capture, and why it is that.

    Parameters
    ----------
    from_s, to_s
        The part.
    cycles, cycle_s
        How many whole cycles it holds, and how long one is; None where nothing repeats.
    found_by
        What the cycles are told by, in words.
    left_out
        What is not in it, in words.
    """

    from_s: float
    to_s: float
    cycles: int | None = None
    cycle_s: float | None = None
    found_by: str = ""
    left_out: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """What it is, in a sentence without its end."""
        what = "the whole capture" if not self.left_out else "the capture"
        if self.cycles is not None and self.cycle_s is not None:
            what = f"{self.cycles} whole cycles of {duration_text(self.cycle_s)}"
        return "; ".join((f"over {what}", *(f"{one} left out" for one in self.left_out)))


@dataclass(frozen=True)
class _Train:
    """What comes again and again from end to end, and by how much a cut within a cycle could move the mean."""

    what: str
    matters: float
    from_s: float
    to_s: float
    cycle_s: float

    @property
    def cycles(self) -> int:
        """About how many there are."""
        return max(round((self.to_s - self.from_s) / self.cycle_s), 1)


def find_window(
    recording: Recording, placement: Placement, *, sums: StaySums | None = None, should_stop: ShouldStop = never
) -> Window:
    """Find the whole cycles of a capture without its start-up.

    Parameters
    ----------
    recording, placement
        The capture and its states.
    sums
        What flowed in the stays of the placement; summed here when None.

    Returns
    -------
    Window
        All of it where nothing repeats and nothing is left out. Of several things that repeat, the one whose
        phase matters most to the mean tells what a cycle is: from one of its wakes, or entries, to the next; else the
        current's own period does.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    end_s = recording.current.samples * recording.current.interval_s
    sums = sums or sum_stays(recording, placement, should_stop=should_stop)
    resting = _resting(sums, placement)
    start_s, left_out = _start_up(recording, placement, sums, resting)
    best = max(_trains(recording, placement, sums, start_s), key=lambda one: one.matters, default=None)
    from_s, to_s = start_s, end_s
    if best is not None:
        cycle_s, found_by = best.cycle_s, best.what
    else:
        period = find_period(recording.current, start_s, end_s)
        if period is None:
            return Window(start_s, end_s, left_out=left_out)
        cycle_s, found_by = period.period_s, "the current's own period"
    cycles = int((to_s - from_s) / cycle_s + 1e-3)
    if cycles < _LEAST_CYCLES:
        return Window(start_s, end_s, left_out=left_out)
    from_s = _in_rest(placement, resting, recording.current.interval_s, (from_s, to_s), cycles * cycle_s)
    found = Window(from_s, min(from_s + cycles * cycle_s, end_s), cycles, cycle_s, found_by)
    return replace(found, left_out=(*left_out, *_around(found, start_s, end_s, recording.current.interval_s)))


def _in_rest(
    placement: Placement, resting: Flags, interval_s: float, whole_s: tuple[float, float], length_s: float
) -> float:
    """Return where a window of some length begins within another, cut at rest at both ends where that can be."""
    from_s, to_s = whole_s
    begins_s = placement.edges[:-1] * interval_s
    latest_s = max(to_s - length_s, from_s)
    for begin_s in (from_s, *begins_s[(begins_s > from_s) & (begins_s < latest_s)].tolist(), latest_s):
        at = np.searchsorted(begins_s, (begin_s, begin_s + length_s - interval_s), side="right") - 1
        if resting[at].all():
            return float(begin_s)
    return from_s


def within(placement: Placement, window: Window, interval_s: float) -> Placement:
    """Return the states within a window."""
    first, last = (round(end_s / interval_s) for end_s in (window.from_s, window.to_s))
    if first <= placement.edges[0] and last >= placement.edges[-1]:
        return placement
    inside = placement.edges[(placement.edges > first) & (placement.edges < last)]
    edges = np.concatenate(([first], inside, [last])).astype(np.int64)
    at = np.searchsorted(placement.edges, edges[:-1], side="right") - 1
    return replace(placement, edges=edges, state=placement.state[at])


def _around(found: Window, start_s: float, end_s: float, interval_s: float) -> tuple[str, ...]:
    parts = (("at the start", found.from_s - start_s), ("at the end", end_s - found.to_s))
    return tuple(f"{duration_text(length_s)} {where}" for where, length_s in parts if length_s > 1.5 * interval_s)


def _resting(sums: StaySums, placement: Placement) -> Flags:
    """Return which intervals are in the lowest state that takes a tenth of the time, shape ``(intervals,)``."""
    states, number = np.unique(placement.state, return_inverse=True)
    charge, time = np.bincount(number, sums.charge_c), np.bincount(number, sums.dwell_s)
    mean_a = np.where(time >= _LEAST_REST * time.sum(), charge / time, np.inf)
    return np.asarray(placement.state == states[int(np.argmin(mean_a))])


def _start_up(
    recording: Recording, placement: Placement, sums: StaySums, resting: Flags
) -> tuple[float, tuple[str, ...]]:
    """Return when what recurs begins, and what comes before, in words."""
    current = recording.current
    opens = np.flatnonzero(~resting & np.append(True, resting[:-1]))
    if not len(opens) or resting.all() or not resting.any():
        return 0.0, ()
    busy = np.flatnonzero(~resting)
    charges = np.add.reduceat(sums.charge_c[busy], np.searchsorted(busy, opens))
    # The first happening, up to the first rest after it.
    after = np.flatnonzero(resting[opens[0] :])
    if not len(after) or len(opens) < 2:
        return 0.0, ()
    rest_at = int(opens[0] + after[0])
    begins, ends = int(placement.edges[opens[0]]), int(placement.edges[rest_at])
    whole = int(placement.edges[-1])
    is_unlike = charges[0] > _UNLIKE * charges[1:].max() and ends < _EARLY * whole
    rest_a = sums.mean_a[resting]
    floor_a = float(np.median(rest_a[1:])) if resting.sum() > 1 else float(rest_a[0])
    was_off = opens[0] == 0 or float(sums.mean_a[: opens[0]].mean()) < _OFF * floor_a
    if not (is_unlike and was_off):
        return 0.0, ()
    return ends * current.interval_s, (f"start-up of {duration_text((ends - begins) * current.interval_s)}",)


def _trains(recording: Recording, placement: Placement, sums: StaySums, start_s: float) -> list[_Train]:
    """Return what comes evenly: wakes by each source, and entries of each state."""
    interval_s = recording.current.interval_s
    end_s = recording.current.samples * interval_s
    entries_s: Floats = placement.edges[:-1].astype(np.float64) * interval_s
    fits = placement.alignment is None or not placement.alignment.is_unusable
    sources = wake_sources(recording) if fits else ()
    times = {f"wakes by {source}": wake_times_s(recording, placement, source) for source in sources}
    times |= {f"entries of {name}": entries_s[placement.of(name)] for name in placement.names}
    found = []
    for what, all_s in times.items():
        train = _train(what, all_s[(all_s >= start_s) & (all_s > 0)])
        # What is missing at an end for longer than a cycle stopped there, or had not begun: it tells no cycle of all.
        if train is not None and max(train.from_s - start_s, end_s - train.to_s) <= _SAME_BEYOND * train.cycle_s:
            found.append(train)
    if len(found) < 2:
        return found  # which matters most is only asked of several
    return [replace(one, matters=_varies(sums, one)) for one in found]


def _train(what: str, times_s: Floats) -> _Train | None:
    """Return what comes at even times, now and then interrupted; None where the times are not even."""
    gaps_s = np.diff(times_s)
    if len(gaps_s) < _LEAST_CYCLES:
        return None
    period_s = float(np.median(gaps_s))
    apart = np.abs(gaps_s - period_s)
    if float(np.median(apart)) > _REGULAR * period_s:
        return None
    if (apart <= _AT_MOST_APART * period_s).sum() < max(_LEAST_CYCLES, _MOSTLY * len(gaps_s)):
        return None
    even = gaps_s[apart <= _REGULAR * period_s]
    return _Train(what, 0.0, float(times_s[0]), float(times_s[-1]), float(even.mean()))


def _varies(sums: StaySums, train: _Train) -> float:
    """Return by how much a cut in the midst of a cycle could move the mean: what a cycle's halves differ by.

    A stay that a half ends in is taken as even: only which of several trains matters most depends on it.
    """
    edges_s = np.linspace(train.from_s, train.to_s, 2 * train.cycles + 1)
    halves_c = np.diff(np.interp(edges_s, sums.edges * sums.interval_s, sums.charge_so_far_c)).reshape(-1, 2)
    return 2 * float(np.abs(np.diff(halves_c, axis=1)).mean())
