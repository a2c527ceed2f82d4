"""A band limit moves no edge, keeps what flowed, and hides what is shorter than it says."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.signal.band_limit import BandLimited
from warm_ember.signal.series import ArraySeries

RATE_HZ = 1000.0
values = arrays.arrays(
    np.float64,
    st.integers(40, 900),
    elements=st.one_of(st.floats(-0.125, 1.0, allow_subnormal=False), st.just(float("nan"))),
)


def limited(samples: np.ndarray, shortest_s: float) -> BandLimited:
    return BandLimited(ArraySeries(samples.astype(np.float32), 1 / RATE_HZ), shortest_s)


def pieces(samples: np.ndarray) -> list[slice]:
    known = np.flatnonzero(~np.isnan(samples))
    parts = np.split(known, np.flatnonzero(np.diff(known) > 1) + 1)
    return [slice(part[0], part[-1] + 1) for part in parts if len(part)]


@given(values, st.floats(2e-3, 10e-3))
def test_charge_is_kept_between_gaps_and_nothing_is_made_up(samples: np.ndarray, shortest_s: float) -> None:
    found = limited(samples, shortest_s).read(0, len(samples)).astype(np.float64)
    assert (np.isnan(found) == np.isnan(samples)).all()
    for piece in pieces(samples):
        tolerance = 1e-5 * np.abs(samples[piece]).sum() + 1e-9
        assert found[piece].sum() == pytest.approx(samples[piece].sum(), abs=tolerance)
        slack = 1e-6 * np.abs(samples[piece]).max() + 1e-12
        assert found[piece].min() >= samples[piece].min() - slack
        assert found[piece].max() <= samples[piece].max() + slack


@given(values, st.floats(2e-3, 10e-3), st.data())
def test_a_part_is_a_part_of_the_whole(samples: np.ndarray, shortest_s: float, data: st.DataObject) -> None:
    series = limited(samples, shortest_s)
    first = data.draw(st.integers(0, len(samples) - 1))
    last = data.draw(st.integers(first + 1, len(samples)))
    whole = series.read(0, len(samples))
    np.testing.assert_allclose(series.read(first, last), whole[first:last], atol=1e-6)
    lowest = np.fmin.reduce(series.blocks(0, 0, 1)["min"]), np.fmin.reduce(whole[:256])
    assert lowest[0] == pytest.approx(lowest[1], abs=1e-6, nan_ok=True)


@settings(max_examples=20)
@given(st.floats(4e-3, 40e-3), st.floats(0.05, 4.0))
def test_a_pulse_shows_as_much_of_its_height_as_its_length_gives(shortest_s: float, share: float) -> None:
    rate_hz, length_s = 50e3, share * shortest_s
    samples = np.zeros(round(1.0 * rate_hz))
    count = max(1, round(length_s * rate_hz))
    samples[20_000 : 20_000 + count] = 1.0
    series = BandLimited(ArraySeries(samples.astype(np.float32), 1 / rate_hz), shortest_s)
    expected = math.erf(math.sqrt(math.log(2)) * count / rate_hz / shortest_s)
    assert series.highest == pytest.approx(expected, abs=0.01)
    assert series.highest_measured == 1.0
    half = np.flatnonzero(series.read(0, len(samples)) > 0.5 * series.highest)
    assert half.mean() == pytest.approx(20_000 + (count - 1) / 2, abs=0.51)  # no edge moves to one side


def test_what_cannot_be_limited_is_told_and_a_stop_is_heard() -> None:
    series = ArraySeries(np.ones(1000, dtype=np.float32), 1e-3)
    for shortest_s in (1e-3, 0.3, float("nan"), -1.0):
        with pytest.raises(BadArgumentError, match=r"from 2\.00 ms, two samples, to 250 ms, a quarter of the capture"):
            BandLimited(series, shortest_s)
    with pytest.raises(Cancelled):
        BandLimited(series, 4e-3, should_stop=lambda: True)
