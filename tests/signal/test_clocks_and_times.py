import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError
from warm_ember.signal.alignment import LARGEST_DRIFT, fit_clock, same_clock
from warm_ember.signal.time_grid import HeldTimes, RegularTimes, held_interval, inspect_times, nice_interval


@given(st.integers(0, 30), st.floats(-5.0, 5.0), st.floats(-100e-6, 100e-6))
def test_offset_and_drift_are_found_with_missing_and_extra_events(seed: int, offset_s: float, drift: float) -> None:
    random = np.random.default_rng(seed)
    target = np.sort(random.uniform(0, 3600, 600))
    capture = offset_s + (1 + drift) * target + 2e-5 * random.standard_normal(600)
    capture = np.sort(np.concatenate((capture[random.random(600) > 0.1], random.uniform(0, 3600, 80))))
    fit = fit_clock(target[random.random(600) > 0.1], capture, tolerance_s=1e-3)
    assert fit is not None
    at = np.array([0.0, 3600.0])
    error = (fit.offset_s + (1 + fit.drift) * at) - (offset_s + (1 + drift) * at)
    assert np.abs(error).max() < 1e-4
    assert fit.residual_s < 1e-3


def test_regular_pulses_take_the_nearest_match() -> None:
    target = np.arange(0, 300, 20.0)
    fit = fit_clock(target, target * (1 + 40e-6) + 1.25, tolerance_s=1e-3)
    assert fit is not None
    assert (fit.offset_s, fit.drift, fit.matched) == (pytest.approx(1.25), pytest.approx(40e-6), 15)


@given(st.integers(0, 40))
def test_a_log_that_runs_for_longer_than_the_capture_is_laid_on_it(seed: int) -> None:
    """Of a day's log the capture shows five minutes from somewhere in the middle."""
    random = np.random.default_rng(seed)
    target = np.sort(random.uniform(0, 86_400, 9000))
    begin = random.uniform(3600, 80_000)
    capture = (1 + 60e-6) * (target - begin)
    capture = capture[(capture > 0) & (capture < 300)]
    fit = fit_clock(target, capture, tolerance_s=1e-3, length_s=300.0)
    assert fit is not None
    assert fit.at(begin + 150) == pytest.approx(150 * (1 + 60e-6), abs=2e-3)
    assert fit.rival_s is None
    assert fit.matched == pytest.approx(fit.expected, abs=2)


@pytest.mark.parametrize("offset_s", [0.37, 3.1, -7.4])
def test_a_strictly_regular_log_is_ambiguous(offset_s: float) -> None:
    target = np.arange(0.0, 400.0, 1.0)
    capture = target[50:350] + offset_s - 50.0
    fit = fit_clock(target, capture, tolerance_s=1e-3, length_s=300.0)
    assert fit is not None
    assert fit.rival_s is not None
    assert abs(fit.rival_s) == pytest.approx(1.0, abs=1e-3)


def test_a_few_odd_ones_end_the_ambiguity(random: np.random.Generator) -> None:
    target = np.sort(np.concatenate((np.arange(0.0, 400.0, 1.0), random.uniform(0, 400, 40))))
    capture = target - 50.3
    fit = fit_clock(target, capture[(capture > 0) & (capture < 300)], tolerance_s=1e-3, length_s=300.0)
    assert fit is not None
    assert (fit.rival_s, fit.offset_s) == (None, pytest.approx(-50.3, abs=1e-4))


def test_lists_that_have_nothing_in_common_are_not_fitted(random: np.random.Generator) -> None:
    assert fit_clock(np.sort(random.uniform(0, 100, 40)), np.sort(random.uniform(0, 100, 12)), tolerance_s=1e-4) is None
    assert fit_clock(np.empty(0), np.array([1.0]), tolerance_s=1e-3) is None


def test_the_same_clock_counts_partners() -> None:
    same = same_clock(np.array([1.0, 2.0, 3.0]), np.array([1.0005, 2.5, 3.0]), tolerance_s=1e-3)
    assert (same.matched, same.residual_s) == (2, pytest.approx(0.0005 / np.sqrt(2)))
    assert same_clock(np.empty(0), np.array([1.0]), tolerance_s=1e-3).matched == 0


def _placed(grid: RegularTimes, times: np.ndarray, values: np.ndarray) -> np.ndarray:
    parts = [
        piece[0] for k in range(0, len(times), 97) for piece in grid.place(times[k : k + 97], [values[k : k + 97]])
    ]
    return np.concatenate(parts)


@given(st.sampled_from([1e-4, 1 / 3000, 0.01, 0.5]), st.floats(0, 0.3), st.integers(0, 5))
def test_jitter_is_taken_out_and_the_interval_is_round(interval_s: float, jitter: float, seed: int) -> None:
    random = np.random.default_rng(seed)
    times = 5.0 + interval_s * (np.arange(2000) + jitter * random.uniform(-0.5, 0.5, 2000))
    grid = RegularTimes(inspect_times(times), 1e-9)
    placed = _placed(grid, times, np.arange(2000.0))
    assert grid.interval_s == pytest.approx(interval_s, rel=1e-4)
    np.testing.assert_array_equal(placed, np.arange(2000.0))


def test_a_gap_is_left_empty() -> None:
    times = np.concatenate((np.arange(500), np.arange(800, 1300))) * 1e-3
    grid = RegularTimes(inspect_times(times), 1e-6)
    placed = _placed(grid, times, np.ones(1000))
    assert len(placed) == 1300
    assert np.isnan(placed).nonzero()[0].tolist() == list(range(500, 800))
    assert (grid.interval_s, grid.missing) == (1e-3, 300)


