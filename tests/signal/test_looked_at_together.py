"""What is looked at all at once is what looking at one after the other would find."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import Cancelled
from warm_ember.signal.envelope import current_span
from warm_ember.signal.hum import _means_from
from warm_ember.signal.pulses import edge_breakouts
from warm_ember.signal.series import ArraySeries, never

INTERVAL_S = 1e-3


def stepped(random: np.random.Generator, lengths: list[int], levels: list[float]) -> tuple[np.ndarray, np.ndarray]:
    """A current of levels with a little noise, and where they change."""
    values = np.concatenate([np.full(n, level) for n, level in zip(lengths, levels, strict=True)])
    return values * (1 + 1e-3 * random.standard_normal(len(values))), np.cumsum(lengths)[:-1]


@given(st.integers(0, 2**32 - 1), st.sampled_from((1, 7, 400, 4095, 4096, 9000, 70_000)), st.integers(1, 60))
def test_means_of_stretches_that_overlap_are_those_of_each(seed: int, length: int, count: int) -> None:
    random = np.random.default_rng(seed)
    values = random.standard_normal(80_000).astype(np.float32)
    values[random.random(len(values)) < 0.05] = np.nan
    values[20_000:50_000] = np.nan
    starts = np.unique(random.integers(0, len(values) - length, count))
    found = _means_from(ArraySeries(values, INTERVAL_S), starts, length, never)
    # Of a long stretch only the blocks of the summary that lie within it are looked at.
    block = 1 if length < 4096 else 256 if length < 65_536 else 4096
    within = [values[-(-a // block) * block : (a + length) // block * block].astype(np.float64) for a in starts]
    wanted = [np.nanmean(one) if np.isfinite(one).any() else np.inf for one in within]
    np.testing.assert_allclose(found, wanted, atol=1e-9)


@given(st.integers(0, 2**32 - 1), st.integers(2, 12), st.floats(1.0, 8.0))
def test_readings_beyond_both_levels_are_found_where_they_were_put(seed: int, count: int, beyond: float) -> None:
    random = np.random.default_rng(seed)
    lengths = random.integers(60, 120, count + 1).tolist()
    levels = [1e-4 if k % 2 else 2e-3 for k in range(count + 1)]
    values, edges = stepped(random, lengths, levels)
    put = edges[random.random(len(edges)) < 0.5]
    values[put] = 2e-3 + beyond * 1.9e-3
    found = edge_breakouts(ArraySeries(values.astype(np.float32), INTERVAL_S), edges)
    assert found.looked_at == len(edges)
    np.testing.assert_array_equal(found.edges, put)
    assert found.charge_c == pytest.approx(len(put) * beyond * 1.9e-3 * INTERVAL_S, rel=0.02, abs=1e-12)


def test_a_gap_beside_a_change_is_left_alone(random) -> None:
    values, edges = stepped(random, [100, 100, 100], [2e-3, 1e-4, 2e-3])
    values[edges] = 8e-3
    values[edges[0] - 1] = np.nan
    found = edge_breakouts(ArraySeries(values.astype(np.float32), INTERVAL_S), edges)
    np.testing.assert_array_equal(found.edges, edges[1:])


def test_looking_at_changes_can_be_stopped(random) -> None:
    values, edges = stepped(random, [100, 100, 100], [2e-3, 1e-4, 2e-3])
    with pytest.raises(Cancelled):
        edge_breakouts(ArraySeries(values.astype(np.float32), INTERVAL_S), edges, should_stop=lambda: True)


@given(st.floats(1e-8, 1e-3), st.floats(1.5, 1e4))
def test_an_axis_reaches_from_what_lasts_to_the_highest(low_a: float, times: float) -> None:
    values = np.full(4000, low_a, dtype=np.float32)
    values[2000:2400] = low_a * times
    values[:100] = -low_a
    lowest, highest = current_span(ArraySeries(values, INTERVAL_S))
    assert lowest == pytest.approx(low_a, rel=1e-5)
    assert highest == pytest.approx(low_a * times, rel=1e-5)
    assert current_span(ArraySeries(np.zeros(100, dtype=np.float32), INTERVAL_S)) == (1e-6, 1e-3)
