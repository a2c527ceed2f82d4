"""The target's clock laid on the capture's: on sync pulses, else on the changes of the current."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Floats
from warm_ember.model.placement import SAME_CLOCK, Alignment
from warm_ember.signal.alignment import FEWEST_SHARE, ClockFit, fit_clock, nearest, same_clock
from warm_ember.signal.bands import band_stays
from warm_ember.signal.bits import LineSeries, rising_edges
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import CHUNK_SAMPLES
from warm_ember.units import counted, duration_text, format_trimmed

TIMED_EVENTS = ("state", "wake", "sleep", "sync")
"""What a log is laid on a capture by."""
_SHORTEST_TOLERANCE_S = 1e-3
_NEARER = 0.25
_CROWD, _FEW = 0.1, 8
_CLOSEST, _DENSE_SHARE = 1.5, 0.5
_OFTEN = 3
_LATE_S, _LATE_SHARE, _SPARSE = 25e-3, 0.8, 0.3


def align(recording: Recording, levels: Callable[[], Levels]) -> Alignment:
    """Find how the log's clock maps to the capture's.

    Parameters
    ----------
    recording
        The capture with its log.
    levels
        Gives the levels of the current where they are needed.

    Returns
    -------
    Alignment
        Both clocks are taken as the same when the log fits the capture as it is, or when nothing fits better.

    Notes
    -----
    Sync pulses on a line go first. When they are so regular that several shifts fit, the changes of the current
    tell which; and where these do not either, the nearest pulse is taken if it is far nearer than the next.
    """
    length_s = recording.current.samples * recording.current.interval_s
    tolerance_s = max(3 * recording.current.interval_s, _SHORTEST_TOLERANCE_S)
    on_line = _by_sync_line(recording, tolerance_s, length_s)
    if on_line is not None and not on_line.is_ambiguous:
        return on_line
    on_changes = _by_changes(recording, levels, tolerance_s, length_s)
    if on_changes.matched and not on_changes.is_unusable:
        return on_changes
    on_pulses = on_line if on_line is not None else _by_sync_pulses(recording, levels, tolerance_s, length_s)
    if on_pulses is None:
        return on_changes
    is_near = abs(on_pulses.offset_s) <= _NEARER * abs(on_pulses.rival_s or 0.0)
    return replace(on_pulses, rival_s=None, method=f"{on_pulses.method}, nearest pulse") if is_near else on_pulses


def _views_of_edges(recording: Recording, found: Levels, changes: int) -> list[tuple[Floats, Floats]]:
    """Return all edges and rises of the current, then those that come about as often as the log's changes."""
    every = _edges(recording, found, _crowd(recording))
    # Among what hum adds the log's own changes are lost: those that come about as often as they do tell by themselves.
    seldom = _edges(recording, found, _OFTEN * changes)
    return [every, seldom] if len(seldom[0]) < len(every[0]) / 2 else [every]


