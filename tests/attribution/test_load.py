"""From captures whose truth is known to the load over the device's life."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, Made, stays
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.load import make_load, reproduce
from warm_ember.attribution.occurrences import of_stretch, of_wakes
from warm_ember.attribution.placing import place
from warm_ember.attribution.pulses import hottest_entries, left_of_pulses
from warm_ember.attribution.wakes import find_wakes
from warm_ember.model.battery import Activity, FromStates, FromStretch, FromWakes, Typed
from warm_ember.model.capture import Event
from warm_ember.model.kinds import UNSORTED
from warm_ember.signal.series import ArraySeries


def waking(wakes: list[tuple[str, float, float]], *, with_sleep: bool) -> tuple[Made, list[float]]:
    """Sleep 1 s at 10 µA before each wake ``(source, current_a, length_s)``; return it and each wake's charge."""
    parts, events, now_s = [], [], 0.0
    for source, current_a, length_s in wakes:
        parts += [("sleep", 1e-5, 1.0), ("awake", current_a, length_s)]
        now_s += 1.0
        events.append(Event(now_s, "wake", source))
        now_s = round(now_s + length_s, 9)
        if with_sleep:
            events.append(Event(now_s, "sleep", "deep"))
    made, _ = stays(*parts, ("sleep", 1e-5, 1.0))
    made.events = tuple(sorted((*made.events, *events), key=lambda event: event.time_s))
    return made, [current_a * length_s for _, current_a, length_s in wakes]


def placed(made: Made):
    placement = place(made)
    return placement, make_ledger(made, placement)


wake_lists = st.lists(
    st.tuples(st.sampled_from(["timer", "pir", ""]), st.floats(1e-3, 0.1), st.integers(5, 400).map(lambda n: n / 1000)),
    min_size=2,
    max_size=12,
)


@given(wake_lists, st.booleans())
@settings(max_examples=40, deadline=None)
def test_each_wake_costs_what_flows_until_the_sleep_after_it(
    wakes: list[tuple[str, float, float]], with_sleep: bool
) -> None:
    made, charges = waking(wakes, with_sleep=with_sleep)
    placement, ledger = placed(made)
    found = find_wakes(made, placement)
    assert found.source == tuple(source or "unknown" for source, _, _ in wakes)
    for source in set(found.source):
        occurrences = of_wakes(made, placement, found, source)
        mine = [c for c, (name, _, _) in zip(charges, wakes, strict=True) if (name or "unknown") == source]
        assert occurrences.charges_c == pytest.approx(mine, rel=1e-3)
        assert sum(c for c, _ in occurrences.parts.values()) == pytest.approx(np.mean(mine), rel=1e-3)
    activities = tuple(Activity(name, FromWakes(name), interval_s=60.0) for name in dict.fromkeys(found.source))
    load = make_load(ledger, activities, lambda one: of_wakes(made, placement, found, one.wake_source))
    # What no activity takes is sleep, and at its own rates the model is the capture.
    assert load.base_a == pytest.approx(1e-5, rel=1e-2)
    assert abs(reproduce(load, ledger).difference) < 1e-6


def test_a_wake_that_the_capture_cuts_off_is_left_out() -> None:
    made, _ = waking([("timer", 0.01, 0.1), ("pir", 0.02, 0.2)], with_sleep=True)
    made.current = ArraySeries(made.current.read(0, 2150), INTERVAL_S)
    found = find_wakes(made, placed(made)[0])
    assert found.source == ("timer",)
    made.events = ()
    assert find_wakes(made, placed(made)[0]).source == (UNSORTED,)


def test_a_bracket_takes_its_own_stretch_from_the_base() -> None:
    made, _ = stays(("sleep", 1e-5, 2.0), ("burst", 0.05, 0.5), ("sleep", 1e-5, 2.0))
    placement, ledger = placed(made)
    bracket = Activity("Burst", FromStretch("made", 2.0, 2.5), interval_s=100.0)
    load = make_load(ledger, (bracket,), lambda _source: of_stretch(made, placement, 2000, 2500))
    (cost,) = load.costs
    assert (cost.charge_c, cost.duration_s, cost.peak_a) == pytest.approx((0.025, 0.5, 0.05), rel=1e-5)
    assert cost.state_charges_c["burst"] == pytest.approx((0.025, 0.5), rel=1e-5)
    assert load.base_a == pytest.approx(1e-5, rel=1e-3)
    assert of_stretch(made, placement, 10, 10) is None


