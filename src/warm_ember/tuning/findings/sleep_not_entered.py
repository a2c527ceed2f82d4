"""Sleep not entered: where the device should sleep it draws what it draws running."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from warm_ember.attribution.rest import Rest
from warm_ember.attribution.sleep_agreement import logged_sleep
from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.placement import UNPLACED
from warm_ember.model.plan import CurrentBy, Effect, ReplaceState
from warm_ember.signal.intervals import interval_sums
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.units import count_text, counted, duration_text, quantity_text

_RUNNING_A = 50e-6
_AS_RUNNING, _MORE_THAN_RUNNING, _FEW, _MATTERS = 0.55, 1.35, 0.05, 0.03
_BEFORE_S, _WAY_IN_S = 6e-3, 0.3e-3
_PIECE_S, _PIECES, _LOOKED_AT = 0.3e-3, 300, 200
_HOLDS, _RISES = 0.85, 3.0
_OF_RUNNING, _TIMES_FLOOR, _FLAT = 0.1, 20.0, 0.5
_FEW_STRETCHES, _CUT_SHORT, _BY_CHANCE = 3, 0.1, 0.15
_MOSTLY, _COMPARABLE, _RARE = 0.5, 0.2, 2
_RUNS = re.compile(r"run|active|busy", re.IGNORECASE)


def sleep_not_entered(waste: WasteContext) -> list[Finding]:
    """Find sleep at the current of running, and devices that never sleep at all."""
    rest = waste.rest
    if rest is None:
        return []
    if waste.alignment.is_ambiguous:
        return _told(waste, _shifted(waste, rest))
    if waste.alignment.is_unusable:
        return []  # what it tells is of another run
    return _told(waste, rest) if rest.told else _never(waste)


def _shifted(waste: WasteContext, rest: Rest) -> Rest:
    """Return where the log says that the device sleeps, though it may be shifted by a period of what that does.

    A device that sleeps as it should draws little there however the log is shifted; one that does not never does.
    """
    slept = logged_sleep(waste.recording, waste.alignment)
    return replace(rest, first=slept[:, 0], last=slept[:, 1], told=True) if len(slept) else rest


def _told(waste: WasteContext, rest: Rest) -> list[Finding]:
    """Judge each stretch in which the firmware says that it sleeps."""
    running_a = _running_a(waste, rest)
    if running_a is None:
        return []
    blocks = rest.blocks
    count = np.bincount(blocks.stretch, minlength=len(rest.first))
    mean_a = np.bincount(blocks.stretch, blocks.mean_a, len(rest.first)) / np.maximum(count, 1)
    asleep = mean_a < max(_AS_RUNNING * running_a, _RUNNING_A)
    awake = (count > 0) & ~asleep
    # More than the core takes is something else that is left on.
    awake &= mean_a <= _MORE_THAN_RUNNING * running_a
    awake |= _idles(waste, rest, mean_a, running_a)
    asleep &= ~awake
    tick = waste.tick
    if tick is not None and awake.any() and np.median(mean_a[awake]) - tick.mean_a < _AS_RUNNING * running_a:
        return []  # it sleeps between the ticks
    lengths_s = (rest.last - rest.first) * rest.current.interval_s
    if not awake.any() or float(lengths_s[awake].sum()) < _FEW * rest.time_s:
        return []
    asleep_a, known = _asleep_a(waste, mean_a[(count > 0) & asleep])
    cost_a = float(((mean_a - asleep_a) * lengths_s)[awake].sum()) / waste.duration_s
    if cost_a < _MATTERS * waste.usual_a:
        return []
    at = np.flatnonzero(awake)
    from_s, to_s = (float(edge) * rest.current.interval_s for edge in (rest.first[at[0]], rest.last[at[-1]]))
    drawn = quantity_text(float(np.average(mean_a[awake], weights=lengths_s[awake])), "A")
    text = (
        f"{count_text(int(awake.sum()))} of {counted(len(rest.first), 'sleep stretch', 'sleep stretches')}: {drawn} "
        f"({quantity_text(running_a, 'A')} awake): "
        f"sleep is requested but not entered{known}. Check for a pending interrupt, a debugger that keeps clocks "
        f"running, or a peripheral that blocks sleep"
    )
    kind, effects = FindingKind.SLEEP_NOT_ENTERED, waste.less_in(rest.state, cost_a)
    remedy = "Enter the sleep that is requested"
    return [Finding(kind, from_s, to_s, cost_a, confidence(kind), text, remedy, effects)]


def _idles(waste: WasteContext, rest: Rest, mean_a: Floats, running_a: float) -> Flags:
    """Flag stretches from end to end at a current far above sleep, though below that of running: the core waits idle.

    A part that is left on may draw as much. It follows what switched it on whenever that happens, or goes off in the
    midst of a stretch; a core that misses its sleep does so by chance, and up to the next wake.
    """
    blocks, count_of = rest.blocks, len(rest.first)
    low, high = np.full(count_of, np.inf), np.full(count_of, -np.inf)
    np.minimum.at(low, blocks.stretch, blocks.mean_a)
    np.maximum.at(high, blocks.stretch, blocks.mean_a)
    least_a = max(_OF_RUNNING * running_a, _TIMES_FLOOR * abs(rest.floor_a), _RUNNING_A)
    up, flat = high >= least_a, low > _FLAT * high
    idle = up & flat & (mean_a < _AS_RUNNING * running_a)
    after = _woken_by(waste, rest)
    beside = np.isin(after, after[idle]) & (high > 0) & (high < least_a)
    by_chance = beside.sum() >= _BY_CHANCE * idle.sum()
    if idle.sum() < _FEW_STRETCHES or (up & ~flat).sum() > _CUT_SHORT * idle.sum() or not by_chance:
        return np.zeros(count_of, dtype=bool)
    return np.asarray(idle)


def _woken_by(waste: WasteContext, rest: Rest) -> Indices:
    """Return the number of the source of the wake before each stretch."""
    first, _, number = _awake(waste, rest)
    if not len(first):
        return np.zeros(len(rest.first), dtype=np.int64)
    return np.asarray(number[np.clip(np.searchsorted(first, rest.first) - 1, 0, None)])


def _running_a(waste: WasteContext, rest: Rest) -> float | None:
    """Return what flows when the core runs: the least of what states and wakes show, or what flows before a sleep."""
    least, before = _least_awake(waste, rest), _just_before(waste, rest)
    found = [*least.tolist(), *([float(np.median(before))] if len(before) else [])]
    return min((one for one in found if one > 0), default=None)


def _least_awake(waste: WasteContext, rest: Rest) -> Floats:
    """Return for each source the lowest current that holds for a moment in its wakes, their ways in left out.

    Whatever a wake is for, it begins with the core alone; of short wakes that is hardly seen, of others it is.
    """
    interval_s = waste.wakes.interval_s
    first_of, last_of, number = _awake(waste, rest)
    way_in, size = (max(1, round(one / interval_s)) for one in (_WAY_IN_S, _PIECE_S))
    least_a = _RISES * rest.floor_a if rest.floor_a < _RUNNING_A else 0.0
    found: dict[int, list[float]] = {}
    count_of = len(first_of)
    for index in np.unique(np.linspace(0, count_of - 1, min(count_of, _LOOKED_AT)).astype(int)).tolist():
        first, last = int(first_of[index]) + way_in, int(last_of[index])
        count = min((last - first) // size, _PIECES)
        if count < 2:
            continue
        pieces = waste.recording.current.read(first, first + count * size).reshape(count, size).mean(axis=1)
        low, high = np.minimum(pieces[1:], pieces[:-1]), np.maximum(pieces[1:], pieces[:-1])
        holds = low[(low > _HOLDS * high) & (low > least_a)]
        if len(holds):
            found.setdefault(int(number[index]), []).append(float(holds.min()))
    return np.array([float(np.median(one)) for one in found.values()])


def _awake(waste: WasteContext, rest: Rest) -> tuple[Indices, Indices, Indices]:
    """Return where the device is awake by its own word, and what for: its wakes, else its other states."""
    wakes, placement = waste.wakes.wakes, waste.placement
    if waste.alignment.is_unusable and len(rest.first) > 1:
        # The wakes that were found know nothing of the log then: what lies between its sleeps is awake.
        return rest.last[:-1], rest.first[1:], np.zeros(len(rest.first) - 1, dtype=np.int64)
    if any(event.event == "wake" for event in waste.recording.events):
        return wakes.first, wakes.last, wakes.number
    rests = placement.names.index(rest.state) if rest.state in placement.names else UNPLACED
    others = (placement.state != rests) & (placement.state != UNPLACED)
    return placement.edges[:-1][others], placement.edges[1:][others], placement.state[others]


def _just_before(waste: WasteContext, rest: Rest) -> Floats:
    """Return what flows in the last milliseconds before each stretch of sleep."""
    interval_s = rest.current.interval_s
    last = rest.first - max(1, round(1e-3 / interval_s))
    first = last - max(2, round(_BEFORE_S / interval_s))
    wakes, _, _ = _awake(waste, rest)
    begun = wakes[np.clip(np.searchsorted(wakes, rest.first) - 1, 0, None)] if len(wakes) else rest.first
    whole = (first >= begun) & (first >= 0) if len(wakes) else np.zeros(len(first), dtype=bool)
    if not whole.any():
        return np.zeros(0)
    edges = np.unique(np.concatenate((first[whole], last[whole])))
    sums = interval_sums(rest.current, edges, should_stop=waste.should_stop)
    return np.asarray(sums.mean[np.searchsorted(edges, first[whole])])


def _asleep_a(waste: WasteContext, slept_a: Floats) -> tuple[float, str]:
    """Return what sleep should draw, and where that is known from."""
    expected = waste.expected_at_rest
    if expected is not None:
        return expected.current_a, f"; {quantity_text(expected.current_a, 'A')} is expected"
    if len(slept_a):
        least_a = float(np.median(slept_a))
        return least_a, f"; entered, it draws {quantity_text(least_a, 'A')}"
    return 0.0, ""


def _never(waste: WasteContext) -> list[Finding]:
    """Find a device that waits running: it spends most time in a state that draws more than another of its states."""
    # What happens once or twice says nothing of how the device waits.
    rows = [row for row in waste.ledger.rows if row.mean.value is not None and row.entries > _RARE]
    told = [row for row in rows if row.how.startswith("event")]
    if len(told) < 2 or len(told) != len(rows):
        return []
    longest, lowest = max(told, key=lambda row: row.time_share), min(told, key=lambda row: row.mean.value or 0.0)
    resting_a, least_a = longest.mean.value or 0.0, lowest.mean.value or 0.0
    is_rest = longest.dwell_s >= _MOSTLY * sum(row.dwell_s for row in told)
    if not is_rest or least_a < max(_COMPARABLE * resting_a, _RUNNING_A):
        return []
    less_a, words = _could_spare_a(waste, resting_a)
    cost_a = less_a * longest.time_share
    if cost_a < _MATTERS * waste.usual_a:
        return []
    text = (
        f"the device never reports sleep, and {longest.name}, where it spends {duration_text(longest.dwell_s)} of "
        f"{duration_text(waste.duration_s)}, draws {quantity_text(resting_a, 'A')}{words}. Sleep there until the "
        f"next interrupt instead of waiting in a loop"
    )
    effects: tuple[Effect, ...] = (CurrentBy(-less_a, longest.name),)
    least = min(waste.expected, key=lambda one: one.current_a, default=None)
    if least is not None and waste.ledger.row(least.state) is None:
        effects = (*effects, ReplaceState(longest.name, least.state))
    remedy, sure = "Sleep instead of waiting in a loop", confidence(FindingKind.SLEEP_NOT_ENTERED, is_sure=False)
    return [Finding(FindingKind.SLEEP_NOT_ENTERED, 0.0, waste.duration_s, cost_a, sure, text, remedy, effects)]


def _could_spare_a(waste: WasteContext, resting_a: float) -> tuple[float, str]:
    """Return how much less would flow asleep: of the part that runs, where its modes are known; else all of it."""
    least = min(waste.expected, key=lambda one: one.current_a, default=None)
    if least is None or least.current_a >= resting_a:
        return resting_a, ""
    words = f"; {least.state} would draw {quantity_text(least.current_a, 'A')}"
    modes = [(part, part.mode(one.mode)) for one in least.parts for part in waste.parts if part.name == one.part]
    running = [
        (mode.current_a, mode.current_a - asleep.current_a, part.name, mode.name, asleep.name)
        for part, asleep in modes
        if asleep is not None
        for mode in part.modes
        if _RUNS.search(mode.name) and asleep.current_a < mode.current_a <= resting_a
    ]
    if not running:
        return resting_a - least.current_a, words
    # What flows beside the core flows asleep as well, so only the core's part is spared.
    _, less_a, part_name, runs, sleeps = min(running)
    return less_a, f"{words}, with {part_name} in {sleeps} instead of {runs}"
