"""Charge by function: each sample of the program counter stands for the time around it."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from warm_ember.model.arrays import Flags, Floats, Indices
from warm_ember.model.estimate import quantile
from warm_ember.model.placement import UNPLACED, UNPLACED_NAME, Placement
from warm_ember.model.program import ASLEEP, ProgramTrace
from warm_ember.signal.alignment import fit_clock, same_clock
from warm_ember.signal.intervals import integrals
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import Series, ShouldStop, chunks, never

SLEEP_NAME = "asleep"
SILENT_NAME = "no samples"
UNKNOWN_NAME = "no symbol"
_LONGEST_PERIODS = 4.0
_ENOUGH, _FEWEST, _ONE_SIDE = 8, 3, 0.95
_TELLS_OF_EDGE = (1.0, 0.9, 1 / 6)
_TELLS_STEP, _SURELY, _CLEARLY = 30, 6.0, 0.02
_AGREES, _LONG_RUN, _HARDLY, _MOSTLY, _FEW_RUNS = 0.1, 8, 0.1, 0.5, 20
_TOLERATED_PERIODS = 1.5
_CLEARLY_MORE = 1.25
_CAUTION = 0.5


@dataclass(frozen=True, slots=True)
class FunctionRow:
    """What one function took.

    Parameters
    ----------
    name, file
        The function; `SLEEP_NAME`, `SILENT_NAME` or `UNKNOWN_NAME` where no code runs or none is known.
    samples
        How many samples found the core there.
    time_s, charge_c
        What these samples stand for.
    charge_error_c
        Half of the 90 % interval of the charge, from where the samples fell and what flowed there.
    mean_a
        Charge over time.
    states
        Share of its charge in each state, the largest first.
    is_code
        Whether it is code that runs.
    """

    name: str
    file: str
    samples: int
    time_s: float
    charge_c: float
    charge_error_c: float
    mean_a: float
    states: tuple[tuple[str, float], ...]
    is_code: bool


@dataclass(frozen=True, eq=False)
class FunctionLedger:
    """Charge by function.

    Parameters
    ----------
    rows
        The costliest first.
    from_s, to_s
        What of the capture the samples cover.
    charge_c
        Of all rows together: the charge of that stretch, or of one state within it.
    period_s
        From one sample to the next.
    samples
        How many there are.
    shifted_s
        By how much the trace was shifted to fit the current.
    is_locked
        Whether the samples fall on the same moments of what the program repeats, so that they say nothing of the rest.
    """

    rows: tuple[FunctionRow, ...]
    from_s: float
    to_s: float
    charge_c: float
    period_s: float
    samples: int
    shifted_s: float = 0.0
    is_locked: bool = False

    @property
    def asleep(self) -> FunctionRow | None:
        """What flows while no code runs; None where that is never."""
        return next((row for row in self.rows if row.name == SLEEP_NAME), None)

    def files(self) -> tuple[tuple[str, tuple[FunctionRow, ...]], ...]:
        """Return the rows of each source file, the costliest file first; rows that are no code have none."""
        by_file: dict[str, list[FunctionRow]] = {}
        for row in self.rows:
            by_file.setdefault(row.file if row.is_code else row.name, []).append(row)
        ordered = sorted(by_file.items(), key=lambda item: -sum(row.charge_c for row in item[1]))
        return tuple((file, tuple(rows)) for file, rows in ordered)


class LaidTrace(NamedTuple):
    """A trace in capture time, and by how much its beginning was shifted, s; 0 when it stays as it is."""

    trace: ProgramTrace
    shifted_s: float


def lay_on_current(trace: ProgramTrace, levels: Levels, current: Series) -> LaidTrace:
    """Lay a trace on the capture by its ways into and out of sleep, where that fits better than it does as it is.

    Parameters
    ----------
    trace
        The trace as it was imported.
    levels, current
        The capture's levels and its current.
    """
    asleep = trace.addresses == np.uint64(ASLEEP)
    at = np.flatnonzero(np.diff(asleep))
    changes_s = (trace.times_s[at] + trace.times_s[at + 1]) / 2
    edges_s: Floats = levels.edges[1:-1].astype(np.float64) * current.interval_s
    tolerance_s = max(_TOLERATED_PERIODS * trace.period_s, 3 * current.interval_s)
    length_s = current.samples * current.interval_s
    fit = fit_clock(changes_s, edges_s, tolerance_s=tolerance_s, length_s=length_s)
    if fit is None or fit.rival_s is not None:
        return LaidTrace(trace, 0.0)
    same = same_clock(changes_s, edges_s, tolerance_s=tolerance_s)
    if fit.matched <= _CLEARLY_MORE * same.matched:
        return LaidTrace(trace, 0.0)
    return LaidTrace(replace(trace, times_s=fit.offset_s + (1 + fit.drift) * trace.times_s), fit.offset_s)


def function_ledger(
    current: Series,
    trace: ProgramTrace,
    placement: Placement,
    *,
    state: str | None = None,
    should_stop: ShouldStop = never,
) -> FunctionLedger:
    """Give the charge of a capture to functions.

    Parameters
    ----------
    current
        The capture's current.
    trace
        The samples of the program counter.
    placement
        The capture's states, for the share of each.
    state
        Only what was taken in this state; all when None.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    A sample stands for the time from halfway to the one before to halfway to the next, at the current of its own
    moment: a function that runs for less than that time takes what flows while it runs, not what flows around it. No
    further than twice its period, though: what lies between samples farther apart is `SILENT_NAME`, as a unit that
    stops with the core takes none while it sleeps. In each state with enough samples they are scaled to its charge, so
    that all rows together close to the charge of the stretch.

    The error counts where the samples fell and what flowed there. Samples that keep step with what the program repeats
    see one part of it again and again, while other currents flow between them: the program then looks as if it stayed
    in one function, and how long it did so says nothing but how well the steps agree.

    References
    ----------
    W. G. Cochran, *Sampling Techniques*, 3rd ed. 1977, chapters 6 and 8 (ratio estimates; systematic samples of what
    is periodic).
    """
    inside = (trace.times_s >= 0) & (trace.times_s <= current.samples * current.interval_s)
    times_s, addresses = trace.times_s[inside], trace.addresses[inside]
    if not len(times_s):
        return FunctionLedger((), 0.0, 0.0, 0.0, trace.period_s, 0)
    names = _names(trace)
    sample_edges_s, owner = _with_silence(times_s, _owners(trace, addresses), trace.period_s, len(names) - 1)
    whole_s = current.samples * current.interval_s
    sample_edges_s = np.minimum(sample_edges_s, whole_s)
    sample_edges_s, owner = _with_ends(sample_edges_s, owner, whole_s, trace.period_s, len(names) - 1)
    state_edges_s = placement.edges * current.interval_s
    within = (state_edges_s > sample_edges_s[0]) & (state_edges_s < sample_edges_s[-1])
    edges_s = np.unique(np.concatenate((sample_edges_s, state_edges_s[within])))
    piece_state = placement.state[np.searchsorted(state_edges_s, edges_s[:-1], side="right") - 1]
    wanted: Flags = np.ones(len(piece_state), dtype=bool)
    if state is not None:
        wanted = piece_state == (placement.names.index(state) if state in placement.names else UNPLACED)
    part = np.searchsorted(sample_edges_s, edges_s[:-1], side="right") - 1
    sample = np.where(owner[part] == len(names) - 1, -1, _sample_of(times_s, edges_s))
    charge_c, length_s = integrals(current, edges_s, should_stop=should_stop), np.diff(edges_s)
    flows_a = _flowing(current, times_s, should_stop)
    holds = (sample >= 0) & (times_s[sample] >= edges_s[:-1]) & (times_s[sample] <= edges_s[1:])
    seen_c = np.where(holds & ~np.isnan(flows_a[sample]), flows_a[sample] * length_s, charge_c)
    pieces = _Pieces(
        owner[part][wanted],
        piece_state[wanted],
        sample[wanted],
        charge_c[wanted],
        seen_c[wanted],
        _scaled(seen_c, charge_c, piece_state, sample)[wanted],
        length_s[wanted],
        np.isin(edges_s[:-1], sample_edges_s)[wanted],
    )
    covers = (float(edges_s[0]), float(edges_s[-1]))
    rows = _rows(names, pieces, placement)
    is_locked = _sees_little(pieces) or _is_locked(seen_c[sample >= 0], charge_c[sample >= 0])
    whole_c = float(pieces.charge_c.sum())
    return FunctionLedger(rows, *covers, whole_c, trace.period_s, len(times_s), is_locked=is_locked)


def _sample_of(times_s: Floats, edges_s: Floats) -> Indices:
    """Return the sample that each piece of time is nearest to."""
    middle_s = (edges_s[:-1] + edges_s[1:]) / 2
    after = np.clip(np.searchsorted(times_s, middle_s), 1, max(len(times_s) - 1, 1))
    nearer = np.abs(times_s[after - 1] - middle_s) <= np.abs(times_s[np.minimum(after, len(times_s) - 1)] - middle_s)
    return np.asarray(np.where(nearer, after - 1, np.minimum(after, len(times_s) - 1)), dtype=np.int64)


def _flowing(current: Series, times_s: Floats, should_stop: ShouldStop) -> Floats:
    """Return what flows at some moments, which rise."""
    at = np.minimum((times_s / current.interval_s).astype(np.int64), current.samples - 1)
    found = np.full(len(at), np.nan)
    for first, values in chunks(current, int(at[0]), int(at[-1]) + 1, should_stop=should_stop):
        mine = slice(int(np.searchsorted(at, first)), int(np.searchsorted(at, first + len(values))))
        found[mine] = values[at[mine] - first]
    return found


def _scaled(seen_c: Floats, charge_c: Floats, state: Indices, sample: Indices) -> Floats:
    """Return what samples stand for, scaled to the charge of each state; where they are few, the charge around them."""
    states, number = np.unique(state, return_inverse=True)
    told = sample >= 0
    many = np.bincount(number[told], minlength=len(states))
    sums, whole = (np.bincount(number[told], part[told], minlength=len(states)) for part in (seen_c, charge_c))
    fits = (many >= _ENOUGH) & (sums * whole > 0)
    factor = np.where(fits, whole / np.where(fits, sums, 1.0), 1.0)
    return np.where(told & fits[number], seen_c * factor[number], charge_c)


def _is_locked(seen_c: Floats, charge_c: Floats) -> bool:
    """Return whether what flows at the samples is further from the average than samples at random would be."""
    if len(seen_c) < _TELLS_STEP or not charge_c.any():
        return False
    apart = seen_c - charge_c
    error = float(apart.std()) / len(apart) ** 0.5
    return bool(abs(float(apart.mean())) > max(_SURELY * error, _CLEARLY * abs(float(charge_c.mean()))))


@dataclass(frozen=True, eq=False)
class _Pieces:
    """Pieces of time, each of one sample, or none, and one state; the first of a sample says that it begins one.

    `charge_c` is what flows in them, `seen_c` what would at the current of their samples' moments, `taken_c` what these
    stand for.
    """

    owner: Indices
    state: Indices
    sample: Indices
    charge_c: Floats
    seen_c: Floats
    taken_c: Floats
    length_s: Floats
    begins: Flags


def _names(trace: ProgramTrace) -> list[tuple[str, str, bool]]:
    """Return name, file and whether it is code: of each function, then of what is none."""
    known = [(function.name, function.file, True) for function in trace.functions]
    return [*known, (UNKNOWN_NAME, "", True), (SLEEP_NAME, "", False), (SILENT_NAME, "", False)]


def _owners(trace: ProgramTrace, addresses: np.ndarray) -> Indices:
    """Return the number of each sample's owner in `_names`."""
    count = len(trace.functions)
    owner = np.full(len(addresses), count, dtype=np.int64)
    if count:
        starts = np.array([function.address for function in trace.functions], dtype=np.uint64)
        ends = starts + np.array([function.size for function in trace.functions], dtype=np.uint64)
        at = np.searchsorted(starts, addresses, side="right") - 1
        within = (at >= 0) & (addresses < ends[np.maximum(at, 0)])
        owner[within] = at[within]
    owner[addresses == np.uint64(ASLEEP)] = count + 1
    return owner


