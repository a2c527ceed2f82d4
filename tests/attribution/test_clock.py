"""The log's clock laid on the capture's, and what is done when that cannot be."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, ArrayLines, Made, stays
from warm_ember.attribution.clock import align, clock_sentence, residuals
from warm_ember.attribution.placing import place
from warm_ember.attribution.wakes import UNKNOWN, find_wakes
from warm_ember.bench.simulated.direct import simulate
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.model.capture import Event
from warm_ember.model.finding import FindingKind
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
    (finding,) = [one for one in find_all(regular) if one.kind is FindingKind.AMBIGUOUS_CLOCK]
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
    assert not any(one.kind is FindingKind.AMBIGUOUS_CLOCK for one in find_all(made))


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


def _irregular(seed: int, count: int, pause_s: float | None = None) -> Made:
    random = np.random.default_rng(seed)
    states = [("Sleep", 5e-6), ("Work", 3e-3), ("Radio", 12e-3)]
    parts = []
    for k in range(count):
        name, current_a = states[k % 2 * (1 + (random.random() < 0.3))]
        asleep = pause_s if pause_s is not None and name == "Sleep" else float(random.uniform(0.1, 2.0))
        parts.append((name, current_a, asleep))
    return stays(*parts, noise=0.02, seed=seed)[0]


@given(st.integers(0, 10_000), st.sampled_from([6, 12, 40, 150]), st.sampled_from([None, 2.0]))
@settings(max_examples=12)
def test_a_log_of_another_run_places_nothing_and_is_told(seed: int, count: int, pause_s: float | None) -> None:
    made, other = _irregular(seed, count, pause_s), _irregular(seed + 20_000, count, pause_s)
    mixed = Made(made.current, other.events)
    placement = place(mixed)
    assert placement.alignment.is_unusable
    assert placement.names == ()
    wakes = find_wakes(mixed, placement, lambda: find_levels(mixed.current))
    assert set(wakes.names) <= {UNKNOWN}
    (finding,) = [one for one in find_all(mixed) if one.kind is FindingKind.AMBIGUOUS_CLOCK]
    assert finding.confidence >= 0.5


@given(st.integers(0, 10_000), st.sampled_from([8, 40, 150]), st.floats(-1e4, 1e4), st.floats(0.0, 0.4))
@settings(max_examples=12)
def test_a_log_of_this_run_is_used_whatever_its_clock(seed: int, count: int, offset_s: float, missing: float) -> None:
    made, random = _irregular(seed, count), np.random.default_rng(seed)
    kept = tuple(one for one in made.events if count <= 8 or random.random() >= missing)
    found = align(_shifted(Made(made.current, kept), offset_s), lambda: find_levels(made.current))
    assert not found.is_unusable
    assert found.offset_s == pytest.approx(-offset_s, abs=2 * INTERVAL_S)


@given(st.integers(0, 10_000), st.floats(0.0, 0.1), st.floats(0.0, 16e-3))
@settings(max_examples=8)
def test_lines_that_were_stamped_when_they_came_over_a_console_still_belong(
    seed: int, late_s: float, jitter_s: float
) -> None:
    made, random = _irregular(seed, 60), np.random.default_rng(seed)
    late = [Event(e.time_s + late_s + jitter_s * random.random(), e.event, e.name) for e in made.events]
    found = align(Made(made.current, tuple(late)), lambda: find_levels(made.current))
    assert not found.is_unusable
    assert -found.offset_s == pytest.approx(late_s + jitter_s / 2, abs=jitter_s / 2 + 2 * INTERVAL_S)


def _two_cpus(seed: int, length_s: float) -> tuple[list[tuple[float, float]], tuple[Event, ...]]:
    """Return when each of two CPUs is awake, 0.4 ms at a time 250 times a second, and what a kernel trace says."""
    random = np.random.default_rng(seed)
    awake, events = [], []
    for cpu in range(2):
        now_s = float(random.uniform(0, 4e-3))
        while now_s < length_s:
            until_s = now_s + 4e-4 * float(random.uniform(0.5, 1.6))
            awake.append((now_s, until_s))
            events += [Event(now_s, "wake", "hrtimer:tick", f"cpu={cpu}"), Event(until_s, "sleep", "C1", f"cpu={cpu}")]
            apart_s = 4e-3 if random.random() < 0.7 else float(random.exponential(4e-3))
            now_s = until_s + apart_s
    return awake, tuple(sorted(events, key=lambda event: event.time_s))


@pytest.mark.parametrize(("rate_hz", "length_s", "seed"), [(1e5, 2.0, 2), (2e4, 5.0, 1)])
def test_a_dense_kernel_trace_with_a_clock_of_its_own_is_laid_on_the_current(
    rate_hz: float, length_s: float, seed: int
) -> None:
    random = np.random.default_rng(seed)
    from_s, epoch_s, drift = 0.3 * length_s, 5321.123456, -40e-6
    awake, events = _two_cpus(seed, 1.6 * length_s)
    current = np.full(round(length_s * rate_hz), 20e-3)
    for begin_s, end_s in awake:
        first, last = (max(round((t - from_s) * (1 + drift) * rate_hz), 0) for t in (begin_s, end_s))
        current[first:last] += 80e-3
    current += 5e-4 * random.standard_normal(len(current))
    series = ArraySeries(current.astype(np.float32), 1 / rate_hz)
    mine = Made(series, tuple(Event(e.time_s + epoch_s, e.event, e.name, e.value) for e in events))
    found = align(mine, lambda: find_levels(series))
    assert not found.is_unusable
    assert found.to_capture(epoch_s + from_s) == pytest.approx(0.0, abs=0.5 / rate_hz + 1e-5)
    assert found.to_capture(epoch_s + from_s + length_s) == pytest.approx(length_s * (1 + drift), abs=1.5 / rate_hz)
    _, others = _two_cpus(seed + 100, 1.6 * length_s)
    for shift_s in (epoch_s, -from_s):  # of another minute, by the machine's clock or by the capture's
        other = Made(series, tuple(Event(e.time_s + shift_s, e.event, e.name, e.value) for e in others))
        placement = place(other)
        assert placement.alignment.is_unusable
        assert find_wakes(other, placement).by_cpu is None


@pytest.mark.parametrize("shift_s", [-1e5, 1e5, 1.7e9])
def test_a_log_that_lies_outside_the_capture_places_nothing(shift_s: float) -> None:
    made, other = _irregular(1, 40), _irregular(2, 40)
    placement = place(_shifted(Made(made.current, other.events), -shift_s))
    assert placement.alignment.lies_outside
    assert placement.names == ()
    assert "another time" in clock_sentence(placement.alignment)


def test_a_single_state_from_before_the_capture_holds_in_it() -> None:
    made = _irregular(1, 40)
    assert place(Made(made.current, (Event(-5.0, "state", "Run"),))).names == ("Run",)


def test_a_current_that_hardly_changes_contradicts_no_log(random: np.random.Generator) -> None:
    """The firmware believes that it sleeps, and does not."""
    values = (3e-3 * (1 + 0.01 * random.standard_normal(60_000))).astype(np.float32)
    events = [Event(float(t), kind, "x") for t in range(60) for kind in ("wake",)]
    events += [Event(t + 0.2, "sleep", "deep") for t in range(60)]
    made = Made(ArraySeries(values, INTERVAL_S), tuple(sorted(events, key=lambda one: one.time_s)))
    assert not align(made, lambda: find_levels(made.current)).is_unusable


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
@settings(max_examples=6)
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


def test_a_few_wakes_that_fall_on_a_listening_radio_do_not_outvote_the_whole_log() -> None:
    """Six wakes fit a radio that listens each 1.28 s as well as themselves; fifty changes of state do not."""
    seed = 823308085
    random = np.random.default_rng([seed, 9])
    firmware = FIRMWARE[random.integers(len(FIRMWARE))]
    rate_hz = float(random.choice([10e3, 20e3, 40e3]))
    made = simulate(firmware, seed=seed, duration_s=float(random.uniform(60, 120)), rate_hz=rate_hz)
    series = ArraySeries(made.current, 1 / rate_hz)
    found = align(Made(series, made.events, info=made.info), lambda: find_levels(series))
    assert found.offset_s == pytest.approx(made.clock_offset_s, abs=1e-3)
