"""Changes of a series: found where they are, and not made of what only scatters."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError
from warm_ember.signal.change_points import find_changes

SIX_PER_CENT = float(np.log(1.06))


def made(random: np.random.Generator, builds: int, boards: int, scatter: float = 0.02):
    """Return values about 0, places and boards of a series without a change; each board has an offset."""
    place, board = np.repeat(np.arange(builds), boards), np.tile(np.arange(boards), builds)
    offset = 0.015 * random.standard_normal(boards)
    return scatter * random.standard_normal(builds * boards) + offset[board], place, board


@pytest.mark.parametrize(("builds", "boards", "wild"), [(12, 1, 0), (50, 1, 2), (40, 3, 2), (150, 1, 0)])
def test_a_flat_series_has_no_change(builds: int, boards: int, wild: int) -> None:
    random, false = np.random.default_rng(7), 0
    for _ in range(60):
        values, place, board = made(random, builds, boards)
        values[random.choice(len(values), wild, replace=False)] += 0.5
        false += bool(find_changes(values, place, board).changes)
    assert false <= 4  # at 5 % six or more of 60 would come one time in ten; here 1 to 2 % come


@pytest.mark.parametrize(("builds", "boards"), [(30, 5), (50, 3)])
def test_six_per_cent_is_found_at_the_right_build(builds: int, boards: int) -> None:
    random, found, held = np.random.default_rng(8), 0, 0
    for _ in range(40):
        values, place, board = made(random, builds, boards)
        at = int(random.integers(5, builds - 5))
        changes = find_changes(values + SIX_PER_CENT * (place >= at), place, board).changes
        found += [change.at for change in changes] == [at]
        held += any(change.low <= SIX_PER_CENT <= change.high for change in changes)
    assert found >= 36
    assert 33 <= held <= 40


def test_what_comes_and_goes_is_found() -> None:
    random, found = np.random.default_rng(9), 0
    for _ in range(20):
        values, place, _ = made(random, 120, 1)
        values += 0.1 * ((place >= 60) & (place < 67))
        found += [change.at for change in find_changes(values, place).changes][:2] == [60, 67]
    assert found >= 17


def test_a_place_measured_fifty_times_is_one_place() -> None:
    random, false = np.random.default_rng(10), 0
    for _ in range(40):
        counts = np.full(40, 3)
        counts[20] = 50
        place = np.repeat(np.arange(40), counts)
        values = (0.015 * random.standard_normal(40))[place] + 0.01 * random.standard_normal(len(place))
        false += bool(find_changes(values, place).changes)
    assert false <= 3


def test_another_board_is_no_change() -> None:
    random, false = np.random.default_rng(11), 0
    for _ in range(40):
        values, place, board = made(random, 40, 2, 0.01)
        board[(place >= 20) & (board == 1)] = 2
        values += 0.05 * (board == 2)
        found = find_changes(values, place, board)
        false += bool(found.changes)
        assert found.offset[2] > found.offset[1] + 0.02
    assert false <= 3


def test_one_wild_run_is_told_and_changes_nothing() -> None:
    values, place, board = made(np.random.default_rng(12), 30, 2)
    calm = find_changes(values, place, board)
    values[17] += 1.0
    found = find_changes(values, place, board)
    assert (found.changes, np.flatnonzero(found.outlier).tolist()) == ((), [17])
    assert abs(found.level[0] - calm.level[0]) < 0.005
    assert abs(found.scatter - calm.scatter) < 0.005


def test_series_of_next_to_nothing() -> None:
    for values in ([3.0], [3.0, 4.0], [3.0, 3.0, 4.0], [5.0] * 9, [0.0] * 4):
        found = find_changes(np.array(values), np.arange(len(values)))
        assert not found.changes
        assert np.isfinite(found.level).all()
    steps = np.repeat([5.0, 5.0, 6.0], 6)
    assert [change.at for change in find_changes(steps, np.arange(18)).changes] == [12]
    for values in ([], [1.0, np.nan], [np.inf]):
        with pytest.raises(BadArgumentError, match="finite"):
            find_changes(np.array(values), np.arange(len(values)))


@settings(deadline=None, max_examples=25)
@given(st.integers(0, 2**32), st.integers(2, 40), st.integers(1, 4), st.floats(-5, 5), st.floats(0.1, 10))
def test_order_level_and_scale_do_not_matter(seed: int, builds: int, boards: int, level: float, scale: float) -> None:
    random = np.random.default_rng(seed)
    values, place, board = made(random, builds, boards)
    values = values + 0.2 * (place >= builds // 2)
    order = random.permutation(len(values))
    one = find_changes(values, place, board)
    other = find_changes((level + scale * values)[order], place[order], board[order])
    assert [change.at for change in one.changes] == [change.at for change in other.changes]
    np.testing.assert_allclose(other.level, level + scale * one.level, rtol=0, atol=1e-9)
    np.testing.assert_array_equal(one.outlier[order], other.outlier)


def test_many_places_are_searched_together() -> None:
    random = np.random.default_rng(13)
    place = np.arange(5000)
    values = 0.02 * random.standard_normal(5000) + 0.06 * (place >= 3141)
    (change,) = find_changes(values, place).changes
    assert abs(change.at - 3141) <= 2
    assert change.confidence > 0.999
