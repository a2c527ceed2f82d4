"""How far a kind of burst reaches beyond where the noise lets it be seen: ramps before, a capacitor's tail after."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.kind_sorting import Sorted
from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Floats, Indices
from warm_ember.signal.series import Series, ShouldStop, never

_LOOKED_AT, _WINDOW = 96, 4096
_LEAST = 1
_SURE = 2.5
_LEAST_ALONE = 8


def reach_of_kinds(series: Series, found: Sorted, *, should_stop: ShouldStop = never) -> tuple[Indices, Indices]:
    """Return how many samples each burst reaches before its beginning and after its end.

    Parameters
    ----------
    series
        The current, A.
    found
        Its bursts, `n` of them, with their kinds.
    should_stop
        Polled between kinds.

    Returns
    -------
    tuple of Indices
        Before and after, shape ``(n,)``; at most half of what lies between two bursts.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.

    Notes
    -----
    Up to 96 bursts of a kind are laid on each other at their ends. Outward from there groups of samples, each half as
    long as its distance, belong to the burst as long as their mean lies above the floor by more than 2.5 times its
    error. One sample to either side always does: an end falls into it.
    """
    before, after = (np.full(len(found.first), _LEAST, dtype=np.int64) for _ in range(2))
    room = np.append(np.append(found.first[:1], found.first[1:] - found.last[:-1]), series.samples - found.last[-1:])
    for kind in [*range(found.kinds), -1]:
        if should_stop():
            raise Cancelled("stopped")
        mine = np.flatnonzero(found.kind == kind)
        if len(mine):
            # What is like no other reaches as far as all of them do together.
            before[mine] = max(_reach(series, found, mine, room[:-1][mine], after=False), _LEAST)
            after[mine] = max(_reach(series, found, mine, room[1:][mine], after=True), _LEAST)
    inner = room[1:-1]
    wanted = np.maximum(after[:-1] + before[1:], 1)
    scale = np.minimum(inner / wanted, 1.0)
    after[:-1] = np.floor(after[:-1] * scale)
    before[1:] = np.minimum(np.floor(before[1:] * scale), inner - after[:-1])
    return np.minimum(before, found.first), np.minimum(after, series.samples - found.last)


def _reach(series: Series, found: Sorted, mine: Indices, room: Indices, *, after: bool) -> int:
    """Return how far the bursts of one kind reach to one side."""
    # Only what has much room beside it tells; a kind that never has tells from the roomiest.
    order = mine[np.argsort(-room, kind="stable")][: max(min(_LOOKED_AT, len(mine) // 2 + 1), 1)]
    window = int(min(_WINDOW, np.sort(room)[::-1][: len(order)].min() * 0.8))
    if window < 1:
        return 0
    rows = np.full((len(order), window), np.nan)
    for row, at in enumerate(order.tolist()):
        if after:
            values = series.read(int(found.last[at]), min(int(found.last[at]) + window, series.samples))
        else:
            values = series.read(max(int(found.first[at]) - window, 0), int(found.first[at]))[::-1]
        rows[row, : len(values)] = values
    # Each in the measure of its own noise: where a modem idles it is hundreds of times that of sleep.
    return _until_the_floor((rows - found.floor_a[order][:, None]) / found.noise_a[order][:, None])


def _until_the_floor(rows: Floats) -> int:
    """Return from where on what lies beside a kind, in the measure of its noise, is its floor."""
    begin, window = 0, rows.shape[1]
    while begin < window:
        end = min(begin + max(_LEAST, begin // 2), window)
        group = rows[:, begin:end]
        known = int((~np.isnan(group)).sum())
        if not known or float(np.nanmean(group)) <= _SURE / known**0.5:
            break
        begin = end
    return begin
