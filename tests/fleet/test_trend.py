"""What a trend says of figures that are only bounded, and of two builds beside each other."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from fleet.made_rows import day, write_run
from warm_ember.fleet.data_set import DataSet
from warm_ember.fleet.expected import expect
from warm_ember.fleet.history import History, read_history
from warm_ember.fleet.trend import compare_places, find_trend
from warm_ember.library.data_set import DataSet as LibraryDataSet
from warm_ember.library.data_set import Trend

SCATTER, OF_BUILDS, OF_BOARDS = 0.01, 0.008, 0.02
BOUNDS = ("at_least", "at_most", "below")


def collected(name: str, *stretches: tuple[float, str | None], builds: int = 10, boards: str = "1") -> DataSet:
    """Return a data set of stretches of builds on some boards, with an average and its bound."""
    data_set, random = DataSet(f"memory://{name}"), np.random.default_rng(11)
    for build in range(builds * len(stretches)):
        average_a, bound = stretches[build // builds]
        for board in boards:
            value = average_a * (1 + SCATTER * random.standard_normal())
            write_run(data_set, f"b{build}", f"r{build}", value, board=board, recorded_utc=day(build), bound=bound)
    return data_set


def asked(data_set: DataSet, of: str = "average") -> Trend:
    """Return what the library answers."""
    return LibraryDataSet(data_set.address).trend(of)


def test_what_was_measured_of_it_changes_and_the_device_may_not() -> None:
    # An instrument with a lower floor bounds what it cannot see by less: no build is better for it.
    for number, (before, after) in enumerate(((20e-6, 3e-6), (3e-6, 20e-6))):
        found = asked(collected(f"bounds-{number}", (before, "below"), (after, "below")))
        assert not found.changes
        assert any("1 change of bounds alone left out, such as at 'b10'" in note for note in found.notes)
        assert any("20 runs of 20 are only bounds" in note for note in found.notes)
        assert not found.boards
        assert found.lot is None
        assert {point.bound for point in found.series} == {"below"}
        assert {point.grade for point in found.series} == {"bounded"}


@pytest.mark.parametrize("of", ["average", "state:Deep sleep", "source:pir"])
@pytest.mark.parametrize("bound", BOUNDS)
def test_a_bound_says_at_least_how_much_changed_or_nothing(bound: str, of: str) -> None:
    is_upper = bound != "at_least"
    for number, (before, after) in enumerate(((50e-6, 20e-6), (20e-6, 50e-6))):
        is_rise = after > before
        for is_first in (True, False) if of == "average" else (is_upper,):
            stretches = ((before, bound if is_first else None), (after, None if is_first else bound))
            data_set = collected(f"{of}-{bound}-{number}-{is_first}", *stretches)
            found = asked(data_set, of)
            # Known is a rise from at most so much, or to at least so much; a fall the other way round.
            if (is_upper == is_first) == is_rise:
                (change,) = found.changes
                assert change.at == "b10"
                assert change.grade == "bounded"
                assert change.bound == ("at_least" if is_rise else "at_most")
                assert (change.high is None, change.low is None) == (is_rise, not is_rise)
            else:
                assert not found.changes
                assert any("of bounds alone left out" in note for note in found.notes)


def test_below_is_taken_at_its_high_end() -> None:
    found = asked(collected("high-end", (20e-6, "below")))
    values = np.array([point.value for point in found.series])
    assert values == pytest.approx(np.array([point.high for point in found.series]))


def test_a_few_bounds_change_nothing_but_are_told() -> None:
    data_set = collected("few", (50e-6, None), (80e-6, None), boards="12")
    for build in (3, 15):
        write_run(data_set, f"b{build}", "clipped", 55e-6, board="4", recorded_utc=day(build), bound="at_least")
    found = asked(data_set)
    (change,) = found.changes
    assert (change.bound, change.grade, change.at) == (None, "measured", "b10")
    assert any("2 runs of 42 are only bounds" in note for note in found.notes)
    assert [board.board for board in found.boards if board.board == "4"] == []


def test_nothing_is_expected_of_bounds() -> None:
    assert "bounds not counted" in str(expect(find_trend(read_history(collected("none", (20e-6, "at_most")))), "1"))


def history(random: np.random.Generator, builds: int, boards: int, change: float) -> History:
    """Return a history whose last build differs; each build is measured on some boards, and adds something itself."""
    place = np.zeros(0, dtype=np.int64)
    board = np.zeros(0, dtype=np.int64)
    for build in range(builds):
        there = random.choice(boards, random.integers(1, boards + 1), replace=False)
        board = np.concatenate((board, there))
        place = np.concatenate((place, np.full(len(there), build)))
    log = np.log(2e-4) + SCATTER * random.standard_normal(len(place))
    log += (OF_BUILDS * random.standard_normal(builds))[place] + (OF_BOARDS * random.standard_normal(boards))[board]
    log += np.log1p(change) * (place == builds - 1)
    texts = {name: [""] * len(place) for name in ("key", "run", "project", "firmware", "run_hash", "recorded_utc")}
    figures = {"value": np.exp(log), "low": np.exp(log), "high": np.exp(log)}
    grades = {"grade": ["measured"] * len(place), "bound": pa.nulls(len(place), pa.string())}
    table = pa.table(texts | {"board": [str(one) for one in board]} | figures | grades)
    return History("average", "firmware", tuple(f"b{one}" for one in range(builds)), place, table, (), ())


def test_the_interval_of_two_builds_holds_their_difference() -> None:
    # What a build adds of its own is none of the difference that the next one like it would show.
    random, held, real, series = np.random.default_rng(7), 0, 0, 300
    for number in range(series):
        change = 0.0 if number % 2 else 0.02
        made = history(random, 30, 4, change)
        found = compare_places(find_trend(made), int(random.integers(5, 25)), 29)
        assert found is not None
        assert found.low is not None
        assert found.high is not None
        held += found.low <= change * found.before <= found.high
        real += found.is_real and not change
    assert 0.85 <= held / series <= 0.96
    assert real / (series / 2) <= 0.15


def test_a_place_without_a_run_is_not_compared() -> None:
    trend = find_trend(history(np.random.default_rng(1), 6, 2, 0.0))
    assert compare_places(trend, 0, 9) is None
    assert compare_places(find_trend(read_history(collected("state-gone", (2e-4, None)), "state:Away")), 0, 1) is None


@pytest.mark.parametrize(("bound", "is_real"), [("at_most", True), ("at_least", False), ("below", True)])
def test_two_builds_with_a_bound(bound: str, is_real: bool) -> None:
    trend = find_trend(read_history(collected(f"two-{bound}", (50e-6, None), (20e-6, bound))))
    found = compare_places(trend, 4, 14)
    assert found is not None
    assert found.is_real is is_real
    assert (found.low is None, found.high is None) == ((True, False) if is_real else (False, True))
    assert (trend.sign(4, 5), trend.sign(14, 15)) == ("", "≥ " if bound == "at_least" else "≤ ")
