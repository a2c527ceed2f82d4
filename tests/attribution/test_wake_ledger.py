"""Wakes by source, sleep by mode and alignment, on captures whose truth is known."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, Made, stays
from attribution.test_load import wake_lists, waking
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import Wakes, find_wakes
from warm_ember.model.capture import Event
from warm_ember.model.placement import Alignment
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries


def ledger_of(made: Made, slack_s: dict[str, float] | None = None):
    placement = place(made)
    wakes = find_wakes(made, placement, lambda: find_levels(made.current))
    return make_wake_ledger(made, placement, wakes, slack_s)


@given(wake_lists)
@settings(max_examples=40, deadline=None)
def test_the_floor_and_what_sources_add_are_the_average(wakes: list[tuple[str, float, float]]) -> None:
    made, charges = waking(wakes, with_sleep=True)
    found = ledger_of(made)
    samples = made.current.read(0, made.current.samples).astype(float)
    assert found.floor_a == pytest.approx(1e-5, rel=1e-4)
    assert found.floor_a + sum(row.added_a for row in found.sources) == pytest.approx(samples.mean(), rel=1e-6)
    assert sum(row.count for row in found.sources) == len(wakes)
    for row in found.sources:
        mine = [(c, s) for c, (name, _, s) in zip(charges, wakes, strict=True) if (name or "unknown") == row.source]
        assert row.awake_s_mean == pytest.approx(np.mean([s for _, s in mine]), rel=1e-6)
        assert row.charge_c_mean == pytest.approx(np.mean([c - 1e-5 * s for c, s in mine]), rel=1e-3)
    (mode,) = found.idle
    assert (mode.mode, mode.count, mode.lost_a) == ("deep", len(wakes) - 1, 0.0)  # two are cut off
    assert found.aligned.rate_per_h == pytest.approx(found.rate_per_h)


def test_without_a_log_wakes_are_found_in_the_current() -> None:
    made, _ = stays(*[("sleep", 1e-5, 0.5), ("awake", 5e-3, 0.05)] * 20, ("sleep", 1e-5, 0.5), noise=0.02)
    made.events = ()
    found = ledger_of(made)
    (row,) = found.sources
    assert (row.source, row.count) == ("kind A", 20)
    assert row.charge_c_mean == pytest.approx(5e-3 * 0.05, rel=0.01)
    flat, _ = stays(("sleep", 1e-5, 2.0))
    flat.events = ()
    assert ledger_of(flat).sources == ()


def sleeping(stretches: list[tuple[str, float]]) -> Made:
    """Sleep in light (100 µA) or deep (1 µA, 3 mC more to leave), each ended by a timer that takes 1 mC."""
    parts, events, now_s = [("awake", 0.01, 0.1)], [], 0.1
    for mode, length_s in stretches:
        burst_s = 0.1 if mode == "light" else 0.4
        events += [Event(now_s, "sleep", mode), Event(round(now_s + length_s, 9), "wake", "timer")]
        parts += [("sleep", 1e-4 if mode == "light" else 1e-6, length_s), ("awake", 0.01, burst_s)]
        now_s = round(now_s + length_s + burst_s, 9)
    events.append(Event(now_s, "sleep", "light"))
    made, _ = stays(*parts, ("sleep", 1e-4, 1.0))
    made.events = tuple(sorted((*made.events, *events), key=lambda event: event.time_s))
    return made


def test_each_sleep_is_held_against_its_break_even_time() -> None:
    # 3 mC over 99 µA: deep sleep pays from 30.3 s on.
    made = sleeping([
        ("light", 5.0), ("light", 60.0), ("deep", 50.0), ("deep", 10.0),
        *[("light", 6.0), ("deep", 45.0)] * 4, ("light", 20.0),
    ])  # fmt: skip
    found = {row.mode: row for row in ledger_of(made).idle}
    light, deep = found["light"], found["deep"]
    assert (light.count, light.too_shallow, light.too_deep) == (7, 1, 0)  # the last is cut off
    assert (deep.count, deep.too_shallow, deep.too_deep) == (6, 0, 1)
    duration_s = made.current.samples * INTERVAL_S
    assert light.lost_a == pytest.approx((60 * 99e-6 - 3e-3) / duration_s, rel=0.02)
    assert deep.lost_a == pytest.approx((3e-3 - 10 * 99e-6) / duration_s, rel=0.02)


def test_what_was_slept_in_a_few_times_is_not_judged() -> None:
    made = sleeping([("light", 60.0), ("deep", 50.0), ("deep", 10.0), ("light", 20.0)])
    found = ledger_of(made).idle
    assert {row.mode for row in found} == {"light", "deep"}
    assert all(row.too_shallow == row.too_deep == row.lost_a == 0 for row in found)


def test_a_mode_that_shares_no_source_is_not_judged() -> None:
    made = sleeping([("light", 5.0), ("deep", 60.0)])
    last = max(event.time_s for event in made.events if event.event == "wake")
    made.events = tuple(Event(e.time_s, e.event, "pin" if e.time_s == last else e.name) for e in made.events)
    assert {row.source for row in ledger_of(made).sources} == {"timer", "pin"}
    assert all(row.too_shallow == row.too_deep == 0 for row in ledger_of(made).idle)


windows = st.lists(st.tuples(st.integers(0, 40), st.integers(0, 12)), min_size=1, max_size=7, unique_by=lambda w: w[0])


@given(windows)
@settings(max_examples=60, deadline=None)
def test_alignment_reaches_the_fewest_wakes_there_can_be(starts: list[tuple[int, int]]) -> None:
    made, _ = stays(("sleep", 1e-5, 2.0))
    ordered = sorted(starts)
    first = np.array([100 + 10 * start for start, _ in ordered], dtype=np.int64)
    wakes = Wakes.of(tuple(f"s{index}" for index in range(len(ordered))), first, first + 5)
    slack_s = {f"s{index}": slack * 10 * INTERVAL_S for index, (_, slack) in enumerate(ordered)}
    placement = place(made)
    found = make_wake_ledger(made, placement, wakes, slack_s).aligned.rate_per_h * 2.0 / 3600
    ends = [start + slack for start, slack in ordered]
    fewest = next(
        count
        for count in range(1, len(ordered) + 1)
        if any(
            all(any(start <= moment <= start + slack for moment in chosen) for start, slack in ordered)
            for chosen in itertools.combinations(ends, count)
        )
    )
    assert found == pytest.approx(fewest)


def test_a_gap_in_the_capture_is_taken_to_be_as_the_rest() -> None:
    made, _ = waking([("timer", 0.01, 0.2), ("timer", 0.01, 0.2)], with_sleep=True)
    values = made.current.read(0, made.current.samples).copy()
    values[1050:1100] = np.nan
    made.current = ArraySeries(values, INTERVAL_S)
    (row,) = ledger_of(made).sources
    assert row.charge_c_mean == pytest.approx(0.01 * 0.2, rel=0.01)


def test_a_log_that_lies_in_several_ways_tells_of_no_wake() -> None:
    made, _ = waking([("timer", 0.01, 0.2), ("pir", 0.01, 0.2)], with_sleep=True)
    placement = replace(place(made), alignment=Alignment(rival_s=3.0))
    found = find_wakes(made, placement, lambda: find_levels(made.current))
    assert found.source == ("unknown", "unknown")


@pytest.mark.parametrize("lost", [(4, 1.0), (4, 0.4), (7, 1.0), (-1, 0.5)])
def test_what_was_not_measured_is_in_no_sum(lost: tuple[int, float]) -> None:
    """Four wakes of 500 µC over 5 µA; a wake, a part of one, a sleep, or half of the capture is missing."""
    parts = [("Sleep", 5e-6, 0.9), ("Work", 5e-3, 0.1)] * 4 + [("Sleep", 5e-6, 0.9)]
    made, _ = stays(*parts)
    events, edge_s = list(made.events), np.cumsum([0.0, *(length_s for _, _, length_s in parts)])
    for number, (state, _, _) in enumerate(parts):
        kind = (
            Event(float(edge_s[number]), "wake", "rtc")
            if state == "Work"
            else Event(float(edge_s[number]), "sleep", "deep")
        )
        events.append(kind)
    made.events = tuple(sorted(events, key=lambda event: event.time_s))
    values = made.current.read(0, made.current.samples).copy()
    at, share = lost
    first, last = (0, len(values)) if at < 0 else (round(edge_s[at - 1] * 1e3), round(edge_s[at] * 1e3))
    values[first : first + round(share * (last - first))] = np.nan
    made.current = ArraySeries(values, made.current.interval_s)
    placement = place(made)
    found = make_wake_ledger(made, placement, find_wakes(made, placement))
    states = make_ledger(made, placement)
    assert found.floor_a == pytest.approx(5e-6, rel=1e-3)
    assert found.mean_a == pytest.approx(states.mean_a, rel=1e-9)
    assert found.closing.charge_c == pytest.approx(states.charge_c, rel=1e-9)
    assert found.closing.coverage == pytest.approx(1 - np.isnan(values).mean())
    assert found.floor_a + sum(row.added_a for row in found.sources) == pytest.approx(found.mean_a, rel=1e-6)
    assert (found.cost_c > 0).all()
    assert found.sources[0].charge_c_mean == pytest.approx(0.1 * (5e-3 - 5e-6), rel=1e-3)
