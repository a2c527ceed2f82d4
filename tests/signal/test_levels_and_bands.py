import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.errors import Cancelled
from warm_ember.signal import levels
from warm_ember.signal.bands import band_stays, runs_of
from warm_ember.signal.bits import BitPyramidBuilder, line_window, reduce_bits, rising_edges
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.level_numbers import numbered
from warm_ember.signal.levels import MOST_LEVELS, find_levels
from warm_ember.signal.series import ArraySeries


@pytest.fixture(params=["short", "long"])
def length(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> str:
    """Search the levels as in a short capture, and as in a long one, where the summary tells most of it."""
    if request.param == "long":
        monkeypatch.setattr(levels, "_LONG_SAMPLES", 1)
    return request.param


def waterfall(
    random: np.random.Generator, levels_a: list[float], entries: int, rate_hz: float, noise: float = 0.02
) -> tuple[np.ndarray, np.ndarray]:
    """Random stays at given levels; returns samples and the level index of each."""
    which = [int(random.integers(len(levels_a)))]
    for _ in range(entries - 1):
        which.append(int((which[-1] + random.integers(1, len(levels_a))) % len(levels_a)))
    lengths = (random.uniform(0.02, 0.4, entries) * rate_hz).astype(int)
    truth = np.repeat(which, lengths)
    clean = np.array(levels_a)[truth]
    return (clean * (1 + noise * random.standard_normal(len(clean)))).astype(np.float32), truth


@pytest.mark.parametrize("rate_hz", [1e3, 1e4, 1e5])
@pytest.mark.parametrize("levels_a", [[2e-6, 1e-3], [3e-6, 9e-4, 8e-3], [1e-6, 5e-5, 1.2e-3, 9e-3, 0.12]])
@pytest.mark.usefixtures("length")
def test_each_level_gets_its_charge(random: np.random.Generator, rate_hz: float, levels_a: list[float]) -> None:
    values, truth = waterfall(random, levels_a, 80, rate_hz)
    found = find_levels(ArraySeries(values, 1 / rate_hz))
    assert len(found.centres_a) == len(levels_a)
    assert found.centres_a == pytest.approx(levels_a, rel=0.05)
    sums = np.add.reduceat(values.astype(np.float64), found.edges[:-1])
    for index in range(len(levels_a)):
        charge = sums[found.level == index].sum()
        assert charge == pytest.approx(values[truth == index].sum(dtype=np.float64), rel=0.01)


@pytest.mark.usefixtures("length")
def test_edges_are_found_to_the_sample(random: np.random.Generator) -> None:
    values, truth = waterfall(random, [2e-6, 1e-3, 2e-2], 40, 1e4)
    found = find_levels(ArraySeries(values, 1e-4))
    expected = np.flatnonzero(np.diff(truth)) + 1
    assert np.abs(found.edges[1:-1] - expected).max() <= 1


@pytest.mark.usefixtures("length")
def test_noise_around_zero_is_one_level(random: np.random.Generator) -> None:
    values = (2e-7 * random.standard_normal(200_000)).astype(np.float32)
    values[80_000:90_000] += 5e-3
    found = find_levels(ArraySeries(values, 1e-4))
    assert len(found.centres_a) == 2


def test_a_short_tick_stays_within_its_level() -> None:
    values = np.full(100_000, 2e-5, dtype=np.float32)
    values[::10] = 3e-3
    found = find_levels(ArraySeries(values, 1e-4))
    assert len(found.level) == 1


def test_at_most_fourteen_levels() -> None:
    values = np.repeat(10.0 ** np.linspace(-6, -1, 30), 500).astype(np.float32)
    assert len(find_levels(ArraySeries(values, 1e-3)).centres_a) <= MOST_LEVELS


@pytest.mark.usefixtures("length")
def test_constant_short_and_empty_captures() -> None:
    assert find_levels(ArraySeries(np.full(50, 1e-3, dtype=np.float32), 1e-3)).edges.tolist() == [0, 50]
    assert find_levels(ArraySeries(np.float32([1e-3]), 1e-3)).edges.tolist() == [0, 1]
    assert len(find_levels(ArraySeries(np.empty(0, dtype=np.float32), 1e-3)).level) == 0


def test_holes_belong_to_no_level() -> None:
    values = np.full(30_000, 1e-3, dtype=np.float32)
    values[10_000:20_000] = np.nan
    found = find_levels(ArraySeries(values, 1e-4))
    assert found.level.tolist() == [0, -1, 0]
    assert np.abs(found.edges - [0, 10_000, 20_000, 30_000]).max() <= 10


@pytest.mark.usefixtures("length")
def test_the_search_stops_when_told() -> None:
    with pytest.raises(Cancelled):
        find_levels(ArraySeries(np.ones(10, dtype=np.float32), 1.0), should_stop=lambda: True)


@given(st.lists(st.booleans(), max_size=40))
def test_runs_are_exactly_the_true_stretches(flags: list[bool]) -> None:
    rebuilt = np.zeros(len(flags), dtype=bool)
    for first, last in runs_of(np.array(flags, dtype=bool)):
        assert first < last
        rebuilt[first:last] = True
    assert rebuilt.tolist() == flags


def test_a_stay_lasts_through_the_hysteresis_and_short_leaves() -> None:
    values = np.float32([0, 1, 1.05, 1.05, 0, 1, 1, 1, 5, 1, 0, 0, 1, 0])
    series = ArraySeries(values, 1.0)
    assert band_stays(series, 0.9, 1.02).tolist() == [[1, 2], [5, 8], [9, 10], [12, 13]]
    assert band_stays(series, 0.9, 1.02, hysteresis=0.1).tolist() == [[1, 4], [5, 8], [9, 10], [12, 13]]
    assert band_stays(series, 0.9, 1.02, hysteresis=0.1, shortest_s=2.0).tolist() == [[1, 10]]


def test_a_stay_across_chunks_is_one(monkeypatch: pytest.MonkeyPatch) -> None:
    import warm_ember.signal.series as module

    monkeypatch.setattr(module, "CHUNK_SAMPLES", 7)
    values = np.zeros(50, dtype=np.float32)
    values[3:41] = 1.0
    assert band_stays(ArraySeries(values, 1.0), 0.5, 2.0).tolist() == [[3, 41]]


class Lines:
    """Digital lines in memory."""

    def __init__(self, bits: np.ndarray, names: tuple[str, ...] = ("A", "B")) -> None:
        self._bits, self.names = bits, names
        self.samples, self.interval_s = len(bits), 1e-3
        builder = BitPyramidBuilder()
        builder.append(bits)
        self._levels = builder.finish()
        self.levels = tuple(256 * 16**k for k in range(len(self._levels)))

    def read(self, first: int, last: int) -> np.ndarray:
        return self._bits[first:last]

    def blocks(self, level: int, first: int, last: int) -> np.ndarray:
        return self._levels[level][first:last]


@given(st.integers(0, 5), st.integers(1, 3000), st.floats(0.0, 90.0), st.floats(0.01, 90.0))
def test_a_line_window_shows_each_level_that_occurs(seed: int, columns: int, from_s: float, length_s: float) -> None:
    random = np.random.default_rng(seed)
    bits = np.repeat(random.integers(0, 4, 300), random.integers(1, 600, 300)).astype(np.uint8)[:90_000]
    lines = Lines(bits)
    found = line_window(lines, from_s, from_s + length_s, columns)
    for index in range(0, len(found.ever), max(1, len(found.ever) // 4)):
        first, last = np.rint(found.edges_s[index : index + 2] / 1e-3).astype(int)
        for bit in (0, 1):
            part = bits[first:last] >> bit & 1
            assert (found.high(bit)[index], found.low(bit)[index]) == (part.any(), not part.all())


def test_rising_edges_know_what_came_before() -> None:
    bits = np.uint8([1, 0, 1, 1, 0, 1])
    assert rising_edges(bits, 0, before=False).tolist() == [0, 2, 5]
    assert rising_edges(bits, 0, before=True).tolist() == [2, 5]
    assert reduce_bits(np.empty(0, dtype=np.uint8)).shape == (0,)


@pytest.mark.parametrize("every", [50, 100, 1000])
def test_levels_are_numbered_by_what_they_draw_with_their_pulses(every: int) -> None:
    """A floor of 20 µA with pulses of 20 mA draws more than a steady 125 µA, or less."""
    random = np.random.default_rng(1)
    floor = np.full(100_000, 2e-5)
    floor[::every] = 2e-2
    values = np.concatenate([floor, np.full(60_000, 1.25e-4)] * 10)
    values *= 1 + 0.01 * random.standard_normal(len(values))
    series = ArraySeries(values.astype(np.float32), 1e-5)
    levels = numbered(series, find_levels(series))
    sums = interval_sums(series, levels.edges)
    draws = {
        levels.name_of(k): sums.total[levels.level == k].sum() / np.diff(levels.edges)[levels.level == k].sum()
        for k in range(len(levels.centres_a))
    }
    assert sorted(draws, key=draws.get) == [f"level {k + 1}" for k in range(len(draws))]
    learned = find_levels(series, centres_a=tuple(levels.centres_a.tolist()))
    assert [learned.name_of(k) for k in range(2)] == ["level 1", "level 2"]  # as they were learned


@settings(max_examples=60)
@given(
    st.sampled_from([1e-9, 1e-8, 1e-7, 1e-6]),
    st.integers(50, 3000),
    st.floats(2.0, 5.5),
    st.integers(0, 99),
)
def test_a_burst_decades_above_the_step_of_the_readings_hides_no_level(
    step_a: float, sleep_steps: int, decades: float, seed: int
) -> None:
    """Readings come in steps that are far smaller than what a burst draws: both levels are there all the same."""
    random = np.random.default_rng(seed)
    sleep_a = sleep_steps * step_a
    burst_a = sleep_a * 10**decades
    wave = np.where(np.arange(9000) % 700 < 40, burst_a, sleep_a)
    noise = 4 * step_a * random.normal(size=len(wave)).clip(-3, 3)
    readings = (np.rint((wave + noise) / step_a) * step_a).astype(np.float32)
    found = find_levels(ArraySeries(readings, 1e-3)).centres_a
    assert found.min() == pytest.approx(sleep_a, abs=6 * step_a)
    assert found.max() == pytest.approx(burst_a, rel=0.02, abs=6 * step_a)