def test_stamps_coarser_than_the_interval_are_counted() -> None:
    times = np.round(np.arange(5000) * 1e-4, 3)
    grid = RegularTimes(inspect_times(times), 1e-3)
    assert len(_placed(grid, times, np.ones(5000))) == 5000
    assert grid.interval_s == pytest.approx(1e-4, rel=1e-3)


@given(st.integers(0, 20))
def test_irregular_times_keep_their_charge(seed: int) -> None:
    random = np.random.default_rng(seed)
    times = np.cumsum(random.exponential(1.0, 400) + 0.05)
    values = random.uniform(0, 1, 400)
    kind = inspect_times(times)
    assert kind.irregular
    held = HeldTimes(kind, held_interval(times, kind))
    parts = [piece[0] for k in range(0, 400, 61) for piece in held.place(times[k : k + 61], [values[k : k + 61]])]
    placed = np.concatenate([*parts, *(piece[0] for piece in held.finish())])
    true = np.sum(values[:-1] * np.diff(times))
    assert placed.sum() * held.interval_s == pytest.approx(true + values[-1] * kind.interval_s, abs=3 * held.interval_s)


def test_equal_times_are_refused() -> None:
    with pytest.raises(BadArgumentError, match="do not rise"):
        inspect_times(np.full(10, 3.0))


def test_a_nice_interval_stays_within_what_the_times_allow() -> None:
    assert nice_interval(1.00001e-3, 100_000, 1e-6) == pytest.approx(1.00001e-3)
    assert nice_interval(1.0000001e-3, 1000, 1e-6) == 1e-3


def test_a_hundred_thousand_times_close_together_are_laid_and_others_are_not() -> None:
    """A kernel trace that began long before the capture: a handful of its first times would be outvoted by chance."""
    random = np.random.default_rng(1)
    wakes_s = [
        np.cumsum(4e-4 + np.where(random.random(36_000) < 0.7, 4e-3, 4e-3 * random.random(36_000))) for _ in "abcd"
    ]
    pairs = [np.concatenate((one, one + 4e-4 * random.uniform(0.5, 1.6, len(one)))) for one in wakes_s]
    target_s, other_s = (5321.123456 + np.sort(np.concatenate(pairs[k : k + 2])) for k in (0, 2))
    seen_s = (target_s - 5360.0) * (1 - 40e-6)
    seen_s = seen_s[(seen_s > 0) & (seen_s < 100.0)]
    found = fit_clock(target_s, seen_s, tolerance_s=1.1e-4, length_s=100.0, fewest=0.5)
    assert found is not None
    assert found.at(5360.0) == pytest.approx(0.0, abs=1e-5)
    assert found.at(5460.0) == pytest.approx(100.0 * (1 - 40e-6), abs=1e-5)
    assert fit_clock(other_s, seen_s, tolerance_s=1.1e-4, length_s=100.0, fewest=0.5) is None


@given(st.integers(0, 10_000), st.integers(6, 12))
def test_a_log_that_begins_with_what_never_happened_is_laid_all_the_same(seed: int, strangers: int) -> None:
    """A period of a second would fit nearly as well: the true map must be among those that are tried."""
    random = np.random.default_rng(seed)
    seconds = np.arange(0.5, 900.0)
    seen = np.sort(np.concatenate((seconds[random.random(900) > 0.25], random.uniform(0, 900, 90))))
    known = seen[random.random(len(seen)) > 0.1]
    told = np.sort(np.concatenate((random.uniform(0, 4.4, strangers), known[known > 4.0])))
    fit = fit_clock((told + 2.7) / (1 - 1e-4), seen, tolerance_s=5e-3, length_s=900.0)
    assert fit is not None
    assert abs(fit.at(450.0 / (1 - 1e-4)) - (450.0 - 2.7)) < 1e-3


def test_times_that_have_nothing_to_do_with_each_other_are_hardly_ever_laid_on_each_other(random) -> None:
    """Two of them fit always: one gives the offset, the drift lays the other on."""
    believed = []
    for _ in range(300):
        end_s, tolerance_s = float(random.choice([10, 60])), float(random.choice([1e-3, 3e-3, 25e-3]))
        target_s = np.sort(random.uniform(-5, end_s + 5, random.integers(4, 25)))
        capture_s = np.sort(random.uniform(0, end_s, random.integers(4, 25)))
        found = fit_clock(target_s, capture_s, tolerance_s=tolerance_s, length_s=end_s)
        believed += [found] if found is not None else []
    assert len(believed) <= 3
    assert all(abs(one.drift) <= LARGEST_DRIFT for one in believed)


def test_times_of_which_some_were_lost_are_laid_where_they_belong(random) -> None:
    for _ in range(100):
        at_s = np.sort(random.uniform(0, 60.0, random.integers(6, 40)))
        drift, offset_s = random.uniform(-2e-4, 2e-4), random.uniform(-20, 20)
        seen_s = np.sort(at_s[random.random(len(at_s)) > 0.1])
        capture_s = np.sort(seen_s + 2e-4 * random.standard_normal(len(seen_s)))
        target_s = (at_s[random.random(len(at_s)) > 0.1] - offset_s) / (1 + drift)
        found = fit_clock(target_s, capture_s, tolerance_s=1e-3, length_s=60.0)
        assert found is not None
        assert found.at((30.0 - offset_s) / (1 + drift)) == pytest.approx(30.0, abs=1e-3)
