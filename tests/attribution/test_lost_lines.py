"""Logs that lost a line, or many, beside pulses that are no wakes."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, Made
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wakes import UNKNOWN, find_wakes
from warm_ember.model.capture import Event
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries
from warm_ember.signal.timer_periods import find_periods

FLOOR_A = 5e-6


def made_of(
    wakes: list[tuple[float, float, str, float]], pulses: list[tuple[float, float, float]], length_s: float
) -> Made:
    """Return a capture of wakes ``(at, lasts, source, current)`` with a whole log, and of pulses that no log tells."""
    random = np.random.default_rng(len(wakes))
    current = np.full(round(length_s / INTERVAL_S), FLOOR_A)
    for at_s, lasts_s, _, current_a in [*wakes, *((at, lasts, "", height) for at, lasts, height in pulses)]:
        current[round(at_s / INTERVAL_S) : round((at_s + lasts_s) / INTERVAL_S)] = current_a
    current *= 1 + 0.01 * random.standard_normal(len(current))
    events = [Event(at_s, "wake", source) for at_s, _, source, _ in wakes]
    events += [Event(at_s + lasts_s, "sleep", "deep") for at_s, lasts_s, _, _ in wakes]
    series = ArraySeries(current.astype(np.float32), INTERVAL_S)
    return Made(series, tuple(sorted(events, key=lambda event: event.time_s)))


def ledger_of(made: Made) -> WakeLedger:
    placement = place(made)
    return make_wake_ledger(made, placement, find_wakes(made, placement, lambda: find_levels(made.current)))


def supplied() -> tuple[list[tuple[float, float, str, float]], list[tuple[float, float, float]]]:
    """Return two timers, and a supply that is watched nine times as often by pulses that are just as high."""
    alpha = [(2.4 * k + 1.0, 0.05, "alpha", 4e-3) for k in range(25)]
    beta = [(2.4 * k + 1.2, 0.05, "beta", 4e-3) for k in range(25)]
    taken = [at for at, *_ in (*alpha, *beta)]
    pulses = [(0.26 * k, 0.03, 4e-3) for k in range(1, 235)]
    return sorted(alpha + beta), [one for one in pulses if all(abs(one[0] - at) > 0.1 for at in taken)]


@given(lost=st.sets(st.integers(10, 90), min_size=0, max_size=3))
@settings(max_examples=8)
def test_supply_pulses_are_no_wakes_however_few_lines_are_lost(lost: set[int]) -> None:
    wakes, pulses = supplied()
    made = made_of(wakes, pulses, 62.0)
    made.events = tuple(event for index, event in enumerate(made.events) if index not in lost)
    found = ledger_of(made)
    assert abs(found.wakes.count - len(wakes)) <= len(lost)
    unknown = found.row(UNKNOWN)
    assert (unknown.count if unknown is not None else 0) <= len(lost)
    assert found.aligned.rate_per_h <= found.rate_per_h


@given(seed=st.integers(0, 1000), share=st.sampled_from([0.1, 0.3]))
@settings(max_examples=8)
def test_wakes_of_which_both_lines_are_lost_are_found_by_the_current(seed: int, share: float) -> None:
    random = np.random.default_rng(seed)
    wakes = [(2.0 * k + float(random.uniform(0.2, 1.5)), 0.1, "pin", 6e-3) for k in range(60)]
    made = made_of(wakes, [], 122.0)
    made.events = tuple(event for event in made.events if random.random() >= share)
    assert ledger_of(made).wakes.count == pytest.approx(len(wakes), abs=2)


def test_two_wakes_in_one_sample_are_both_there_and_share_what_flows() -> None:
    wakes = [(2.0 * k + 1.0, 0.1, "alpha", 4e-3) for k in range(20)]
    made = made_of(wakes, [], 42.0)
    both = [Event(at_s, "wake", "beta") for at_s, *_ in wakes]
    made.events = tuple(sorted((*made.events, *both), key=lambda event: event.time_s))
    found = ledger_of(made)
    assert {row.source: row.count for row in found.sources} == {"alpha": 20, "beta": 20}
    for row in found.sources:
        assert row.charge_c_mean == pytest.approx(0.5 * 0.1 * (4e-3 - FLOOR_A), rel=0.02)
    mean_a = float(made.current.read(0, made.current.samples).mean())
    assert found.floor_a + sum(row.added_a for row in found.sources) == pytest.approx(mean_a, rel=1e-3)
    assert found.aligned.rate_per_h == pytest.approx(found.rate_per_h / 2)


def test_a_wake_shorter_than_a_sample_is_one_and_no_longer() -> None:
    wakes = [(2.0 * k + 1.0, 0.1, "alpha", 4e-3) for k in range(20)]
    made = made_of(wakes, [], 42.0)
    short = [
        e for k in range(20) for e in (Event(2.0 * k + 0.5, "wake", "tick"), Event(2.0 * k + 0.5001, "sleep", "deep"))
    ]
    made.events = tuple(sorted((*made.events, *short), key=lambda event: event.time_s))
    found = ledger_of(made)
    assert found.row("tick").count == found.row("alpha").count == 20
    assert found.row("tick").awake_s_mean == pytest.approx(INTERVAL_S)
    assert found.row("alpha").charge_c_mean == pytest.approx(0.1 * (4e-3 - FLOOR_A), rel=0.01)


@given(seed=st.integers(0, 1000))
@settings(max_examples=10)
def test_a_wake_without_a_name_is_unknown_and_costs_what_it_costs(seed: int) -> None:
    """Not what the timer costs into whose row it would fit."""
    random = np.random.default_rng(seed)
    wakes, truth = [], {}
    for k in range(90):
        name, lasts_s, current_a = ("alpha", 0.03, 4e-3) if k % 3 else ("beta", 0.12, 9e-3)
        name = "" if random.random() < 0.12 else name
        wakes.append((1.0 * k + 0.5, lasts_s, name, current_a))
        truth.setdefault(name or UNKNOWN, []).append(lasts_s * (current_a - FLOOR_A))
    found = ledger_of(made_of(wakes, [], 91.0))
    assert {row.source: row.count for row in found.sources} == {name: len(each) for name, each in truth.items()}
    for row in found.sources:
        assert row.charge_c_mean == pytest.approx(np.mean(truth[row.source]), rel=0.01)


@given(later=st.integers(1, 4), count=st.integers(100, 9000))
@settings(max_examples=8)
def test_a_period_that_changes_after_thousands_of_moments_is_two(later: int, count: int) -> None:
    times_s = np.concatenate((np.arange(2500.0), 2500.0 + later * np.arange(count)))
    found = find_periods(times_s)
    assert all(np.isfinite(one.period_s) and len(one.members) > 0 for one in found)
    assert found[0].period_s == pytest.approx(1.0, rel=1e-3) or count > 2500
    assert sum(len(one.members) for one in found) >= 0.9 * len(times_s)


@pytest.mark.parametrize("apart_s", [0.06, 0.2])
def test_a_seldom_source_of_which_lines_are_lost_still_has_two_wakes(apart_s: float) -> None:
    """The sleep of one wake and the line of the next are lost: of a source with few wakes, twice; and one elsewhere."""
    clock = [(1.7 * k + 1.0, 0.04, "clock", 4e-3) for k in range(60)]
    radio = [(13.0 * k + 3.3, 0.05, "radio", 9e-3) for k in range(7)]
    pin = [(at + 0.05 + apart_s, 0.1, "pin", 6e-3) for at, *_ in radio[:2]]
    clock = [one for one in clock if all(abs(one[0] - at) > 0.5 for at, *_ in radio)]
    wakes = sorted(clock + radio + pin)
    made = made_of(wakes, [], 104.0)
    gone = {(at + lasts, "sleep") for at, lasts, *_ in radio[:2]} | {(at, "wake") for at, *_ in pin}
    gone.add((clock[9][0], "wake"))
    made.events = tuple(one for one in made.events if (one.time_s, one.event) not in gone)
    found = ledger_of(made)
    assert found.wakes.count == len(wakes)
    row = found.row("radio")
    assert row is not None
    assert row.count == len(radio)
    assert row.charge_c_mean == pytest.approx(9e-3 * 0.05, rel=0.05)
