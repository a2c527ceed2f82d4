"""Kinds of wakes from the current alone, on made-up devices whose truth is known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from made_bursts import MadeDevice, MadeKind, make_device, render

from warm_ember.attribution.kinds import Kinds, find_kinds, sort_wakes
from warm_ember.attribution.known_kinds import likeness_of, name_kinds, paired, unlikeness
from warm_ember.errors import Cancelled
from warm_ember.model.kinds import Likeness, SortedWake, WakeKind, letter_of
from warm_ember.session.kind_words import left_out_a, reproduced_a
from warm_ember.signal.recurrence import Manner
from warm_ember.signal.series import ArraySeries
from warm_ember.signal.sorting import ALONE

SENSOR = MadeKind(((3e-3, 0.03), (7e-3, 0.01)), "timer", 5.0, 1e-3, 0.01, 0.02, 2e-3)
RADIO = MadeKind(((4e-3, 0.2), (60e-3, 0.5), (9e-3, 0.4)), "chance", 25.0, 0.0, 0.02, 0.05, 5e-3)


def device(*kinds: MadeKind, seed: int = 1, duration_s: float = 200.0, floor_a: float = 4.2e-6) -> MadeDevice:
    return render(np.random.default_rng(seed), kinds, floor_a, 0.05 * floor_a, duration_s, 5e3)


def of_truth(made: MadeDevice, found: Kinds) -> list[set[int]]:
    """The kinds that are found where each true burst is."""
    middle = (made.begin_s + made.end_s) / 2 / found.interval_s
    at = np.searchsorted(found.first, middle, side="right") - 1
    inside = (at >= 0) & (middle < found.last[np.maximum(at, 0)])
    return [
        {int(found.kind[wake]), *found.mixed.get(int(wake), ())} - {ALONE} if one else set()
        for wake, one in zip(at.tolist(), inside.tolist(), strict=True)
    ]


def closes(found: Kinds, mean_a: float) -> None:
    added_a = sum(part.added_a for part in (*found.kinds, *found.stays)) + found.unsorted_a
    assert found.floor.value + added_a == pytest.approx(mean_a, rel=1e-5)


@settings(max_examples=8)
@given(st.integers(2000, 9000))
def test_the_kinds_of_a_device_are_found_and_close_to_its_mean(seed: int) -> None:
    made = make_device(seed)
    found = find_kinds(made.current)
    truth, sets = made.kind.tolist(), of_truth(made, found)
    best = {
        kind: max(
            range(len(found.kinds)),
            key=lambda n, kind=kind: sum(n in s for s, t in zip(sets, truth, strict=True) if t == kind),
        )
        for kind in set(truth)
    }
    right = np.mean([best[kind] in one for kind, one in zip(truth, sets, strict=True)])
    assert right > 0.85  # 0.99 on the average
    assert abs(len(found.kinds) - len(set(truth))) <= 2
    assert found.floor.value == pytest.approx(made.floor_a, rel=0.02)
    closes(found, float(made.current.read(0, made.current.samples).mean(dtype=np.float64)))
    assert (np.diff([kind.added_a for kind in found.kinds]) <= 0).all()
    assert [kind.letter for kind in found.kinds] == [letter_of(k) for k in range(len(found.kinds))]


@settings(max_examples=8)
@given(st.integers(0, 999))
def test_of_one_kind_no_second_is_made_up(seed: int) -> None:
    made = make_device(30_000 + seed, kinds=1)
    found = find_kinds(made.current)
    assert len(found.kinds) <= 1
    if found.kinds:
        (kind,) = found.kinds
        assert kind.charge.value == pytest.approx(made.charge_c.mean(), rel=0.05)


def test_a_timer_and_chance_are_told_apart_with_what_each_takes() -> None:
    made = device(SENSOR, RADIO)
    found = find_kinds(made.current)
    radio, sensor = found.kinds
    for number, kind in ((0, sensor), (1, radio)):
        mine = made.charge_c[made.kind == number]
        assert kind.count == len(mine)
        assert kind.charge.value == pytest.approx(mine.mean(), rel=0.01)
        low, high = kind.charge.interval() or (0.0, 0.0)
        assert low <= mine.mean() <= high
    assert sensor.recurrence.manner is Manner.TIMER
    assert sensor.recurrence.period_s == pytest.approx(5.0, rel=2e-3)
    assert radio.recurrence.manner is Manner.CHANCE
    assert len(radio.levels_a) == 3
    assert [level / 1e-3 for level in radio.levels_a] == pytest.approx([4, 60, 9], rel=0.1)
    assert len(found.unsorted) == 0


@settings(max_examples=8)
@given(
    st.floats(1e-3, 9e-3),
    st.floats(0.0, 0.1),
    st.integers(250_000, 600_000),
    st.integers(0, 100_000),  # what lasts a tenth of the capture is a stay of its own
    st.integers(0, 99),
)
def test_wakes_in_a_state_of_its_own_are_those_outside(level_a, noise, first, peak, seed) -> None:
    # A modem sends and then idles for long, while the sensor goes on.
    made = device(SENSOR, seed=seed)
    values = made.current.read(0, made.current.samples).copy()
    random = np.random.default_rng(seed)
    idle = slice(first, first + 320_000)
    values[idle] += (level_a * (1 + noise * random.standard_normal(320_000))).astype(np.float32)
    values[first : first + peak] += np.float32(80e-3)
    found = find_kinds(ArraySeries(values, made.current.interval_s))
    closes(found, float(values.mean(dtype=np.float64)))
    assert found.floor.value == pytest.approx(4.2e-6, rel=0.01)
    (stay,) = found.stays
    assert (stay.first, stay.last) == pytest.approx((idle.start, idle.stop), abs=300)
    assert stay.level_a == pytest.approx(level_a + 4.2e-6, rel=0.02)
    sensor = max(found.kinds, key=lambda kind: kind.count)
    true_c = made.charge_c.mean()
    assert sensor.charge.value == pytest.approx(true_c, rel=0.03)
    # Noise of the modem must not widen the wakes outside it.
    outside = (found.last < idle.start) | (found.first > idle.stop)
    lasts = (found.last - found.first)[outside & (found.kind == sensor.number)]
    assert np.median(lasts) * found.interval_s < 0.08


def _missing(values: np.ndarray, _: np.random.Generator) -> np.ndarray:
    values[::7] = np.nan
    return values


def _interrupted(values: np.ndarray, random: np.random.Generator) -> np.ndarray:
    first = int(random.integers(50_000, 500_000))
    values[first : first + 90_000] = np.nan
    return values


BENCHES = {
    "samples missing": _missing,
    "interrupted": _interrupted,
    "coarse": lambda values, _: np.round(values / 1e-6) * 1e-6,
    "coarser than the floor": lambda values, _: np.round(values / 5e-5) * 5e-5,
    "an offset below zero": lambda values, _: values - 6e-6,
    "hum": lambda values, _: values + 2e-6 * np.sin(2 * np.pi * 50 * np.arange(len(values)) / 5e3),
    "warming up": lambda values, _: values + 3e-6 * np.arange(len(values)) / len(values),
    "clipped": lambda values, _: np.minimum(values, 10e-3),
    "noisy": lambda values, random: values + 4e-6 * random.standard_normal(len(values)),
}


@settings(max_examples=20)
@given(st.sampled_from(list(BENCHES)), st.integers(0, 99))
def test_what_a_bench_makes_of_a_current_leaves_its_kinds(bench: str, seed: int) -> None:
    made = device(SENSOR, replace(RADIO, how="timer", period_s=37.0), seed=seed)
    plain = made.current.read(0, made.current.samples).astype(np.float64)
    values = BENCHES[bench](plain, np.random.default_rng(seed)).astype(np.float32)
    found = find_kinds(ArraySeries(values, made.current.interval_s))
    closes(found, float(np.nanmean(values, dtype=np.float64)))
    sensor, radio = sorted(found.kinds, key=lambda kind: -kind.count)
    seen = [(made.kind == kind).sum() for kind in (0, 1)]
    lost = 0 if bench != "interrupted" else 5
    assert seen[0] - lost <= sensor.count <= seen[0]
    assert seen[1] - lost <= radio.count <= seen[1]
    assert sensor.charge.value == pytest.approx(made.charge_c[made.kind == 0].mean(), rel=0.03)
    assert abs(reproduced_a(found) / (found.mean_a - left_out_a(found)) - 1) < 0.03


def test_what_is_like_no_other_is_left_out_and_told() -> None:
    made = device(SENSOR, seed=3)
    values = made.current.read(0, made.current.samples).copy()
    values[400_000:420_000] += np.float32(20e-3)
    found = find_kinds(ArraySeries(values, made.current.interval_s))
    (wake,) = found.unsorted.tolist()
    assert found.first[wake] <= 400_000 < 420_000 <= found.last[wake]
    assert len(found.kinds) == 1
    closes(found, float(values.mean(dtype=np.float64)))


def test_two_that_are_alike_are_a_kind_among_hundreds_of_others() -> None:
    twice = replace(RADIO, how="timer", period_s=90.0)
    made = device(replace(SENSOR, period_s=0.5), twice)
    assert (made.kind == 1).sum() == 2
    found = find_kinds(made.current)
    assert sorted(kind.count for kind in found.kinds) == [2, (made.kind == 0).sum()]


def test_overlaps_count_in_both_kinds() -> None:
    frequent = replace(SENSOR, period_s=0.9, jitter=0.0, stretch=0.0, scatter=0.002)
    steady = replace(RADIO, how="timer", period_s=12.7, stretch=0.0, scatter=0.002)
    made = device(frequent, steady, duration_s=300.0)
    found = find_kinds(made.current)
    assert len(found.mixed) > 5
    radio, sensor = found.kinds[:2]
    assert radio.count == (made.kind == 1).sum()
    assert sensor.count == pytest.approx((made.kind == 0).sum(), rel=0.02)
    assert sensor.recurrence.period_s == pytest.approx(0.9, rel=1e-3)
    closes(found, float(made.current.read(0, made.current.samples).mean(dtype=np.float64)))


def test_a_return_to_the_floor_within_a_burst_does_not_cut_it() -> None:
    random = np.random.default_rng(4)
    values = np.full(500_000, 5e-6)
    begins = np.arange(4000, 490_000, 40_000)
    for first in begins.tolist():
        for pulse in range(6):
            start = first + 400 * pulse
            values[start : start + 250] += 30e-3
    values *= 1 + 0.05 * random.standard_normal(len(values))
    found = find_kinds(ArraySeries(values.astype(np.float32), 2e-4))
    (kind,) = found.kinds
    assert kind.count == len(begins)
    assert kind.charge.value == pytest.approx(6 * 250 * 30e-3 * 2e-4, rel=0.01)
    assert kind.recurrence.period_s == pytest.approx(8.0, rel=1e-4)


def test_a_capacitor_s_tail_belongs_to_its_wake() -> None:
    slow = replace(SENSOR, tail_s=30e-3, scatter=0.0, stretch=0.0)
    made = device(slow)
    (kind,) = find_kinds(made.current).kinds
    assert kind.charge.value == pytest.approx(made.charge_c.mean(), rel=3e-3)
    assert kind.awake_s > 0.04 + 2 * 30e-3


@pytest.mark.parametrize("values", [np.zeros(0), np.full(5000, np.nan), np.full(5000, 2e-6), np.full(1, 1e-3)])
def test_without_wakes_there_are_no_kinds(values) -> None:
    found = find_kinds(ArraySeries(values.astype(np.float32), 1e-3))
    assert found.kinds == ()
    assert len(found.first) == 0


def test_sorting_wakes_can_be_stopped() -> None:
    made = device(SENSOR)
    with pytest.raises(Cancelled):
        find_kinds(made.current, should_stop=lambda: True)


def known(made: MadeDevice) -> tuple[WakeKind, ...]:
    """What a project knows of a device's kinds once they were kept, the first of them named."""
    wakes, found = sort_wakes(made.current), find_kinds(made.current)
    likes = [
        likeness_of(wakes, found.of(kind.number), found.interval_s, kind.recurrence.period_s) for kind in found.kinds
    ]
    return (WakeKind("A", "report", likes[:1]), WakeKind("B", "", likes[1:]))


