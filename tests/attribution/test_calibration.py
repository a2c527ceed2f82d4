"""A small part of the calibration: intervals hold what they promise, within what so few cases can tell.

`scripts/calibration.py` measures all of it at length.
"""

from __future__ import annotations

import numpy as np
import pytest
from calibration import Row, rows

CASES = {
    ("states", "2 entries, even lengths"): 80,
    ("states", "7 entries, uneven lengths"): 80,
    ("edges", "sleep beside work, 1000 S/s"): 40,
    ("bounds", "noise of 1 µA"): 15,
    ("bounds", "step of 1 µA, noise of 0.3 µA"): 15,
    ("compare", "timer, charge varies by length: mean"): 40,
    ("compare", "timer and messages by chance: activity"): 40,
    ("functions", "200 samples, runs of 1 periods"): 60,
    ("functions", "200 samples, a loop of 1.001 periods"): 15,
    ("sources", "10 wakes"): 80,
    ("claims", "timer and messages by chance: 0.45"): 40,
    ("life", "timer and chance, 60 s"): 80,
    ("life", "2.3 cycles"): 60,
    ("life", "activity measured 2 times, scattering by 0.3"): 80,
}


@pytest.mark.parametrize("which", CASES, ids=" ".join)
def test_an_interval_holds_what_it_promises(which: tuple[str, str]) -> None:
    row = _row(which)
    cases = CASES[which]
    number = list(CASES).index(which)
    held = np.mean([row.measure(np.random.default_rng([20261130, number, case]))[0] for case in range(cases)])
    reach = [3.0 * (limit * (1 - limit) / cases) ** 0.5 for limit in (row.least, row.most)]
    assert row.least - reach[0] <= held <= row.most + reach[1]


def _row(which: tuple[str, str]) -> Row:
    return next(row for row in rows() if (row.part, row.name) == which)
