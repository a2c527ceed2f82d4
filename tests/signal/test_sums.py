"""Pyramid, stretches, intervals and envelopes against slow obvious definitions."""

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.signal.envelope import envelope, per_column
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.pyramid import BLOCK_SAMPLES, PyramidBuilder, build_pyramid, reduce_samples
from warm_ember.signal.series import ArraySeries, chunks
from warm_ember.signal.stretch import read_stretch, snap, total

SIZES = [0, 1, BLOCK_SAMPLES - 1, BLOCK_SAMPLES, BLOCK_SAMPLES + 1, 70_003]


def samples(size: int, seed: int = 0, holes: float = 0.0) -> np.ndarray:
    """Noise over six decades, some of it negative, with holes."""
    random = np.random.default_rng(seed)
    values = 10 ** random.uniform(-7, -1, size) * random.choice([1.0, 1.0, 1.0, -1.0], size)
    values[random.random(size) < holes] = np.nan
    return values.astype(np.float32)


def naive(values: np.ndarray) -> tuple[float, int, float, float]:
    measured = values[~np.isnan(values)].astype(np.float64)
    if not len(measured):
        return 0.0, 0, math.nan, math.nan
    return math.fsum(measured), len(measured), float(measured.min()), float(measured.max())


@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("holes", [0.0, 0.3, 1.0])
def test_every_block_holds_its_samples(size: int, holes: float) -> None:
    values = samples(size, holes=holes)
    pyramid = build_pyramid(values)
    for block_size, blocks in zip(pyramid.sizes, pyramid.levels, strict=True):
        assert len(blocks) == -(-size // block_size)
        for index, block in enumerate(blocks):
            expected = naive(values[index * block_size : (index + 1) * block_size])
            found = (block["sum"], block["count"], block["min"], block["max"])
            assert found == pytest.approx(expected, rel=1e-12, nan_ok=True)


@given(st.lists(st.integers(0, 1500), max_size=8), st.integers(0, 9))
def test_a_pyramid_does_not_depend_on_the_pieces_it_came_in(lengths: list[int], seed: int) -> None:
    values = samples(sum(lengths), seed, holes=0.1)
    builder = PyramidBuilder()
    for start, length in zip(np.cumsum([0, *lengths]), lengths, strict=False):
        builder.append(values[start : start + length])
    whole, pieced = build_pyramid(values), builder.finish()
    assert whole.sizes == pieced.sizes
    for one, other in zip(whole.levels, pieced.levels, strict=True):
        np.testing.assert_array_equal(one, other)


SERIES = ArraySeries(samples(70_003, 3, holes=0.05), 1e-4)


@given(st.integers(0, 70_003), st.integers(0, 70_003))
def test_a_total_is_the_sum_of_its_samples(a: int, b: int) -> None:
    first, last = sorted((a, b))
    found = total(SERIES, first, last)
    expected = naive(SERIES.read(first, last))
    assert (found.total, found.count, found.low, found.high) == pytest.approx(
        expected, rel=1e-9, abs=1e-12, nan_ok=True
    )


@given(st.lists(st.integers(0, 70_003), min_size=2, max_size=6))
def test_pieces_add_up_to_the_whole(cuts: list[int]) -> None:
    cuts = sorted(cuts)
    pieces = sum(total(SERIES, a, b).total for a, b in pairwise(cuts))
    assert pieces == pytest.approx(total(SERIES, cuts[0], cuts[-1]).total, rel=1e-9, abs=1e-11)


def test_an_hour_of_radio_does_not_drown_a_second_of_sleep() -> None:
    values = np.full(2_000_000, 0.17, dtype=np.float32)
    values[1_500_000:1_501_000] = 2e-6
    reading = read_stretch(ArraySeries(values, 1e-3), 1500.0, 1501.0)
    assert reading.mean_a == pytest.approx(float(np.float32(2e-6)), rel=1e-9)


def test_ends_snap_to_samples_and_clamp_to_the_capture() -> None:
    series = ArraySeries(np.float32([1, 2, 3, 4]), 0.5)
    assert snap(series, -5.0, 0.74) == (0, 1)
    assert snap(series, 1.3, 99.0) == (3, 4)
    reading = read_stretch(series, 0.2, 1.4)
    assert (reading.from_s, reading.to_s, reading.charge_c) == (0.0, 1.5, 3.0)


@pytest.mark.parametrize(
    ("from_s", "to_s", "problem"),
    [(2.0, 1.0, "reversed"), (3.0, 4.0, "outside"), (-2.0, -1.0, "outside"), (math.nan, 1.0, "no end")],
)
def test_impossible_stretches_are_refused(from_s: float, to_s: float, problem: str) -> None:
    with pytest.raises(BadArgumentError, match=problem):
        read_stretch(ArraySeries(np.float32([1, 2, 3, 4]), 0.5), from_s, to_s)


def test_missing_samples_count_in_no_sum_and_lower_the_coverage() -> None:
    reading = read_stretch(ArraySeries(np.float32([1, np.nan, 3, np.nan]), 1.0), 0, 4, supply_v=2.0)
    assert (reading.coverage, reading.mean_a, reading.charge_c, reading.energy_j) == (0.5, 2.0, 4.0, 8.0)
    nothing = read_stretch(ArraySeries(np.float32([1, np.nan]), 1.0), 1, 2)
    assert (nothing.coverage, nothing.mean_a, nothing.min_a, nothing.energy_j) == (0.0, None, None, None)


@pytest.mark.parametrize("intervals", [1, 3, 2000])
def test_interval_sums_by_either_way(intervals: int) -> None:
    values = samples(1_200_000, 5, holes=0.02)
    series = ArraySeries(values, 1e-3)
    edges = np.unique(np.linspace(17, len(values), intervals + 1).astype(np.int64))
    found = interval_sums(series, edges)
    for index in {0, intervals // 2, intervals - 1}:
        expected = naive(values[edges[index] : edges[index + 1]])
        assert found.total[index] == pytest.approx(expected[0], rel=1e-9)
        assert (found.count[index], found.high[index]) == (expected[1], pytest.approx(expected[3]))


def test_a_pass_stops_when_told() -> None:
    with pytest.raises(Cancelled):
        list(chunks(SERIES, should_stop=lambda: True))


@given(st.floats(0, 7), st.floats(1e-4, 7), st.integers(1, 1500))
def test_an_envelope_covers_what_it_shows(from_s: float, length_s: float, columns: int) -> None:
    bins = envelope(SERIES, from_s, from_s + length_s, columns)
    for index in range(0, len(bins.low), max(1, len(bins.low) // 5)):
        first, last = np.rint(bins.edges_s[index : index + 2] / SERIES.interval_s).astype(int)
        expected = naive(SERIES.read(first, last))
        assert bins.low[index] == pytest.approx(expected[2], nan_ok=True)
        assert bins.high[index] == pytest.approx(expected[3], nan_ok=True)
        assert bins.total[index] == pytest.approx(expected[0] * SERIES.interval_s, rel=1e-9, abs=1e-15)


def test_a_spike_in_the_last_sample_is_drawn_at_every_zoom() -> None:
    values = np.zeros(70_001, dtype=np.float32)
    values[-1] = 1.0
    series = ArraySeries(values, 1e-3)
    for columns in (10, 137, 1112, 5000):
        found = per_column(envelope(series, 0.0, 70.001, columns), 0.0, 70.001, columns)
        assert found.high[-1] == 1.0


def test_bins_do_not_move_while_panning() -> None:
    one, other = (envelope(SERIES, start, start + 3.0, 700) for start in (1.0, 1.00137))
    assert set(np.round(one.edges_s[5:-5], 9)) & set(np.round(other.edges_s[5:-5], 9))


def test_columns_of_a_wide_sample_all_show_it() -> None:
    series = ArraySeries(np.float32([1, 5]), 1.0)
    found = per_column(envelope(series, 0.0, 2.0, 8), 0.0, 2.0, 8)
    assert found.mean.tolist() == [1, 1, 1, 1, 5, 5, 5, 5]


def test_a_hole_is_drawn_as_a_hole() -> None:
    values = np.ones(1000, dtype=np.float32)
    values[300:600] = np.nan
    found = per_column(envelope(ArraySeries(values, 1.0), 0, 1000, 10), 0, 1000, 10)
    assert np.isnan(found.mean).tolist() == [False] * 3 + [True] * 3 + [False] * 4


def test_an_empty_stretch_reads_nothing() -> None:
    reading = read_stretch(SERIES, 1.0, 1.0)
    assert (reading.coverage, reading.mean_a, reading.charge_c) == (0.0, None, 0.0)


def test_partial_last_block_is_kept() -> None:
    assert reduce_samples(np.float32([1, 2, 9]), 2)["max"].tolist() == [2.0, 9.0]
