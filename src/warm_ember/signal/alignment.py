"""Laying one clock on another by events that both saw."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats

LARGEST_DRIFT = 500e-6
_VOTES = 2_000_000
_CANDIDATES = 8


@dataclass(frozen=True, slots=True)
class ClockFit:
    """``capture = offset_s + (1 + drift) * target``, from `matched` pairs with a root mean square `residual_s`."""

    offset_s: float
    drift: float
    residual_s: float
    matched: int


def fit_clock(target_s: Floats, capture_s: Floats, *, tolerance_s: float) -> ClockFit | None:
    """Match two lists of times of the same happenings and fit offset and drift.

    Parameters
    ----------
    target_s, capture_s
        Rising times in the two clocks, s; either list may miss some or hold further ones.
    tolerance_s
        How far a matched pair may be apart.

    Returns
    -------
    ClockFit or None
        None when fewer than two thirds of the target's times, or fewer than three, find a partner.

    Notes
    -----
    All differences between the first times of both lists vote for an offset; among offsets with equally many
    votes the smallest is taken. From there the match is grown along the time axis while the drift is refined,
    so that drifts up to 500 ppm are followed over any length.
    """
    if len(target_s) == 0 or len(capture_s) == 0:
        return None
    best: ClockFit | None = None
    for offset_s in _candidate_offsets(target_s, capture_s, tolerance_s):
        fit = _grown(target_s, capture_s, offset_s, tolerance_s)
        if fit is not None and (best is None or fit.matched > best.matched):
            best = fit
    needed = max(min(3, len(target_s)), len(target_s) * 2 // 3)
    return best if best is not None and best.matched >= needed else None


def same_clock(target_s: Floats, capture_s: Floats, *, tolerance_s: float) -> ClockFit:
    """Say how well the times fit when both clocks are taken as the same."""
    if len(target_s) == 0 or len(capture_s) == 0:
        return ClockFit(0.0, 0.0, 0.0, 0)
    apart = _nearest(target_s, capture_s) - target_s
    close = apart[np.abs(apart) <= tolerance_s]
    residual_s = float(np.sqrt(np.mean(close**2))) if len(close) else 0.0
    return ClockFit(0.0, 0.0, residual_s, len(close))


def _nearest(times: Floats, among: Floats) -> Floats:
    after = np.clip(np.searchsorted(among, times), 1, max(len(among) - 1, 1))
    left, right = among[after - 1], among[np.minimum(after, len(among) - 1)]
    return np.where(np.abs(times - left) <= np.abs(right - times), left, right)


def _candidate_offsets(target_s: Floats, capture_s: Floats, tolerance_s: float) -> list[float]:
    """Return the offsets with the most votes, of equals the smallest first.

    A long span of times tells one period of a repeating pattern from the next, but a drift smears its votes;
    so a long span votes coarsely, and a short span places each of the winners finely.
    """
    voters = target_s[: max(8, min(len(target_s), _VOTES // max(len(capture_s), 1)))]
    coarse_s = max(2 * tolerance_s, 2 * LARGEST_DRIFT * float(voters[-1] - voters[0]))
    coarse = _most_voted(_differences(voters, capture_s), coarse_s)
    short = voters[voters <= voters[0] + max(2 * tolerance_s / LARGEST_DRIFT, 1.0)]
    differences = _differences(short if len(short) >= 3 else voters[:8], capture_s)
    fine: list[float] = []
    for offset_s in coarse:
        near = differences[np.abs(differences - offset_s) <= coarse_s]
        fine += _most_voted(near, 2 * tolerance_s)[:3] if len(near) else []
    return fine


def _differences(target_s: Floats, capture_s: Floats) -> Floats:
    return (capture_s[:, None] - target_s[None, :]).ravel()


def _most_voted(offsets_s: Floats, bin_s: float) -> list[float]:
    """Return the middles of the windows of that width that hold the most offsets, not overlapping."""
    ordered = np.sort(offsets_s)
    votes = np.searchsorted(ordered, ordered + bin_s, side="right") - np.arange(len(ordered))
    found: list[float] = []
    for index in np.lexsort((np.abs(ordered), -votes)):
        middle = float(np.median(ordered[index : index + votes[index]]))
        if all(abs(middle - other) > bin_s for other in found):
            found.append(middle)
        if len(found) == _CANDIDATES:
            break
    return found


def _grown(target_s: Floats, capture_s: Floats, offset_s: float, tolerance_s: float) -> ClockFit | None:
    """Follow a match from the first times to the last, refining offset and drift on the way."""
    drift, reach = 0.0, 2 * tolerance_s
    known = min(len(target_s), 8)
    allowed = max(4 * tolerance_s, 2 * LARGEST_DRIFT * (target_s[known - 1] - target_s[0]))
    while True:
        part = target_s[:known]
        predicted = offset_s + (1 + drift) * part
        partner = _nearest(predicted, capture_s)
        close = np.abs(partner - predicted) <= allowed
        if close.sum() < min(3, known):
            return None
        offset_s, drift = _line(part[close], partner[close], drift)
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
        offset_s, drift = _line(target, capture, drift)
        left = np.abs(capture - (offset_s + (1 + drift) * target))
        good = left <= max(4 * float(np.median(left)), 1e-9)
        target, capture = target[good], capture[good]
    left = capture - (offset_s + (1 + drift) * target)
    return ClockFit(offset_s, drift, float(np.sqrt(np.mean(left**2))), matched)


def _line(target_s: Floats, capture_s: Floats, drift: float) -> tuple[float, float]:
    """Fit ``capture - target = offset + drift * target``; with too few or too close points keep the drift."""
    difference = capture_s - target_s
    span_s = target_s[-1] - target_s[0]
    if len(target_s) < 3 or span_s <= 0:
        return float(np.mean(difference - drift * target_s)), drift
    centre = target_s.mean()
    slope = float(np.sum((target_s - centre) * difference) / np.sum((target_s - centre) ** 2))
    return float(difference.mean() - slope * centre), slope
