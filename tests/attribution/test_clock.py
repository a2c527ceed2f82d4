"""The log's clock laid on the capture's, and what is done when that cannot be."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, ArrayLines, Made, stays
from warm_ember.attribution.clock import align, residuals
from warm_ember.attribution.placing import place
from warm_ember.model.capture import Event
from warm_ember.model.finding import Kind
from warm_ember.model.placement import Alignment
from warm_ember.model.project import TypedClock
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries
from warm_ember.tuning.findings.registry import find_all


def _shifted(made: Made, offset_s: float) -> Made:
    events = tuple(Event(event.time_s + offset_s, event.event, event.name) for event in made.events)
    return Made(made.current, events, made.lines, made.power, made.info, made.name)


@pytest.fixture
def regular() -> Made:
    """A strictly regular capture whose log began long before it and goes on after it."""
    made, _ = stays(*(("Sleep", 2e-6, 0.75), ("Awake", 1e-3, 0.25)) * 60)
    before = [
        Event(k - 30.0 + part, "state", name) for k in range(30) for part, name in ((0, "Sleep"), (0.75, "Awake"))
    ]
    after = [Event(k + 60.0 + part, "state", name) for k in range(30) for part, name in ((0, "Sleep"), (0.75, "Awake"))]
    return _shifted(Made(made.current, (*before, *made.events, *after)), 100.4)


def test_an_ambiguous_log_places_nothing_and_is_told(regular: Made) -> None:
    placement = place(regular)
    assert placement.names == ()
    assert placement.alignment is not None
    assert placement.alignment.is_ambiguous
    (finding,) = [one for one in find_all(regular) if one.kind is Kind.AMBIGUOUS_CLOCK]
    assert "shifted by 1.00 s" in finding.text
    assert finding.cost_a is None


def test_a_typed_clock_places_it(regular: Made) -> None:
    placement = place(regular, clock=TypedClock("made", -100.4))
    assert placement.names == ("Sleep", "Awake")
    np.testing.assert_array_equal(placement.edges[:5], [0, 750, 1000, 1750, 2000])
    left = residuals(regular, Alignment(-100.4, method="typed"), lambda: find_levels(regular.current))
    assert left.matched > 110
    assert left.rms_s < 1e-3


def test_a_regular_log_that_began_with_the_capture_is_taken_as_it_is() -> None:
    made, _ = stays(*(("Sleep", 2e-6, 0.75), ("Awake", 1e-3, 0.25)) * 60)
    assert place(made).names == ("Sleep", "Awake")
    assert not any(one.kind is Kind.AMBIGUOUS_CLOCK for one in find_all(made))


def test_regular_sync_pulses_are_told_apart_by_the_current(random: np.random.Generator) -> None:
    """Pulses each 10 s fit at any ten seconds; the states are irregular."""
    parts = [(f"S{k % 2}", (2e-6, 1e-3)[k % 2], float(random.uniform(0.3, 3.0))) for k in range(60)]
    made, _ = stays(*parts)
    samples = made.current.samples
    bits = np.zeros(samples, dtype=np.uint8)
    bits[2000::10_000] = 1
    pulses = [Event(t, "sync", "SYNC") for t in np.arange(-38.0, samples * INTERVAL_S + 40, 10.0)]
    log = sorted([*made.events, *pulses], key=lambda event: event.time_s)
    shifted = _shifted(Made(made.current, tuple(log), ArrayLines(bits, ("SYNC",))), 17.3)
    found = align(shifted, lambda: find_levels(shifted.current))
    assert not found.is_ambiguous
    assert found.offset_s == pytest.approx(-17.3, abs=2 * INTERVAL_S)


def test_a_log_of_something_else_is_doubted(random: np.random.Generator) -> None:
    parts = [(f"S{k % 2}", (2e-6, 1e-3)[k % 2], float(random.uniform(0.3, 3.0))) for k in range(40)]
    made, _ = stays(*parts)
    times = np.sort(random.uniform(0, made.current.samples * INTERVAL_S, 40))
    other = Made(made.current, tuple(Event(t, "state", f"S{k % 2}") for k, t in enumerate(times)))
    (finding,) = [one for one in find_all(other) if one.kind is Kind.AMBIGUOUS_CLOCK]
    assert "changes are seen in the current" in finding.text
    assert place(other).names == ("S0", "S1")  # both clocks are taken as the same, and that is said


def _pulsed(starts_s, kind: str, offset_s: float, drift: float, length_s: float, *, missing: float, others=()) -> Made:
    """A capture with a pulse of 20 ms at each start, and a log of them in another clock with some missing."""
    random = np.random.default_rng(len(starts_s))
    values = 3e-6 + 2e-7 * random.standard_normal(round(length_s / INTERVAL_S))
    for start_s in (*starts_s, *others):
        values[round(start_s / INTERVAL_S) :][:20] += 2e-2
    kept = [start_s for start_s in starts_s if random.random() >= missing]
    events = tuple(Event((start_s - offset_s) / (1 + drift), kind, "x") for start_s in kept)
    return Made(ArraySeries(values.astype(np.float32), INTERVAL_S), events)


def _error(made: Made, offset_s: float, drift: float, length_s: float) -> float:
    found = align(made, lambda: find_levels(made.current))
    assert not found.is_ambiguous
    at_s = (np.linspace(0, length_s, 50) - offset_s) / (1 + drift)
    apart_s = found.offset_s + (1 + found.drift) * at_s - (offset_s + (1 + drift) * at_s)
    return float(np.abs(apart_s).max() / INTERVAL_S)


@given(st.integers(0, 1000), st.floats(-4, 4), st.floats(-1e-4, 1e-4))
@settings(max_examples=15)
def test_wakes_are_taken_for_rises_and_not_for_the_ends_of_pulses(seed: int, offset_s: float, drift: float) -> None:
    """An hour of irregular wakes of one length: shifted by that length they would fit the ends as well."""
    random = np.random.default_rng(seed)
    starts_s = np.arange(10.0, 3590.0, 10.0) + random.uniform(-3, 3, 358)
    made = _pulsed(starts_s, "wake", offset_s, drift, 3600.0, missing=0.1)
    assert _error(made, offset_s, drift, 3600.0) < 2


def test_regular_wakes_are_ambiguous_and_regular_sync_pulses_taken_for_the_nearest() -> None:
    starts_s = np.arange(7.0, 600.0, 30.0)
    others = np.random.default_rng(1).uniform(0, 599, 60)
    wakes = _pulsed(starts_s, "wake", 4.2, 1e-4, 600.0, missing=0.1, others=others)
    assert align(wakes, lambda: find_levels(wakes.current)).is_ambiguous
    pulses = _pulsed(starts_s, "sync", 4.2, 1e-4, 600.0, missing=0.1, others=others)
    assert _error(pulses, 4.2, 1e-4, 600.0) < 2
    assert "nearest" in align(pulses, lambda: find_levels(pulses.current)).method
    far = _pulsed(starts_s, "sync", 13.0, 1e-4, 600.0, missing=0.1, others=others)
    assert align(far, lambda: find_levels(far.current)).is_ambiguous


@pytest.mark.parametrize("starts_s", [(33.3,), (3.3, 55.5), (3.0, 17.2, 44.0, 51.3)])
def test_a_few_pulses_are_enough(starts_s: tuple[float, ...]) -> None:
    made = _pulsed(np.array(starts_s), "sync", 1.7, 0.0, 60.0, missing=0.0)
    assert _error(made, 1.7, 0.0, 60.0) < 2