def _with_silence(times_s: Floats, owner: Indices, period_s: float, silent: int) -> tuple[Floats, Indices]:
    """Return the edges between what samples stand for, and the owner of each piece between two edges."""
    half_s = period_s / 2
    gaps = np.diff(times_s)
    wide = gaps > _LONGEST_PERIODS * period_s
    # After a sample comes either the middle to the next, or the end of its own time and then a silence.
    after = np.where(wide, times_s[:-1] + half_s, times_s[:-1] + gaps / 2)
    edges = np.empty(len(times_s) + 1 + int(wide.sum()))
    owners = np.empty(len(edges) - 1, dtype=np.int64)
    at = np.arange(len(times_s)) + np.concatenate(([0], np.cumsum(wide)))
    owners[at] = owner
    edges[at] = np.concatenate(([max(0.0, times_s[0] - half_s)], np.where(wide, times_s[1:] - half_s, after)))
    edges[-1] = times_s[-1] + half_s
    owners[at[:-1][wide] + 1] = silent
    edges[at[:-1][wide] + 1] = after[wide]
    return edges, owners


def _with_ends(edges_s: Floats, owner: Indices, whole_s: float, period_s: float, silent: int) -> tuple[Floats, Indices]:
    """Return edges and owners up to the ends of the capture; what no samples cover there is silent."""
    if edges_s[0] > _LONGEST_PERIODS * period_s:
        edges_s, owner = np.append(0.0, edges_s), np.append(silent, owner)
    if whole_s - edges_s[-1] > _LONGEST_PERIODS * period_s:
        edges_s, owner = np.append(edges_s, whole_s), np.append(owner, silent)
    return edges_s, owner


