"""Whether sleep was deep enough, against every choice that there was."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.attribution.sleep_depth import IdleStretches, SleepDepth, judge
from warm_ember.attribution.wakes import Wakes, no_wakes
from warm_ember.model.wakes import SleepMode

RATE_HZ = 1000
DURATION_S = 500.0


def stretches(lasts_s: np.ndarray, mode: np.ndarray, floors_a: np.ndarray, whole: np.ndarray) -> IdleStretches:
    first = np.concatenate(([0], np.cumsum(np.rint(lasts_s * RATE_HZ).astype(np.int64) + 50)))[:-1]
    charge_c = floors_a[mode] * lasts_s
    return IdleStretches(first, lasts_s, charge_c, whole, mode, np.zeros(len(mode), dtype=bool))


@st.composite
def devices(draw: st.DrawFn) -> tuple[IdleStretches, tuple[SleepMode, ...], np.ndarray]:
    """Idle stretches of all lengths in modes of which each deeper one draws less and costs more to leave."""
    count = draw(st.integers(2, 4))
    floors_a = np.cumprod([1e-3, *draw(st.lists(st.floats(0.02, 0.8), min_size=count - 1, max_size=count - 1))])
    costs_c = np.cumsum([0.0, *draw(st.lists(st.floats(1e-7, 1e-3), min_size=count - 1, max_size=count - 1))])
    typed = tuple(
        SleepMode(f"mode {k}", floor_a=float(floors_a[k]), transition_charge_c=float(costs_c[k])) for k in range(count)
    )
    number = draw(st.integers(1, 30))
    random = np.random.default_rng(draw(st.integers(0, 999)))
    lasts_s = 10 ** random.uniform(-3, 1.5, number)
    mode, whole = random.integers(0, count, number), random.random(number) > 0.2
    timer_s = np.where(random.random(number) > 0.5, lasts_s, np.nan)
    return stretches(lasts_s, mode, floors_a, whole), typed, timer_s


def judged(device: tuple[IdleStretches, tuple[SleepMode, ...], np.ndarray]) -> SleepDepth:
    idle, typed, timer_s = device
    names = [mode.name for mode in typed]
    return judge(no_wakes(), idle, names, np.zeros(0), typed, timer_s, DURATION_S)


def taken_c(typed: tuple[SleepMode, ...], mode: int, lasts_s: float) -> float:
    return (typed[mode].transition_charge_c or 0.0) + (typed[mode].floor_a or 0.0) * lasts_s


@given(devices())
def test_each_stretch_is_compared_with_the_mode_that_takes_least(device) -> None:
    depth, (idle, typed, _) = judged(device), device
    for at in range(len(idle.mode)):
        every = [taken_c(typed, mode, float(idle.lasts_s[at])) for mode in range(len(typed))]
        used = int(idle.mode[at])
        if not idle.is_whole[at]:
            assert depth.best[at] == used
            assert depth.lost_c[at] == 0
            continue
        assert every[int(depth.best[at])] == pytest.approx(min(every), rel=1e-12)
        assert depth.lost_c[at] == pytest.approx(every[used] - min(every), rel=1e-9, abs=1e-18)
        assert every[used] > min(every) or depth.best[at] == used


@given(devices())
def test_the_rows_count_what_the_stretches_say(device) -> None:
    depth, (idle, typed, _) = judged(device), device
    assert [row.time_s for row in depth.rows] == sorted((row.time_s for row in depth.rows), reverse=True)
    for row in depth.rows:
        mode = [one.name for one in typed].index(row.mode)
        mine = (idle.mode == mode) & idle.is_whole
        assert row.count == row.judged == mine.sum()
        assert row.time_s == pytest.approx(idle.lasts_s[mine].sum())
        assert row.too_shallow == (depth.best[mine] > mode).sum()
        assert row.too_deep == (depth.best[mine] < mode).sum()
        assert row.lost_a == pytest.approx(depth.lost_c[mine].sum() / DURATION_S)
    assert depth.lost_a == pytest.approx(sum(row.lost_a for row in depth.rows))


@given(devices())
def test_a_break_even_is_where_two_modes_take_the_same(device) -> None:
    depth, (_, typed, _) = judged(device), device
    names = [mode.name for mode in typed]
    for name in names:
        crossings = depth.break_evens(name)
        assert [one.from_s for one in crossings] == sorted(one.from_s for one in crossings)
        assert {one.lighter for one in crossings} | {one.deeper for one in crossings} == set(names)
        for one in crossings:
            lighter, deeper = names.index(one.lighter), names.index(one.deeper)
            assert lighter < deeper
            here = taken_c(typed, lighter, one.from_s), taken_c(typed, deeper, one.from_s)
            assert here[0] == pytest.approx(here[1], rel=1e-9)
            longer_s = 1.01 * one.from_s
            assert taken_c(typed, deeper, longer_s) < taken_c(typed, lighter, longer_s)


@given(devices())
def test_a_rule_that_knows_every_timer_loses_nothing(device) -> None:
    idle, typed, _ = device
    assert judged((idle, typed, idle.lasts_s)).by_rule_a == pytest.approx(0, abs=1e-15)
    assert judged(device).by_rule_a >= 0


@given(devices())
def test_of_a_mode_alone_nothing_is_judged(device) -> None:
    idle, typed, timer_s = device
    alone = IdleStretches(
        idle.first, idle.lasts_s, idle.charge_c, idle.is_whole, np.zeros_like(idle.mode), idle.in_wakes
    )
    depth = judge(no_wakes(), alone, [typed[0].name], np.zeros(0), typed[:1], timer_s, DURATION_S)
    assert depth.lost_a == 0
    assert [row.judged for row in depth.rows] == [0]
    assert depth.break_evens(typed[0].name) == ()


@given(devices())
def test_modes_of_other_parts_are_not_compared(device) -> None:
    idle, typed, timer_s = device
    parted = tuple(
        SleepMode(one.name, part=f"part {k}", floor_a=one.floor_a, transition_charge_c=one.transition_charge_c)
        for k, one in enumerate(typed)
    )
    depth = judged((idle, parted, timer_s))
    assert depth.lost_a == 0
    np.testing.assert_array_equal(depth.best, idle.mode)


@given(st.lists(st.floats(1e-4, 10.0), min_size=1, max_size=20), st.integers(0, 2))
def test_by_residency_the_deepest_that_fits_is_best(lengths, used) -> None:
    residencies_s = (0.0, 1e-2, 1.0)
    typed = tuple(
        SleepMode(f"mode {k}", floor_a=1e-3 / 10**k, residency_s=residency_s)
        for k, residency_s in enumerate(residencies_s)
    )
    lasts_s = np.array(lengths)
    mode = np.full(len(lasts_s), used)
    idle = stretches(lasts_s, mode, np.array([1e-3, 1e-4, 1e-5]), np.ones(len(lasts_s), dtype=bool))
    depth = judged((idle, typed, np.full(len(lasts_s), np.nan)))
    for at, length_s in enumerate(lengths):
        best = max(k for k, residency_s in enumerate(residencies_s) if length_s + 1e-9 >= residency_s)
        assert depth.best[at] == best
        assert depth.lost_c[at] >= 0
        assert best != used or depth.lost_c[at] == 0


@given(st.floats(1e-6, 1e-3), st.floats(1e-5, 1e-3), st.integers(0, 99))
def test_what_leaving_a_mode_takes_is_read_from_the_wakes_after_it(more_c, each_c, seed) -> None:
    random = np.random.default_rng(seed)
    mode = np.tile((0, 1), 20)
    floors_a = np.array([1e-4, 1e-6])
    idle = stretches(np.full(40, 2.0), mode, floors_a, np.ones(40, dtype=bool))
    first = idle.first[1:] - 50
    wakes = Wakes.of(("rtc",) * 39, first, first + 50)
    # A wake follows the stretch before it, and scatters a little.
    costs_c = (each_c + more_c * mode[:-1]) * (1 + 1e-3 * random.standard_normal(39))
    depth = judge(wakes, idle, ("light", "deep"), costs_c, (), np.full(40, np.nan), DURATION_S)
    assert depth.mode("light").transition_charge_c == 0
    found_c = depth.mode("deep").transition_charge_c
    assert found_c == pytest.approx(more_c, abs=2e-3 * (each_c + more_c))
    assert depth.mode("deep").floor_a == pytest.approx(1e-6)
    assert not depth.mode("deep").crossing_is_typed