def test_what_is_in_no_activity_is_named_with_its_share_of_the_base() -> None:
    made, truth = stays(("sleep", 1e-5, 8.0), ("boot", 0.01, 0.2), ("sleep", 1e-5, 1.8), ("count", 0.02, 0.1))
    _, ledger = placed(made)
    load = make_load(ledger, (Activity("Count", FromStates(("count",), "count"), interval_s=60.0),), lambda _: None)
    boot, sleep = load.base_parts
    assert (boot.state, sleep.state) == ("boot", "sleep")
    assert boot.charge_share == pytest.approx(truth["boot"] / (truth["boot"] + truth["sleep"]), rel=1e-6)
    assert boot.charge_share + sleep.charge_share == pytest.approx(1.0)
    assert (boot.time_share, sleep.time_share) == pytest.approx((0.2 / 10, 9.8 / 10))


def test_what_the_capture_does_not_tell_is_said() -> None:
    made, _ = stays(("sleep", 1e-5, 2.0), ("count", 0.02, 0.1), ("sleep", 1e-5, 1.0))
    _, ledger = placed(made)
    activities = (
        Activity("Count", FromStates(("count",), "count"), interval_s=60.0),
        Activity("Report", Typed(1.0), interval_s=3600.0),
        Activity("Alarm", FromWakes("alarm"), interval_s=3600.0),
    )
    load = make_load(ledger, activities, lambda _: None)
    assert load.missing == ("Alarm",)
    assert reproduce(load, ledger).unknown == ("Report", "Alarm")
    assert load.costs[0].measured_hz == pytest.approx(1 / 3.1, rel=1e-3)


@given(st.floats(2e-3, 0.3), st.floats(1e-4, 10.0))
@settings(max_examples=30, deadline=None)
def test_what_is_left_of_a_pulse_is_what_a_low_pass_leaves(length_s: float, constant_s: float) -> None:
    samples = max(2, round(length_s / INTERVAL_S))
    values = np.concatenate((np.zeros(50), np.full(samples, 0.1), np.zeros(50))).astype(np.float32)
    table = left_of_pulses(ArraySeries(values, INTERVAL_S), [(0, len(values))])
    known, left = zip(*table, strict=True)
    expected = [0.1 * (1 - math.exp(-samples * INTERVAL_S / constant)) for constant in known]
    assert left == pytest.approx(expected, rel=1e-4, abs=1e-9)


def test_missing_samples_hold_the_one_before_in_a_pulse() -> None:
    values = np.array([0, 0.1, np.nan, np.nan, 0.1, 0, 0], dtype=np.float32)
    whole = np.array([0, 0.1, 0.1, 0.1, 0.1, 0, 0], dtype=np.float32)
    tables = [left_of_pulses(ArraySeries(one, INTERVAL_S), [(0, 7)]) for one in (values, whole)]
    assert tables[0] == tables[1]
    nothing = np.full(5, np.nan, dtype=np.float32)
    assert max(left for _, left in left_of_pulses(ArraySeries(nothing, INTERVAL_S), [(0, 5)])) == 0.0


def test_the_hottest_entries_are_where_the_peaks_are() -> None:
    made, _ = stays(("idle", 1e-3, 0.1), ("send", 0.1, 0.1), ("idle", 1e-3, 0.1), ("send", 0.2, 0.1))
    placement, ledger = placed(made)
    source = FromStates(("send", "idle"), "send")
    assert hottest_entries(ledger, placement, source, 1) == [(300, 400)]
    assert hottest_entries(ledger, placement, source, 2) == [(100, 200), (300, 400)]