def _by_changes(recording: Recording, levels: Callable[[], Levels], tolerance_s: float, length_s: float) -> Alignment:
    """Match the log with the current: what must have made it rise, and all that should have changed it."""
    found, interval_s = levels(), recording.current.interval_s
    changes_s, woken_s = _changes(recording), _times(recording, ("wake", "sync"))
    views = _views_of_edges(recording, found, len(changes_s))
    edges_s = views[0][0]
    # A wake that is taken for the end of another one, a pulse's width later, would fit just as well: it is a rise.
    ways = [(woken_s, rises, tolerance_s, FEWEST_SHARE, "rises of the current") for _, rises in views]
    if len(_times(recording, ("state", "sleep"))):
        ways += [(changes_s, edges, tolerance_s, FEWEST_SHARE, "changes of the current") for edges, _ in views]
        if len(changes_s) > _crowd(recording) and len(found.centres_a) > 1:
            # Where something happens all the time anything fits, unless it has to fit as closely as that is dense.
            every_s = _crossings(recording, found)
            close_s = max(_CLOSEST * interval_s, min(tolerance_s, _CROWD * length_s / max(len(every_s), 1)))
            ways.append((changes_s, every_s, close_s, _DENSE_SHARE, "changes of the current"))
    tried = [
        _fitted(target_s, partners_s, within_s, fewest, length_s, interval_s, what)
        for target_s, partners_s, within_s, fewest, what in ways
        if len(target_s)
    ]
    confirmed = [one for one in tried if one.is_confirmed and not (one.is_unconfirmed or one.lies_outside)]
    late = Alignment()
    if not any(not one.is_ambiguous for one in confirmed) and len(edges_s) * 2 * _LATE_S < _SPARSE * length_s:
        # Lines that were stamped when they came over a console come some milliseconds late, each differently so.
        late = _fitted(changes_s, edges_s, _LATE_S, _LATE_SHARE, length_s, interval_s, "late changes")
    is_late = late.matched > 0 and late.method != SAME_CLOCK and not late.is_unusable
    if not confirmed:
        return late if is_late else tried[-1] if tried else Alignment()
    # A few wakes may fall on what is regular, such as a radio that listens: what explains more of the whole log counts.
    pairs = ((changes_s, views[-1][0]), (woken_s, views[-1][1]))
    best = max(confirmed, key=lambda one: sum(_explained(one, *pair, tolerance_s, length_s) for pair in pairs))
    if not best.is_ambiguous:
        return best
    same = [one for one in confirmed if not one.is_ambiguous and _agree(one, best, 2 * tolerance_s, length_s)]
    if same:
        return same[0]
    # What is known coarsely tells which of several shifts it is.
    return replace(best, rival_s=None) if is_late and _agree(late, best, _LATE_S, length_s) else best


def _agree(one: Alignment, other: Alignment, within_s: float, length_s: float) -> bool:
    """Return whether two maps lay the middle of the capture on about the same time."""
    middle_s = (length_s / 2 - one.offset_s) / (1 + one.drift)
    return abs(other.to_capture(middle_s) - length_s / 2) <= within_s


def _explained(
    alignment: Alignment, target_s: Floats, partners_s: Floats, tolerance_s: float, length_s: float
) -> float:
    """Return how many of the log's times have a partner, the nearer the more, less those that have none."""
    at_s = alignment.offset_s + (1 + alignment.drift) * target_s
    at_s = at_s[(at_s > 0) & (at_s < length_s)]
    if not len(at_s) or not len(partners_s):
        return 0.0
    apart = np.abs(nearest(at_s, partners_s) - at_s) / tolerance_s
    return float(np.where(apart <= 1.0, 1.0 - apart, -1.0).sum())


def _fitted(
    target_s: Floats,
    partners_s: Floats,
    tolerance_s: float,
    fewest: float,
    length_s: float,
    interval_s: float,
    what: str,
) -> Alignment:
    fit = fit_clock(target_s, partners_s, tolerance_s=tolerance_s, length_s=length_s, fewest=fewest)
    same = same_clock(target_s[(target_s > 0) & (target_s < length_s)], partners_s, tolerance_s=tolerance_s)
    as_it_is = Alignment(
        matched=same.matched,
        expected=same.expected,
        residual_s=same.residual_s,
        seen=len(partners_s),
        by_chance=same.expected * min(1.0, len(partners_s) * 2 * tolerance_s / max(length_s, tolerance_s)),
        lies_outside=_lies_outside(target_s, length_s, tolerance_s),
    )
    if fit is None or (len(target_s) == 1 and target_s[0] < 0):  # what held before the capture holds in it
        return as_it_is
    fits_more = fit.matched > 1.25 * same.matched
    # Two clocks that are the same leave less than a sample; a slow drift leaves more, though most pairs are close.
    fits_closer = fit.matched >= 0.95 * same.matched and same.residual_s > max(3 * fit.residual_s, 1.5 * interval_s)
    return _alignment(fit, what) if fits_more or fits_closer else as_it_is


def _lies_outside(target_s: Floats, length_s: float, tolerance_s: float) -> bool:
    """Return whether a log tells nothing of a capture; a single state from before it holds in it."""
    inside = (target_s >= -tolerance_s) & (target_s <= length_s + tolerance_s)
    return not inside.any() and not (len(target_s) == 1 and target_s[0] < 0)


