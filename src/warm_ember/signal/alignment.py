"""Laying one clock on another by events that both saw."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from warm_ember.model.arrays import Floats

LARGEST_DRIFT = 500e-6
USUAL_DRIFT = 100e-6
_VOTES = 2_000_000
_ENOUGH_VOTERS, _MOST_VOTES = 30, 8_000_000
_CANDIDATES = 16
_PLACED = 3
FEWEST_SHARE = 1 / 3
_CLEAR_SHARE = 0.02
_NEARLY_ALL = 0.92
_UNLIKELY = 3e-3
_SOME = 12
_FIRST, _MOST_FIRST = 8, 64

_Candidate = tuple[float, float]
"""An offset, and the target's time at which it holds, s."""


@dataclass(frozen=True, slots=True)
class ClockFit:
    """A map from one clock to another: ``capture = offset_s + (1 + drift) * target``.

    Parameters
    ----------
    offset_s, drift
        The map.
    residual_s
        Root mean square of what it leaves over.
    matched
        How many of the target's times found a partner.
    expected
        How many of them fall into the capture by this map.
    rival_s
        By how much another map that fits as well is shifted; None when this one is clearly the best.
    """

    offset_s: float
    drift: float
    residual_s: float
    matched: int
    expected: int = 0
    rival_s: float | None = None

    def at(self, target_s: float) -> float:
        """Map one time."""
        return self.offset_s + (1 + self.drift) * target_s

    @property
    def missed(self) -> int:
        """How many of the target's times should have a partner and have none."""
        return self.expected - self.matched


def fit_clock(
    target_s: Floats,
    capture_s: Floats,
    *,
    tolerance_s: float,
    length_s: float | None = None,
    fewest: float = FEWEST_SHARE,
) -> ClockFit | None:
    """Match two lists of times of the same happenings and fit offset and drift.

    Parameters
    ----------
    target_s, capture_s
        Times in the two clocks, s, finite, rising, shapes ``(n,)`` and ``(m,)``; either list may miss some or hold
        further ones, and may be empty.
    tolerance_s
        How far a matched pair may be apart.
    length_s
        Length of the capture, to know which of the target's times it should hold; the last of `capture_s` when None.
    fewest
        Which share of what the capture should hold has to match at least.

    Returns
    -------
    ClockFit or None
        None when fewer pairs match than that share, than three, or than what chance would match in one map or among all
        that are tried; so with an empty list.

    Notes
    -----
    All differences between the first times of both lists vote for an offset; among offsets that miss equally few
    times the smallest is taken. From there the match is grown along the time axis while the drift is refined,
    so that drifts up to 500 ppm are followed over any length. A map is ambiguous when another one pairs nearly as many
    and misses hardly more times than it does, as in a strictly regular pattern. It is not when both clocks began
    together, or when it pairs all times of both lists, which a map shifted by a period does not.

    References
    ----------
    The vote is a one-dimensional Hough transform (R. Duda, P. Hart, *Communications of the ACM* 15, 1972, p. 11), the
    map a straight line by least squares over the matched pairs.
    """
    if len(target_s) == 0 or len(capture_s) == 0:
        return None
    end_s = float(capture_s[-1]) if length_s is None else length_s
    fits: list[ClockFit] = []
    for candidate in _candidate_offsets(target_s, capture_s, tolerance_s, end_s):
        fit = _grown(target_s, capture_s, candidate, tolerance_s, end_s)
        if fit is not None and _is_more_than_chance(fit, len(target_s), len(capture_s), end_s, tolerance_s, fewest):
            if fit.matched == len(target_s) == len(capture_s):
                return fit  # nothing is left that another could match
            fits.append(fit)
    if not fits:
        return None
    best = max(fits, key=lambda fit: (fit.matched, -abs(fit.offset_s)))
    starts_together = abs(best.offset_s) <= 2 * tolerance_s
    pairs_all = best.matched >= (1 - _CLEAR_SHARE) * max(len(target_s), len(capture_s))
    if starts_together or pairs_all:
        return best
    clear = max(1.0, _CLEAR_SHARE * best.matched)
    middle_s = (end_s / 2 - best.offset_s) / (1 + best.drift)
    shifts = [
        fit.at(middle_s) - best.at(middle_s)
        for fit in fits
        if fit.missed - best.missed < clear and fit.matched >= _NEARLY_ALL * best.matched
    ]
    others = [shift for shift in shifts if abs(shift) > 4 * tolerance_s]
    return replace(best, rival_s=min(others, key=abs)) if others else best


