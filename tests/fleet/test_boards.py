"""Boards: the odd one is named, others are not, and the lot's life is that of boards and cells together."""

from __future__ import annotations

import numpy as np
import pyarrow as pa
import pytest

from warm_ember.fleet.boards import find_boards, find_lot
from warm_ember.fleet.history import History
from warm_ember.fleet.trend import Trend, find_trend

SCATTER, BOARDS_DIFFER = 0.01, 0.015
DOWN, UP = 0.12, 0.2
"""How widely lives spread by cells, as standard deviations of the logarithm on either side."""


def made(random: np.random.Generator, boards: int = 5, runs: int = 8, odd: float = 0.0) -> tuple[Trend, History]:
    """Return the trend of the average and the lives of boards, the first of which may be odd."""
    offset = BOARDS_DIFFER * random.standard_normal(boards)
    offset[0] += odd
    board, build = np.tile(np.arange(boards), runs), np.repeat(np.arange(runs), boards)
    average_a = 2e-4 * np.exp(offset[board] + SCATTER * random.standard_normal(boards * runs))
    life_h = 6 / average_a

    def history(of: str, value: np.ndarray, low: np.ndarray, high: np.ndarray) -> History:
        table = pa.table(
            {
                "key": [f"b{one}" for one in build],
                "run": [f"r{one}" for one in build],
                "project": ["post"] * len(board),
                "board": [str(one) for one in board],
                "firmware": [f"b{one}" for one in build],
                "run_hash": [f"{number:032x}" for number in range(len(board))],
                "recorded_utc": [""] * len(board),
                "value": value,
                "low": low,
                "high": high,
                "grade": ["measured"] * len(board),
                "bound": pa.nulls(len(board), pa.string()),
            }
        )
        return History(of, "firmware", tuple(f"b{one}" for one in range(runs)), build, table, (), ())

    reach = 1.2815515655446004
    lives = history("life", life_h, life_h * np.exp(-reach * DOWN), life_h * np.exp(reach * UP))
    return find_trend(history("average", average_a, 0.99 * average_a, 1.01 * average_a)), lives


def test_boards_that_are_alike_are_not_odd() -> None:
    random, odd = np.random.default_rng(1), 0
    for boards in (3, 5, 8):
        for _ in range(40):
            odd += any(board.is_odd for board in find_boards(made(random, boards)[0]))
    assert odd <= 11  # of 120, at one in twenty


@pytest.mark.parametrize("odd", [0.2, -0.2])
def test_the_odd_board_is_named(odd: float) -> None:
    random, found = np.random.default_rng(2), 0
    for _ in range(20):
        boards = find_boards(made(random, odd=odd)[0])
        found += [board.name for board in boards if board.is_odd] == ["0"]
        assert [board.median for board in boards] == sorted((board.median for board in boards), reverse=True)
        (named,) = (board for board in boards if board.name == "0")
        assert named.from_others == pytest.approx(np.expm1(odd), abs=0.07)
        assert named.low <= named.median <= named.high
        assert len(named.values) == 8
    assert found >= 16


def test_of_two_boards_none_is_odd() -> None:
    boards = find_boards(made(np.random.default_rng(3), boards=2, odd=0.3)[0])
    assert [board.is_odd for board in boards] == [False, False]
    (alone,) = find_boards(made(np.random.default_rng(3), boards=1)[0])
    assert alone.from_others is None


def test_one_in_ten_of_the_lot_ends_before_its_p10() -> None:
    random, ended, halves, reached = np.random.default_rng(4), [], [], []
    for _ in range(60):
        trend, lives = made(random)
        lot = find_lot(trend, lives, target_h=26_280.0)
        assert lot is not None
        board = BOARDS_DIFFER * random.standard_normal(4000)
        cells = random.standard_normal(4000)
        truth_h = 6 / 2e-4 * np.exp(-board + np.where(cells < 0, DOWN, UP) * cells)
        ended.append(np.mean(truth_h < lot.p10_h))
        halves.append(np.mean(truth_h < lot.p50_h))
        reached.append(lot.chance - np.mean(truth_h >= 26_280.0))
    assert 0.085 <= np.mean(ended) <= 0.115
    assert 0.47 <= np.mean(halves) <= 0.53
    assert abs(np.mean(reached)) < 0.02


def test_an_odd_board_shortens_the_lots_life() -> None:
    trend, lives = made(np.random.default_rng(5), odd=0.3)
    whole = find_lot(trend, lives, target_h=None)
    usual = find_lot(trend, lives, target_h=None, without=frozenset({"0"}))
    assert whole is not None
    assert usual is not None
    assert whole.p10_h < 0.97 * usual.p10_h
    assert (whole.boards, usual.boards, whole.chance) == (5, 4, None)
    assert find_lot(trend, lives, target_h=None, without=frozenset("01234")) is None
