"""What a sequence of states says of the mean current beyond the capture itself: what else might have been captured.

How often a state was entered, for how long, and at what current are three things that chance may make otherwise.
They are taken together, as charge over the time from one entry to the next: a timer's entries come with an even
interval, so only their charges scatter; what comes by chance has intervals that scatter as well.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.estimate import NOTHING_KNOWN, Estimate, total
from warm_ember.signal.estimates import ratio
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.series import Series

_BLOCKS = 32
_LEAST_TIME, _MOSTLY = 0.1, 0.25
_MOST_STATES = 62


@dataclass(frozen=True, eq=False)
class Sequence:
    """The states of a capture one after the other.

    Parameters
    ----------
    state
        Of each interval, shape ``(intervals,)``.
    edges
        Sample indices, shape ``(intervals + 1,)``.
    charge_c, measured_s
        Of each interval.
    current
        What they lie in.
    """

    state: Indices
    edges: Indices
    charge_c: Floats
    measured_s: Floats
    current: Series

    @property
    def begins_s(self) -> Floats:
        """When each interval begins, s, shape ``(n,)``."""
        return np.asarray(self.edges[:-1] * self.current.interval_s, dtype=np.float64)

    @property
    def duration_s(self) -> float:
        """How long they last together."""
        return float(self.edges[-1] - self.edges[0]) * self.current.interval_s


def added_by(sequence: Sequence, state: int) -> Estimate:
    """Return what a state adds to the mean current of its capture.

    Parameters
    ----------
    sequence
        The states.
    state
        Number of the state.

    Notes
    -----
    Of a state that was entered once and takes much of the capture, the current's own course tells, block by block.
    """
    mine = np.flatnonzero(sequence.state == state)
    if len(mine) == 1 and sequence.measured_s[mine[0]] > _MOSTLY * sequence.measured_s.sum():
        first, last = int(sequence.edges[mine[0]]), int(sequence.edges[mine[0] + 1])
        share = (last - first) * sequence.current.interval_s / sequence.duration_s
        return _in_blocks(sequence.current, first, last).times(share)
    return recurring(sequence.begins_s[mine], sequence.charge_c[mine], sequence.duration_s)


def recurring(begins_s: Floats, charges_c: Floats, duration_s: float) -> Estimate:
    """Return the mean current that comes of something that happens again and again.

    Parameters
    ----------
    begins_s, charges_c
        When each begins, rising, and what it takes, shape ``(n,)``.
    duration_s
        How long was looked.

    Notes
    -----
    A renewal-reward estimate: charge over the time to the next beginning; the time after the last counts with that
    before the first. Of what happened once, chance might as well have brought none or two: its error and its skew are
    those of a Poisson count.

    References
    ----------
    S. M. Ross, *Stochastic Processes*, 2nd ed. 1996, section 3.6 (renewal reward processes).
    """
    if not len(charges_c) or not duration_s > 0:
        return Estimate(0.0)
    if len(charges_c) == 1:
        added_a = float(charges_c[0]) / duration_s
        return Estimate(added_a, abs(added_a), skew=added_a**3)
    return ratio(charges_c, np.diff(np.append(begins_s, begins_s[0] + duration_s)))


def mean_of_sequence(sequence: Sequence) -> Estimate:
    """Return the mean current of a capture with what is known of its error.

    Notes
    -----
    What happens between two stretches of rest is one happening of a kind, which the states in it tell; each kind adds
    its own, independent of the others, and rest adds what it takes. The state of rest is the lowest of those with a
    tenth of the time.
    """
    measured_s = float(sequence.measured_s.sum())
    if not measured_s > 0:
        return NOTHING_KNOWN
    rest = _rest(sequence)
    resting = sequence.state == rest
    if resting.sum() < 2:
        return _in_blocks(sequence.current, int(sequence.edges[0]), int(sequence.edges[-1]))
    opens = np.flatnonzero(~resting & np.append(True, resting[:-1]))
    first_of = np.searchsorted(np.flatnonzero(~resting), opens)
    charges_c = np.add.reduceat(sequence.charge_c[~resting], first_of) if len(opens) else np.zeros(0)
    kinds = _kinds(first_of, sequence.state[~resting])
    begins_s = sequence.begins_s
    parts = [added_by(sequence, rest)]
    for kind in np.unique(kinds).tolist():
        mine = kinds == kind
        parts.append(recurring(begins_s[opens[mine]], charges_c[mine], sequence.duration_s))
    # Where samples are missing the mean is over what was measured.
    found = total(parts).times(sequence.duration_s / measured_s)
    return Estimate(float(sequence.charge_c.sum()) / measured_s, found.error, found.freedom, found.skew)


def _rest(sequence: Sequence) -> int:
    """Return the lowest state that takes a tenth of the time."""
    states, number = np.unique(sequence.state, return_inverse=True)
    charge_c, time_s = np.bincount(number, sequence.charge_c), np.bincount(number, sequence.measured_s)
    mean_a = np.where(time_s >= _LEAST_TIME * time_s.sum(), charge_c / np.maximum(time_s, 1e-300), np.inf)
    return int(states[int(np.argmin(mean_a))])


def _kinds(opens: Indices, state: Indices) -> Indices:
    """Return for each happening a number that stands for the set of states in it.

    Parameters
    ----------
    opens
        Where each begins among the intervals outside rest, rising.
    state
        The states of these intervals.
    """
    bits = np.left_shift(np.int64(1), (state + 1) % _MOST_STATES)
    return np.asarray(np.bitwise_or.reduceat(bits, opens) if len(opens) else opens)


def _in_blocks(current: Series, first: int, last: int) -> Estimate:
    """Return the mean current of a stretch from blocks of its time."""
    edges = np.unique(np.linspace(first, last, min(_BLOCKS, max(last - first, 1)) + 1).astype(np.int64))
    sums = interval_sums(current, edges)
    return ratio(sums.total, sums.count.astype(np.float64))
