"""What is left of a stretch's pulses behind a resistance and a capacitance: what a cell sees behind a capacitor."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from warm_ember.attribution.ledger import Ledger
from warm_ember.model.battery import FromStates, Points
from warm_ember.model.placement import Placement
from warm_ember.signal.series import Series, ShouldStop, chunks, never

CONSTANTS_S = tuple(np.geomspace(1e-5, 1e3, 17).tolist())
"""Time constants at which it is measured, two to a decade."""


def left_of_pulses(series: Series, stretches: Sequence[tuple[int, int]], *, should_stop: ShouldStop = never) -> Points:
    """Measure the highest current that a low-pass of the first order leaves, for some time constants.

    Parameters
    ----------
    series
        The current; missing samples hold the one before.
    stretches
        First and last sample of each; it starts from the first sample's current.

    Returns
    -------
    Points
        Time constant in s against the highest current in A.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    from scipy.signal import lfilter  # SciPy loads when first needed: it takes a while

    keeps = np.exp(-series.interval_s / np.array(CONSTANTS_S))
    highest = np.zeros(len(keeps))
    for first, last in stretches:
        state: np.ndarray | None = None
        for _, values in chunks(series, first, last, should_stop=should_stop):
            known = _held(values.astype(np.float64), 0.0 if state is None else float(state[0]))
            state = np.full(len(keeps), known[0]) if state is None else state
            for index, keep in enumerate(keeps):
                left, _ = lfilter([1 - keep], [1, -keep], known, zi=[keep * state[index]])
                highest[index] = max(highest[index], float(left.max()))
                state[index] = left[-1]
    return tuple(zip(CONSTANTS_S, highest.tolist(), strict=True))


def hottest_entries(ledger: Ledger, placement: Placement, source: FromStates, most: int) -> list[tuple[int, int]]:
    """Return first and last sample of the entries with the highest peaks among some states."""
    found = []
    for name in source.states:
        row = ledger.row(name)
        if row is not None:
            entries = np.flatnonzero(placement.state == placement.names.index(name))
            peaks = np.nan_to_num(row.entry_peak_a, nan=0.0)
            found += list(zip(peaks.tolist(), entries.tolist(), strict=True))
    hottest = sorted(entry for _, entry in sorted(found, reverse=True)[:most])
    return [(int(placement.edges[entry]), int(placement.edges[entry + 1])) for entry in hottest]


def _held(values: np.ndarray, before: float) -> np.ndarray:
    """Let missing samples hold the one before them."""
    known = np.flatnonzero(~np.isnan(values))
    if len(known) == len(values):
        return values
    if not len(known):
        return np.full(len(values), before)
    place = np.maximum.accumulate(np.where(np.isnan(values), -1, np.arange(len(values))))
    return np.where(place < 0, values[known[0]], values[np.maximum(place, 0)])