def _by_sync_pulses(
    recording: Recording, levels: Callable[[], Levels], tolerance_s: float, length_s: float
) -> Alignment | None:
    pulses_s = _times(recording, ("sync",))
    if not len(pulses_s):
        return None
    _, rises_s = _edges(recording, levels(), _crowd(recording))
    fit = fit_clock(pulses_s, rises_s, tolerance_s=tolerance_s, length_s=length_s)
    return None if fit is None else _alignment(fit, "sync pulses in the current")


def _edges(recording: Recording, levels: Levels, crowd: float) -> tuple[Floats, Floats]:
    """Return when the level of the current changes, and when it rises.

    Parameters
    ----------
    recording, levels
        The capture and the levels of its current.
    crowd
        With more changes than so, only levels that are crossed no more often than that tell.
    """
    interval_s = recording.current.interval_s
    edges_s: Floats = levels.edges[1:-1].astype(np.float64) * interval_s
    rises, tells = np.diff(levels.level) > 0, np.zeros(len(edges_s), dtype=bool)
    if len(edges_s) <= crowd:
        return edges_s, edges_s[rises]
    # Where a tick or hum moves the current all the time anything fits: only levels that are crossed seldom tell.
    for level in range(len(levels.centres_a) - 1):
        crossed = np.diff(levels.level > level)
        if crossed.sum() <= crowd:
            tells |= crossed
    if tells.sum() < _FEW:  # a device that is as busy as that has nothing else to tell by
        return edges_s, edges_s[rises]
    return edges_s[tells], edges_s[tells & rises]


def _crossings(recording: Recording, levels: Levels) -> Floats:
    """Return all times at which the current goes from one level to another, however short it stays there."""
    centres = levels.centres_a
    between = (float(low + high) / 2 for low, high in itertools.pairwise(centres))
    stays = [band_stays(recording.current, threshold_a, np.inf, hysteresis=0.0) for threshold_a in between]
    edges = np.unique(np.concatenate([stay.ravel() for stay in stays]))
    return edges[(edges > 0) & (edges < recording.current.samples)].astype(np.float64) * recording.current.interval_s


def _crowd(recording: Recording) -> float:
    """Return from how many changes on next to anything would fit the capture."""
    interval_s = recording.current.interval_s
    return _CROWD * recording.current.samples * interval_s / max(3 * interval_s, _SHORTEST_TOLERANCE_S)


def _times(recording: Recording, kinds: tuple[str, ...]) -> Floats:
    return np.unique([event.time_s for event in recording.events if event.event in kinds])


def _alignment(fit: ClockFit, method: str) -> Alignment:
    return Alignment(fit.offset_s, fit.drift, fit.residual_s, fit.matched, method, fit.expected, fit.rival_s)


def _by_sync_line(recording: Recording, tolerance_s: float, length_s: float) -> Alignment | None:
    lines = recording.lines
    names = {event.name for event in recording.events if event.event == "sync"}
    if lines is None or not names & set(lines.names):
        return None
    line = next(name for name in lines.names if name in names)
    target_s = np.array([e.time_s for e in recording.events if e.event == "sync" and e.name == line])
    fit = fit_clock(target_s, line_rises_s(lines, line), tolerance_s=tolerance_s, length_s=length_s)
    return None if fit is None else _alignment(fit, f"sync line {line}")


def line_rises_s(lines: LineSeries, name: str, *, rising: bool = True) -> Floats:
    """Find when a line rises, or falls.

    Parameters
    ----------
    lines
        The digital lines.
    name
        One of them.
    rising
        Whether it rises or falls.

    Returns
    -------
    Floats
        Capture times, s, rising, shape ``(n,)``; a line that is high from the start has not risen there.

    Notes
    -----
    One pass over the samples, in chunks.
    """
    bit = lines.names.index(name)
    mask, flip = 1 << bit, 0 if rising else 1 << bit
    found, high = [], True
    for first in range(0, lines.samples, CHUNK_SAMPLES):
        values = lines.read(first, min(first + CHUNK_SAMPLES, lines.samples))
        values = values ^ values.dtype.type(flip)
        found.append(rising_edges(values, bit, high) + first)
        high = bool(values[-1] & mask)
    return np.concatenate(found).astype(np.float64) * lines.interval_s if found else np.empty(0)