def _is_more_than_chance(
    fit: ClockFit, targets: int, captures: int, end_s: float, tolerance_s: float, fewest: float
) -> bool:
    by_chance = fit.expected * min(1.0, captures * 2 * tolerance_s / max(end_s, tolerance_s))
    needed = max(min(3, targets), fewest * fit.expected, by_chance + 5 * math.sqrt(by_chance))
    if fit.matched < needed:
        return False
    return fit.matched == targets or _maps_by_chance(fit, targets, captures, end_s, tolerance_s) < _UNLIKELY


def _maps_by_chance(fit: ClockFit, targets: int, captures: int, end_s: float, tolerance_s: float) -> float:
    """Return how many maps between times that have nothing to do with each other pair so many, on average.

    One pair gives the offset and the drift lays a second one on, so that only the others tell anything: of few matches
    among many times hardly one.
    """
    each, span_s = fit.matched, max(end_s, tolerance_s)
    falls_on = min(1.0, captures * 2 * tolerance_s / span_s)
    is_laid_on = min(1.0, captures * 2 * (tolerance_s + LARGEST_DRIFT * span_s) / span_s)
    which = math.lgamma(fit.expected) - math.lgamma(each) - math.lgamma(fit.expected - each + 1)
    logarithm = math.log(targets * captures) + which + math.log(is_laid_on) + max(each - 2, 0) * math.log(falls_on)
    return math.exp(min(logarithm, 700.0))


def same_clock(target_s: Floats, capture_s: Floats, *, tolerance_s: float) -> ClockFit:
    """Return how well the times fit when both clocks are taken as the same.

    Parameters
    ----------
    target_s, capture_s
        Times in the two clocks, s, finite, shapes ``(n,)`` and ``(m,)``; `capture_s` rises. They may hold the same
        time twice.
    tolerance_s
        How far a matched pair may be apart.

    Returns
    -------
    ClockFit
        Without offset and drift; it matches none of none when a list is empty.
    """
    if len(target_s) == 0 or len(capture_s) == 0:
        return ClockFit(0.0, 0.0, 0.0, 0)
    apart = nearest(target_s, capture_s) - target_s
    close = apart[np.abs(apart) <= tolerance_s]
    residual_s = float(np.sqrt(np.mean(close**2))) if len(close) else 0.0
    return ClockFit(0.0, 0.0, residual_s, len(close), len(target_s))


def nearest(times: Floats, among: Floats) -> Floats:
    """Return for each time the nearest of others, the earlier one of two that are as near.

    Parameters
    ----------
    times
        Shape ``(n,)``, in any order; a NaN gives one of the others.
    among
        Rising and not empty, shape ``(m,)``.

    Returns
    -------
    Floats
        Shape ``(n,)``.
    """
    after = np.clip(np.searchsorted(among, times), 1, max(len(among) - 1, 1))
    left, right = among[after - 1], among[np.minimum(after, len(among) - 1)]
    return np.where(np.abs(times - left) <= np.abs(right - times), left, right)