def test_another_capture_s_wakes_are_recognised_though_the_firmware_changed() -> None:
    kinds = known(device(SENSOR, RADIO))
    cheaper = replace(RADIO, steps=((4e-3, 0.2), (45e-3, 0.4), (9e-3, 0.2)))
    changed = device(replace(SENSOR, period_s=10.0), cheaper, seed=9)
    found = name_kinds(changed.current, sort_wakes(changed.current), kinds, ())
    assert [(kind.letter, kind.label) for kind in found.kinds] == [("A", "report"), ("B", "kind B")]
    new = MadeKind(((25e-3, 0.004),), "timer", 3.0, 0.0, 0.01, 0.0, 0.0)
    more = device(SENSOR, RADIO, new, seed=11)
    found = name_kinds(more.current, sort_wakes(more.current), kinds, ())
    assert {kind.label for kind in found.kinds} == {"report", "kind B", "kind C"}


def test_kinds_are_joined_split_and_sorted_by_hand() -> None:
    made = device(SENSOR, RADIO)
    wakes, kinds = sort_wakes(made.current), known(made)
    joined = (WakeKind("A", "all", (*kinds[0].likes, *kinds[1].likes)),)
    (one,) = name_kinds(made.current, wakes, joined, ()).kinds
    assert (one.label, one.count) == ("all", len(made.kind))
    moved_s = float(made.begin_s[made.kind == 0][3] + 0.01)
    by_hand = (SortedWake("made", moved_s, "A"),)
    found = name_kinds(made.current, wakes, kinds, by_hand)
    assert {kind.letter: kind.count for kind in found.kinds} == {
        "A": (made.kind == 1).sum() + 1, "B": (made.kind == 0).sum() - 1,
    }  # fmt: skip
    alone = name_kinds(made.current, wakes, kinds, (SortedWake("made", moved_s, ""),))
    assert len(alone.unsorted) == 1
    closes(alone, float(made.current.read(0, made.current.samples).mean(dtype=np.float64)))


LIKES = st.builds(
    Likeness,
    length_s=st.floats(1e-3, 10),
    charge_c=st.floats(1e-6, 1),
    peak_a=st.floats(1e-5, 0.5),
    course=st.lists(st.floats(-4, 4), min_size=12, max_size=12).map(tuple),
    period_s=st.none() | st.floats(0.1, 100),
)


@given(LIKES, LIKES)
def test_unlikeness_is_mutual_and_nothing_for_the_same(one: Likeness, other: Likeness) -> None:
    assert unlikeness(one, one) == 0
    assert unlikeness(one, other) == pytest.approx(unlikeness(other, one))


@given(st.lists(LIKES, max_size=5), st.lists(LIKES, max_size=5))
def test_each_kind_is_paired_at_most_once(some, others) -> None:
    pairs = paired(some, others)
    assert len({a for a, _ in pairs}) == len({b for _, b in pairs}) == len(pairs)
    assert all(unlikeness(some[a], others[b]) <= 2 for a, b in pairs)
    assert {(a, a) for a in range(len(some))} == set(paired(some, some)) or len(set(some)) < len(some)