def _rows(names: list[tuple[str, str, bool]], pieces: _Pieces, placement: Placement) -> tuple[FunctionRow, ...]:
    count = len(names)
    charges = np.bincount(pieces.owner, pieces.taken_c, count)
    times = np.bincount(pieces.owner, pieces.length_s, count)
    samples = np.bincount(pieces.owner, pieces.begins, count).astype(np.int64)
    errors_c = _errors(pieces, count)
    state_names = (*placement.names, UNPLACED_NAME)
    by_state = np.zeros((count, len(state_names)))
    # The number of what is unplaced is -1: the last column.
    np.add.at(by_state, (pieces.owner, pieces.state), pieces.taken_c)
    rows = []
    for number in np.argsort(-charges, kind="stable"):
        if not times[number]:
            continue
        name, file, is_code = names[number]
        charge_c, time_s = float(charges[number]), float(times[number])
        order = np.argsort(-by_state[number]).tolist() if charge_c else []
        shares = [(state_names[k], float(by_state[number, k] / charge_c)) for k in order]
        rows.append(
            FunctionRow(
                name=name,
                file=file,
                samples=int(samples[number]) if name != SILENT_NAME else 0,
                time_s=time_s,
                charge_c=charge_c,
                charge_error_c=float(errors_c[number]) if name != SILENT_NAME else 0.0,
                mean_a=charge_c / time_s,
                states=tuple((state, share) for state, share in shares if share > 0),
                is_code=is_code,
            )
        )
    return tuple(rows)