def _changes(recording: Recording) -> Floats:
    """Return when, by the log, the current should have changed: at states, wakes, sleeps and sync pulses."""
    changed, state = [], None
    for event in recording.events:
        if event.event in ("wake", "sleep", "sync") or (event.event == "state" and event.name != state):
            changed.append(event.time_s)
        state = event.name if event.event == "state" else state
    return np.unique(changed)


def clock_sentence(alignment: Alignment) -> str:
    """Return how the log's clock lies on the capture's, with its figures as rich text."""
    if alignment.is_ambiguous:
        shift = duration_text(abs(alignment.rival_s or 0.0)).rich
        return f"The log fits as well when it is shifted by {shift}: enter the offset, or record a sync pulse."
    if alignment.lies_outside:
        return "The log is of **another time** than the capture and fits nowhere in it: nothing is placed by it."
    if alignment.is_unconfirmed:
        return "The current changes **elsewhere** than the log says, however it is shifted: nothing is placed by it."
    if alignment.method == SAME_CLOCK:
        return "The log's clock is taken as the capture's."
    ppm = f"**{format_trimmed(abs(alignment.drift) / 1e-6, 2)}** millionths {'slow' if alignment.drift > 0 else 'fast'}"
    offset = duration_text(abs(alignment.offset_s)).rich
    when = "after" if alignment.offset_s > 0 else "before"
    return f"The log's clock began {offset} {when} the capture and runs {ppm}."


def misfit_words(alignment: Alignment) -> str:
    """Return why a log fits nowhere, and what was tried."""
    tried = "it was tried with both clocks the same, and shifted with a drift of up to 500 millionths"
    if alignment.lies_outside:
        return f"all events of the log lie outside the capture, and it fits nowhere in it ({tried})"
    counts = f"only {alignment.matched} of the log's {counted(alignment.expected, 'change')} are seen in the current"
    return f"{counts}, which changes {counted(alignment.seen, 'time')}: it is not this capture's log ({tried})"


@dataclass(frozen=True, eq=False)
class Residuals:
    """What a clock map leaves over.

    Parameters
    ----------
    at_s
        Where in the capture the log's changes lie that have a partner there.
    apart_s
        How much later the partner is.
    expected
        How many of the log's changes fall into the capture.
    """

    at_s: Floats
    apart_s: Floats
    expected: int

    @property
    def matched(self) -> int:
        """How many have a partner."""
        return len(self.at_s)

    @property
    def rms_s(self) -> float:
        """Root mean square of what is left; 0 without a partner."""
        return float(np.sqrt(np.mean(self.apart_s**2))) if self.matched else 0.0


def residuals(recording: Recording, alignment: Alignment, levels: Callable[[], Levels]) -> Residuals:
    """Hold a clock map against the capture: against the line it rests on, else against the changes of the current."""
    interval_s = recording.current.interval_s
    length_s = recording.current.samples * interval_s
    lines = recording.lines
    line = next((name for name in (lines.names if lines else ()) if f"sync line {name}" in alignment.method), None)
    if lines is not None and line is not None:
        target_s = np.array([e.time_s for e in recording.events if e.event == "sync" and e.name == line])
        partners_s = line_rises_s(lines, line)
    else:
        target_s = _changes(recording)
        partners_s, _ = _edges(recording, levels(), _crowd(recording))
    at_s = alignment.offset_s + (1 + alignment.drift) * target_s
    at_s = at_s[(at_s > 0) & (at_s < length_s)]
    if not len(at_s) or not len(partners_s):
        return Residuals(np.empty(0), np.empty(0), len(at_s))
    apart_s = nearest(at_s, partners_s) - at_s
    close = np.abs(apart_s) <= max(3 * interval_s, _SHORTEST_TOLERANCE_S)
    return Residuals(at_s[close], apart_s[close], len(at_s))
