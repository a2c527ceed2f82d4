"""Folding, steps, periods, crossings, peaks and bands: against slow definitions and known truth."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.signal import fold as fold_module
from warm_ember.signal import series as series_module
from warm_ember.signal.crossings import crossings, find_peaks
from warm_ember.signal.current_bands import current_bands
from warm_ember.signal.fold import fold, odd_cycles, without_odd
from warm_ember.signal.fold_period import find_period, whole_cycles
from warm_ember.signal.series import ArraySeries
from warm_ember.signal.steps import find_edges, found_edges_s, steps_of

SHAPE = np.concatenate((np.full(20, 1e-5), np.full(30, 4e-3), np.full(50, 1e-3), np.full(100, 1e-5)))


def repeated(random, cycles: int, noise_a: float = 0.0) -> np.ndarray:
    return np.tile(SHAPE, cycles) + noise_a * random.standard_normal(cycles * len(SHAPE))


def series(values) -> ArraySeries:
    return ArraySeries(np.asarray(values, dtype=np.float32), 1e-3)


@given(
    values=st.lists(st.one_of(st.floats(-5, 5, width=32), st.just(float("nan"))), min_size=30, max_size=300),
    width=st.integers(1, 12),
    before=st.integers(0, 5),
    seed=st.integers(0, 99),
)
def test_a_fold_is_what_its_definition_says(values, width: int, before: int, seed: int) -> None:
    data = np.array(values, dtype=np.float32)
    random = np.random.default_rng(seed)
    starts = np.sort(random.choice(len(data), 8, replace=False))
    windows = [data[s - before : s - before + width] for s in starts if s >= before and s - before + width <= len(data)]
    if not windows:
        with pytest.raises(BadArgumentError, match="no cycle lies within"):
            fold(series(data), starts, before_s=before * 1e-3, length_s=width * 1e-3)
        return
    found = fold(series(data), starts, before_s=before * 1e-3, length_s=width * 1e-3)
    stack = np.stack(windows).astype(float)
    measured = ~np.isnan(stack)
    sums, counts = np.where(measured, stack, 0).sum(axis=0), measured.sum(axis=0)
    np.testing.assert_allclose(found.mean_a[counts > 0], (sums / np.maximum(counts, 1))[counts > 0], atol=1e-6)
    assert np.isnan(found.mean_a[counts == 0]).all()
    np.testing.assert_allclose(found.charges_c, np.where(measured, stack, 0).sum(axis=1) * 1e-3, atol=1e-9)
    np.testing.assert_allclose(found.coverages, measured.mean(axis=1))
    for k in np.flatnonzero(counts > 0):
        np.testing.assert_allclose(found.median_a[k], np.median(stack[measured[:, k], k]), atol=1e-6)
    assert (found.cycles, found.cut_off) == (len(windows), len(starts) - len(windows))
    assert found.edges_s[0] == pytest.approx(-before * 1e-3)


def test_the_fold_does_not_depend_on_how_it_is_read(random, monkeypatch) -> None:
    data = series(repeated(random, 300, 1e-5))
    starts = np.arange(300) * 200
    whole = fold(data, starts, length_s=0.2)
    monkeypatch.setattr(fold_module, "CHUNK_SAMPLES", 777)
    pieces = fold(data, starts, length_s=0.2)
    for name in ("mean_a", "median_a", "high_a", "spread_a", "charges_c"):
        np.testing.assert_allclose(getattr(pieces, name), getattr(whole, name), rtol=1e-9)


def test_many_cycles_show_what_noise_hides(random) -> None:
    """A pulse of a tenth of the noise is read from ten thousand cycles, and the stated resolution holds."""
    cycles, noise_a = 10_000, 1e-5
    pulse = np.where((np.arange(50) >= 20) & (np.arange(50) < 30), 1e-6, 0.0)
    data = series(np.tile(pulse, cycles) + noise_a * random.standard_normal(50 * cycles))
    found = fold(data, np.arange(cycles) * 50, length_s=0.05)
    assert found.resolved_once_a == pytest.approx(3 * noise_a, rel=0.12)
    assert found.resolved_a == pytest.approx(3 * noise_a / 100, rel=0.12)
    assert np.abs(found.mean_a - pulse).max() < 1.5 * found.resolved_a
    assert found.mean_a[20:30].min() > found.mean_a[:20].max()


def test_memory_is_bounded_for_many_cycles(random) -> None:
    cycles = 100_000
    data = series(random.random(cycles * 10))
    found = fold(data, np.arange(cycles) * 10, length_s=0.01)
    assert found.cycles == cycles
    assert found.kept <= fold_module.KEPT_CYCLES
    np.testing.assert_allclose(found.median_a, 0.5, atol=0.03)
    np.testing.assert_allclose([found.low_a.mean(), found.high_a.mean()], [0.1, 0.9], atol=0.02)


def test_odd_cycles_are_listed_by_how_much_they_differ(random) -> None:
    data = repeated(random, 200, 1e-7)
    data[200 * 50 + 60 : 200 * 50 + 90] += 5e-3
    data[200 * 120 + 20 : 200 * 120 + 50] = 1e-5
    found = odd_cycles(fold(series(data), np.arange(200) * 200, length_s=0.2))
    assert [odd.index for odd in found] == [50, 120]
    assert found[0].difference_c == pytest.approx(30 * 5e-6, rel=1e-3)
    assert found[1].difference_c == pytest.approx(-30 * 3.99e-6, rel=1e-3)
    assert found[0].time_s == pytest.approx(10.0)


def test_odd_cycles_can_be_left_out(random) -> None:
    data = repeated(random, 100, 1e-7)
    data[200 * 50 + 60 : 200 * 50 + 90] += 5e-3
    counted = fold(series(data), np.arange(100) * 200, length_s=0.2)
    found = without_odd(series(data), counted, before_s=0.0, length_s=0.2)
    assert (found.cycles, [odd.index for odd in found.left_out]) == (99, [50])
    np.testing.assert_allclose(found.mean_a, SHAPE, atol=1e-7)
    clean = fold(series(repeated(random, 20)), np.arange(20) * 200, length_s=0.2)
    assert without_odd(series(repeated(random, 20)), clean, before_s=0.0, length_s=0.2) is clean


def test_a_fold_can_be_stopped(random) -> None:
    with pytest.raises(Cancelled):
        fold(series(repeated(random, 9)), np.arange(9) * 200, length_s=0.2, should_stop=lambda: True)
    with pytest.raises(BadArgumentError, match="shorter than a sample"):
        fold(series(SHAPE), np.array([0]), length_s=1e-9)


@pytest.mark.parametrize("noise_a", [0.0, 2e-6])
def test_the_steps_of_an_occurrence_are_found(random, noise_a: float) -> None:
    folded = fold(series(repeated(random, 40, noise_a)), np.arange(40) * 200, length_s=0.2)
    edges = found_edges_s(folded)
    np.testing.assert_allclose(edges, [0.02, 0.05, 0.1], atol=1e-3)
    steps = steps_of(folded, edges)
    assert [round(step.length_s, 3) for step in steps] == [0.02, 0.03, 0.05, 0.1]
    assert sum(step.charge_c for step in steps) == pytest.approx(folded.charge_c)
    assert sum(step.share for step in steps) == pytest.approx(1.0)
    assert steps[1].charge_c == pytest.approx(30 * 4e-6, rel=0.01)


@given(st.lists(st.floats(-0.5, 1.5), max_size=8), st.integers(0, 50))
def test_steps_by_hand_always_close_to_the_whole(edges, seed: int) -> None:
    folded = fold(series(np.random.default_rng(seed).random(1000)), np.array([0]), length_s=1.0)
    steps = steps_of(folded, tuple(edges))
    assert sum(step.charge_c for step in steps) == pytest.approx(folded.charge_c, rel=1e-9)
    assert steps[0].from_s == folded.edges_s[0]
    assert steps[-1].to_s == folded.edges_s[-1]


def test_flat_and_tiny_curves_have_no_steps(random) -> None:
    assert not len(find_edges(np.full(200, 1e-3)))
    assert not len(find_edges(1e-3 + 1e-6 * random.standard_normal(1000)))
    assert not len(find_edges(np.array([1.0, np.nan])))
    assert len(find_edges(random.random(1000) * 10.0 ** random.integers(-6, 0, 1000))) < 12


@pytest.mark.parametrize("period", [50, 137, 400, 3001])
@pytest.mark.parametrize("noise_a", [0.0, 1e-4])
def test_the_period_is_found(random, period: int, noise_a: float) -> None:
    index = np.arange(20 * period + period // 3)
    values = np.where(index % period < period // 5, 2e-3, 1e-5) + noise_a * random.standard_normal(len(index))
    found = find_period(series(values), 0.0, len(index) * 1e-3)
    assert found is not None
    assert found.period_s == pytest.approx(period * 1e-3, rel=2e-3)


def test_noise_and_flat_currents_have_no_period(random) -> None:
    assert find_period(series(random.standard_normal(5000)), 0.0, 5.0) is None
    assert find_period(series(np.full(5000, 1e-3)), 0.0, 5.0) is None
    assert find_period(series([1.0, 2.0]), 0.0, 2e-3) is None
    index = np.arange(5000)
    assert find_period(series(np.where(index > 2500, 1e-3, 1e-6)), 0.0, 5.0) is None


@given(st.floats(0, 90), st.floats(0.01, 60), st.floats(0.1, 30))
def test_whole_cycles_cover_the_stretch_where_they_can(from_s: float, length_s: float, period_s: float) -> None:
    to_s = min(100.0, from_s + length_s)
    start, end = whole_cycles(from_s, to_s, period_s, 100.0)
    assert -1e-9 <= start <= from_s + 1e-9
    assert end <= 100.0 + 1e-9
    assert (end - start) / period_s == pytest.approx(round((end - start) / period_s), abs=1e-6)
    assert end - start > to_s - from_s - 0.03 * period_s or end - start > 100 - period_s - 1e-6


@given(st.lists(st.sampled_from([0.0, 0.5, 0.85, 1.0, 2.0, float("nan")]), min_size=1, max_size=60), st.booleans())
def test_crossings_are_those_of_a_slow_trigger(values, rising: bool) -> None:
    slow, above = [], None
    for k, value in enumerate(values):
        now = True if value >= 1.0 else False if value < 0.8 else (above if above is not None else False)
        if above is not None and now != above and now == rising:
            slow.append(k)
        above = now
    assert crossings(series(values), 1.0, rising=rising).tolist() == slow


def test_crossings_and_peaks_do_not_depend_on_the_pieces(random, monkeypatch) -> None:
    data = series(np.abs(random.standard_normal(5000)))
    whole, peaks = crossings(data, 1.0), find_peaks(data, 0, 5, threshold_a=1.0)
    monkeypatch.setattr(series_module, "CHUNK_SAMPLES", 97)
    assert crossings(data, 1.0).tolist() == whole.tolist()
    pieces = find_peaks(data, 0, 5, threshold_a=1.0)
    np.testing.assert_allclose(pieces.times_s, peaks.times_s)
    np.testing.assert_allclose(pieces.charges_c, peaks.charges_c)


def test_a_stay_goes_on_through_a_hole(monkeypatch) -> None:
    data = np.concatenate(([0.0] * 10, [2.0] * 10, [np.nan] * 40, [3.0] * 5, [0.0] * 5))
    monkeypatch.setattr(series_module, "CHUNK_SAMPLES", 16)
    found = find_peaks(series(data), 0, 0.07, threshold_a=1.0)
    assert (found.times_s.tolist(), found.heights_a.tolist()) == ([0.06], [3.0])
    assert found.charges_c[0] == pytest.approx(35e-3)


def test_time_between_peaks(random) -> None:
    data = series(repeated(random, 25, 1e-7))
    found = find_peaks(data, 0.0, 5.0)
    assert len(found.times_s) == 25
    assert 1e-5 < found.threshold_a < 4e-3
    np.testing.assert_allclose(found.intervals_s.mean(), 0.2, atol=2e-3)
    np.testing.assert_allclose(found.heights_a, 4e-3, rtol=1e-3)


@given(st.lists(st.one_of(st.floats(-1, 1, width=32), st.just(float("nan"))), max_size=200))
def test_bands_hold_all_time_and_charge(values) -> None:
    data = np.array(values, dtype=np.float32)
    known = data[~np.isnan(data)].astype(float)
    bands = current_bands(series(data), 0.0, len(data) * 1e-3)
    assert bands.time_s.sum() + bands.below_s == pytest.approx(len(known) * 1e-3)
    assert bands.charge_c.sum() + bands.below_c == pytest.approx(known.sum() * 1e-3, abs=1e-9)
    for low, high, charge in zip(bands.edges_a[:-1], bands.edges_a[1:], bands.charge_c, strict=True):
        inside = known[(known >= low * (1 - 1e-6)) & (known < high * (1 + 1e-6)) & (known > 0)]
        assert charge <= inside.sum() * 1e-3 * (1 + 1e-6) + 1e-15


@given(st.integers(0, 3000), st.integers(0, 3000), st.integers(0, 9))
def test_bands_from_summary_blocks_are_those_of_the_samples(one: int, other: int, seed: int) -> None:
    random = np.random.default_rng(seed)
    data = np.repeat(10.0 ** random.uniform(-7, -1, 6), 500) * (1 + 0.02 * random.standard_normal(3000))
    data[random.choice(3000, 40)] = np.nan
    data[random.choice(3000, 9)] = -1e-6
    first, last = sorted((one, other))
    bands = current_bands(series(data), first * 1e-3, last * 1e-3)
    known = data[first:last].astype(np.float32).astype(float)
    known = known[~np.isnan(known)]
    assert bands.time_s.sum() + bands.below_s == pytest.approx(len(known) * 1e-3)
    expected, _ = np.histogram(known, np.append(bands.edges_a, np.inf)) if len(bands.edges_a) else (np.zeros(1), None)
    slow = expected[: len(bands.time_s)] * 1e-3
    assert np.abs(bands.time_s - slow).max(initial=0.0) <= 1.1e-3  # one that lies on an edge may fall to either side


@given(st.integers(0, 40), st.integers(0, 2999), st.integers(0, 2999), st.booleans())
def test_crossings_and_peaks_from_the_summary_are_those_of_the_samples(seed: int, one: int, other: int, rising) -> None:
    random = np.random.default_rng(seed)
    data = np.repeat(random.choice([0.0, 0.85, 2.0, 3.0], 12), 250) + 0.01 * random.standard_normal(3000)
    data[random.choice(3000, 25)] = np.nan
    data[random.choice(3000, 25)] = 5.0
    slow, above = np.zeros(3000, dtype=bool), False
    for k, value in enumerate(data.astype(np.float32)):
        above = True if value >= 1.0 else False if value < 0.8 else above
        slow[k] = above
    changed = slow[1:] & ~slow[:-1] if rising else ~slow[1:] & slow[:-1]
    assert crossings(series(data), 1.0, rising=rising).tolist() == (np.flatnonzero(changed) + 1).tolist()
    first, last = sorted((one, other))
    found = find_peaks(series(data), first * 1e-3, last * 1e-3, threshold_a=1.0)
    part, above = np.zeros(last - first, dtype=bool), False
    for k, value in enumerate(data[first:last].astype(np.float32)):
        above = True if value >= 1.0 else False if value < 0.8 else above
        part[k] = above
    starts = np.flatnonzero(part & ~np.append(False, part[:-1]))
    assert len(found.times_s) == len(starts)
    assert found.charges_c.sum() == pytest.approx(np.nansum(data[first:last][part]) * 1e-3, rel=1e-5, abs=1e-9)
    tops = [np.nanmax(data[first:last][a : a + int(np.argmin(np.append(part[a:], False)))]) for a in starts]
    np.testing.assert_allclose(found.heights_a, tops, rtol=1e-6)