def _in_step(pieces: _Pieces) -> Flags:
    """Return which samples keep step with the program: one owner again and again, and never what flows around them.

    Returns
    -------
    Flags
        Of the samples in the pieces, in their order.
    """
    owner, seen_c, charge_c = _by_sample(pieces)
    if not len(owner):
        return np.zeros(0, dtype=bool)
    opens = np.flatnonzero(np.append(True, owner[1:] != owner[:-1]))
    lasts = np.diff(np.append(opens, len(owner)))
    agree = np.abs(seen_c - charge_c) <= _AGREES * np.maximum(np.abs(seen_c), np.abs(charge_c))
    shares = np.add.reduceat(agree.astype(np.float64), opens) / lasts
    return np.repeat((lasts >= _LONG_RUN) & (shares < _HARDLY), lasts)


def _sees_little(pieces: _Pieces) -> bool:
    """Return whether most samples keep step with the program and went through it a few times only, if at all."""
    keeps_step, (owner, _, _) = _in_step(pieces), _by_sample(pieces)
    runs = int((np.diff(owner[keeps_step]) != 0).sum()) + 1
    return bool(len(owner) and keeps_step.mean() > _MOSTLY and runs < _FEW_RUNS)


def _by_sample(pieces: _Pieces) -> tuple[Indices, Floats, Floats]:
    """Return of each sample its owner, what flows at its moment and what flows around it."""
    told = pieces.sample >= 0
    _, first, rank = np.unique(pieces.sample[told], return_index=True, return_inverse=True)
    seen_c, charge_c = (
        np.bincount(rank, part[told], len(first)).astype(np.float64) for part in (pieces.seen_c, pieces.charge_c)
    )
    return pieces.owner[told][first], seen_c, charge_c