def _candidate_offsets(target_s: Floats, capture_s: Floats, tolerance_s: float, end_s: float) -> list[_Candidate]:
    """Return the offsets with the most votes, of equals the smallest first.

    A long span of times tells one period of a repeating pattern from the next, but a drift smears its votes;
    so a long span votes coarsely, and a short span within the capture places each of the winners finely.
    """
    voters = target_s[: max(8, min(len(target_s), _VOTES // max(len(capture_s), 1)))]
    polls = [(voters, capture_s, float(voters[-1] - voters[0]))]
    if len(voters) < len(target_s):
        # The first times of a long log may all lie before the capture: then those of the capture vote.
        # Among a hundred thousand times a handful would be outvoted by chance.
        enough = min(_ENOUGH_VOTERS, _MOST_VOTES // len(target_s))
        seen = capture_s[: max(8, enough, min(len(capture_s), _VOTES // len(target_s)))]
        polls.append((target_s, seen, float(seen[-1] - seen[0])))
    found: list[_Candidate] = []
    for voting_s, seen_s, span_s in polls:
        # What lies beyond the capture finds no partner: the votes of those within are smeared over its length at most.
        coarse_s = max(2 * tolerance_s, 2 * LARGEST_DRIFT * min(span_s, end_s))
        usual_s = max(2 * tolerance_s, coarse_s * USUAL_DRIFT / LARGEST_DRIFT)
        differences = _differences(voting_s, seen_s)
        # Among many shifts of a period that fit nearly as well, narrow votes tell the true one if the drift is small.
        coarse = [*_most_voted(differences, usual_s), *_most_voted(differences, coarse_s)]
        found += _placed_finely(coarse, target_s, capture_s, coarse_s, tolerance_s, end_s)
    return list(dict.fromkeys(found))


def _placed_finely(
    coarse: list[float], target_s: Floats, capture_s: Floats, coarse_s: float, tolerance_s: float, end_s: float
) -> list[_Candidate]:
    """Place offsets that are known coarsely by a short span of times within the capture."""
    found: list[_Candidate] = []
    for offset_s in dict.fromkeys(coarse):
        begin_s = min(coarse_s, end_s / 4) if coarse_s > 2 * tolerance_s else -coarse_s
        inside = target_s[np.searchsorted(target_s, begin_s - offset_s) :]
        if not len(inside):
            continue
        holds_s = float(inside[0])
        short = int(np.searchsorted(inside, holds_s + max(2 * tolerance_s / LARGEST_DRIFT, 1.0)))
        # A few times fit by chance as well: some more tell, though a large drift smears them.
        for some in {short if short >= 3 else _SOME, max(short, _SOME)}:
            near = _near(inside[:some], capture_s, offset_s, coarse_s)
            if len(near):
                found += [(fine_s, holds_s) for fine_s in _most_voted(near, 2 * tolerance_s, most=_PLACED)]
    return found


def _differences(target_s: Floats, capture_s: Floats) -> Floats:
    return (capture_s[:, None] - target_s[None, :]).ravel()


def _near(target_s: Floats, capture_s: Floats, offset_s: float, within_s: float) -> Floats:
    """Return the differences that are near an offset."""
    first = np.searchsorted(capture_s, target_s + (offset_s - within_s), side="left")
    count = np.searchsorted(capture_s, target_s + (offset_s + within_s), side="right") - first
    at = np.repeat(first - np.concatenate(([0], np.cumsum(count)[:-1])), count) + np.arange(count.sum())
    return capture_s[at] - np.repeat(target_s, count)


def _most_voted(offsets_s: Floats, bin_s: float, most: int = _CANDIDATES) -> list[float]:
    """Return the middles of the windows of that width that hold the most offsets, not overlapping."""
    ordered = np.sort(offsets_s)
    votes = np.searchsorted(ordered, ordered + bin_s, side="right") - np.arange(len(ordered))
    places = np.arange(len(ordered))
    middles = (ordered[places + (votes - 1) // 2] + ordered[places + votes // 2]) / 2
    # Of equal votes the smaller offset goes first.
    score = votes - 0.5 * np.abs(ordered) / max(float(np.abs(ordered).max(initial=0.0)), 1e-300)
    found: list[float] = []
    while len(found) < most and len(score):
        best = int(np.argmax(score))
        if score[best] < 0:
            break
        found.append(float(middles[best]))
        # They rise, so that those within the window lie side by side.
        first = np.searchsorted(middles, middles[best] - bin_s, side="left")
        score[first : np.searchsorted(middles, middles[best] + bin_s, side="right")] = -1.0
    return found


def _grown(
    target_s: Floats, capture_s: Floats, candidate: _Candidate, tolerance_s: float, end_s: float
) -> ClockFit | None:
    """Follow a match from the capture's first times to its last, refining offset and drift on the way."""
    offset_s, _ = candidate
    all_s, reach, drift = target_s, 2 * tolerance_s, 0.0
    # A bunch of times close together says nothing of the drift: until they span more the usual one is likely.
    held = (tolerance_s / 4 / USUAL_DRIFT) ** 2
    target_s = all_s[np.searchsorted(all_s, -tolerance_s - offset_s) :]
    target_s = target_s[: np.searchsorted(target_s, end_s * (1 + LARGEST_DRIFT) - offset_s + tolerance_s)]
    if not len(target_s):
        return None
    known, allowed = _begun(target_s, capture_s, candidate, tolerance_s)
    while True:
        part = target_s[:known]
        predicted = offset_s + (1 + drift) * part
        partner = nearest(predicted, capture_s)
        close = np.abs(partner - predicted) <= allowed
        if close.sum() < min(3, known):
            return None
        offset_s, drift = _line(part[close], partner[close], drift, held)
        if known == len(target_s) and allowed <= reach:
            break
        allowed = max(reach, allowed / 4)
        known = min(len(target_s), 2 * known)
    residual = partner[close] - (offset_s + (1 + drift) * part[close])
    kept = np.abs(residual) <= tolerance_s
    if abs(drift) > LARGEST_DRIFT or not kept.any():
        return None
    matched, target, capture = int(kept.sum()), part[close][kept], partner[close][kept]
    for _ in range(3):  # chance partners lie anywhere within the tolerance, true ones close together
        free = _line(target, capture, drift)
        offset_s, drift = free if abs(free[1]) <= LARGEST_DRIFT else _line(target, capture, drift, held)
        left = np.abs(capture - (offset_s + (1 + drift) * target))
        good = left <= max(4 * float(np.median(left)), 1e-9)
        target, capture = target[good], capture[good]
    if abs(drift) > LARGEST_DRIFT:
        return None
    left = capture - (offset_s + (1 + drift) * target)
    mapped = offset_s + (1 + drift) * all_s
    inside = (mapped >= -tolerance_s) & (mapped <= end_s + tolerance_s)
    return ClockFit(offset_s, drift, float(np.sqrt(np.mean(left**2))), matched, max(int(inside.sum()), matched))


def _begun(target_s: Floats, capture_s: Floats, candidate: _Candidate, tolerance_s: float) -> tuple[int, float]:
    """Return how many of the first times tell an offset, and how far their partners may be off.

    The first of them may all be lost in the capture, or told of what never happened.
    """
    offset_s, holds_s = candidate
    known = min(len(target_s), _FIRST)
    while True:
        allowed_s = max(4 * tolerance_s, 2 * LARGEST_DRIFT * (max(target_s[known - 1], holds_s) - target_s[0]))
        predicted = offset_s + target_s[:known]
        close = np.abs(nearest(predicted, capture_s) - predicted) <= allowed_s
        if close.sum() >= min(3, known) or known == len(target_s) or known >= _MOST_FIRST:
            return known, allowed_s
        known = min(len(target_s), 2 * known)


def _line(target_s: Floats, capture_s: Floats, drift: float, held: float = 0.0) -> tuple[float, float]:
    """Fit ``capture - target = offset + drift * target``; with too few or too close points keep the drift.

    With `held`, s², the drift is held near to what it was as by points that far from their middle.
    """
    difference = capture_s - target_s
    span_s = target_s[-1] - target_s[0]
    if len(target_s) < 3 or span_s <= 0:
        return float(np.mean(difference - drift * target_s)), drift
    centre = target_s.mean()
    moment = float(np.sum((target_s - centre) ** 2))
    slope = (float(np.sum((target_s - centre) * difference)) + held * drift) / (moment + held)
    return float(difference.mean() - slope * centre), slope