def _tells_of_lasting(owner: Indices, count: int) -> Floats:
    """Return how much of the spread between neighbours is error, by how surely an owner lasts from sample to sample.

    Notes
    -----
    Of runs that end by chance, neighbouring samples correlate by ``r = exp(-x)``, and the sum of the samples misses the
    integral by ``coth(x / 2) - 2 / x`` of the variance of one sample each, where their differences show ``1 - r``. What
    counts of `r` is half a standard error less than what is seen, so that what does not last is seldom taken to.
    """
    many = np.maximum(np.bincount(owner, minlength=count), 1)
    stays = np.bincount(owner[:-1][owner[1:] == owner[:-1]], minlength=count) / many
    share = np.minimum(many / len(owner), 0.999)
    alike = (stays - share) / (1 - share) - _CAUTION / math.sqrt(len(owner))
    alike = np.clip(alike, 0.0, 0.999)
    lasts = -np.log(np.maximum(alike, 1e-300))
    return np.where(alike > 0, (1 / np.tanh(lasts / 2) - 2 / lasts) / (1 - alike), 1.0)


def _errors(pieces: _Pieces, count: int) -> Floats:
    """Return half of the 90 % interval of the charge of each owner, shape ``(count,)``.

    Notes
    -----
    With samples at even times a function that runs for many of them is known to within one at either end: an end lies
    anywhere between two samples, with a twelfth of a square as its variance. Of runs of single samples no more is known
    than that neighbours differ. So the variance is taken from neighbours, and not from what all samples scatter by.

    References
    ----------
    K. M. Wolter, *Introduction to Variance Estimation*, 2nd ed. 2007, section 8.2 (systematic samples, successive
    differences).
    """
    told = pieces.sample >= 0
    samples, rank = np.unique(pieces.sample[told], return_inverse=True)
    many = len(samples)
    if many < _FEWEST:
        return np.bincount(pieces.owner[told], pieces.taken_c[told], minlength=count).astype(np.float64)
    taken_c = np.bincount(rank, pieces.taken_c[told], minlength=many)
    owner = np.zeros(many, dtype=np.int64)
    owner[rank] = pieces.owner[told]
    charges_c = np.bincount(owner, taken_c, minlength=count)
    share = charges_c / taken_c.sum() if taken_c.sum() else charges_c
    before, after, steps_c = owner[:-1], owner[1:], np.diff(taken_c)
    same = before == after
    # How much an edge between two runs tells: less the more of them go on beyond the two samples at it.
    later = np.append(same[1:], (False, False))
    earlier = np.append((False, False), same[:-1])
    goes_on = (later[:-1] & later[1:]).astype(int) + (earlier[1:] & earlier[:-1])
    lasting = _tells_of_lasting(owner, count)
    tells = np.minimum(np.array(_TELLS_OF_EDGE)[goes_on], np.maximum(lasting[before], lasting[after]))
    tells = np.where(same, 1.0, tells)
    squares = np.bincount(after, tells * np.where(same, steps_c**2, taken_c[1:] ** 2), minlength=count)
    squares += np.bincount(before, tells * np.where(same, 0.0, taken_c[:-1] ** 2), minlength=count)
    crossed = np.bincount(after, tells * taken_c[1:] * steps_c, minlength=count)
    crossed -= np.bincount(before, tells * taken_c[:-1] * steps_c, minlength=count)
    variance = squares - 2 * share * crossed + share**2 * float((tells * steps_c**2).sum())
    error_c = np.sqrt(np.maximum(variance, 0.0) * many / (2 * (many - 1)))
    # An end lies evenly between two samples: the sum of a few such ends reaches less far than Student's distribution.
    error_c = error_c * quantile(_ONE_SIDE, math.inf)
    keeps_step = _in_step(pieces)
    if keeps_step.any():
        opens = np.flatnonzero(np.append(True, ~same))
        runs_c = np.where(keeps_step[opens], np.add.reduceat(taken_c, opens), 0.0)
        longest_c = np.zeros(count)
        np.maximum.at(longest_c, owner[opens], np.abs(runs_c))
        error_c = np.maximum(error_c, longest_c)
    return np.asarray(error_c)
