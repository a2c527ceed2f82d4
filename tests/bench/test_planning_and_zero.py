"""Planning a capture, setting a zero, and what the set-up adds."""

from __future__ import annotations

import math
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.benches import Serve, address
from warm_ember.bench.description import InstrumentDescription, known_descriptions
from warm_ember.bench.planning import Expectation, bytes_per_sample, nice_below, plan_capture
from warm_ember.bench.simulated.attachments import ATTACHMENTS
from warm_ember.bench.simulated.ranges import RANGES
from warm_ember.bench.station import InstrumentConnection
from warm_ember.bench.wiring import added_by, at_target
from warm_ember.bench.zero import Level, level_of, read_level, tool_load, zero_from
from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import Attached, Bench, BenchSettings
from warm_ember.model.capture import CaptureInfo
from warm_ember.store.recording_file import RecordingFile

BENCH = known_descriptions(())[0]
LEADS = len(ATTACHMENTS) + 1

expectations = st.builds(
    Expectation,
    shortest_s=st.floats(1e-5, 1.0),
    cycle_s=st.floats(1.0, 1e4),
    floor_a=st.floats(1e-9, 1e-4),
    peak_a=st.floats(1e-3, 2.0),
    supply_v=st.floats(1.8, 5.0),
    shunt_ohm=st.one_of(st.none(), st.floats(0.01, 100.0)),
    capacitance_f=st.floats(0, 1e-3),
)


@given(st.floats(1e-9, 1e6))
def test_a_nice_number_is_just_below(value: float) -> None:
    nice = nice_below(value)
    assert value / 2.6 <= nice <= value * (1 + 1e-8)
    assert f"{nice:e}"[0] in "125"


@given(expectations)
def test_a_plan_sees_what_it_does_not_warn_of(wanted: Expectation) -> None:
    plan = plan_capture(wanted, BENCH)
    said = " ".join(plan.unseen)
    shortest, longest = BENCH.interval_s or (0.0, math.inf)
    assert shortest <= plan.interval_s <= longest
    assert plan.duration_s >= 2 * wanted.cycle_s
    assert plan.samples == pytest.approx(plan.duration_s / plan.interval_s, rel=1e-3)
    assert ("samples" in said) == (wanted.shortest_s / plan.interval_s < 9.9)
    assert ("may reset" in said) == (wanted.supply_v - plan.burden_v < wanted.least_v)
    ohm = wanted.shunt_ohm or (BENCH.burden_ohm or 0.0)
    assert plan.burden_v == pytest.approx(ohm * wanted.peak_a)
    assert 0 <= plan.droop_v <= plan.burden_v * (1 + 1e-9)
    assert plan.time_constant_s == pytest.approx(ohm * wanted.capacitance_f)
    full_a = wanted.full_v / (wanted.gain * wanted.shunt_ohm) if wanted.shunt_ohm else RANGES[-1].full_a
    assert ("clipped" in said) == (wanted.peak_a > full_a)


@given(expectations, st.floats(1.1, 5.0))
def test_a_longer_cycle_is_a_larger_file_and_a_smaller_shunt_costs_less_voltage(wanted, factor: float) -> None:
    plan = plan_capture(wanted, BENCH)
    longer = plan_capture(msgspec.structs.replace(wanted, cycle_s=wanted.cycle_s * factor), BENCH)
    assert longer.size_bytes > plan.size_bytes
    smaller = plan_capture(msgspec.structs.replace(wanted, shunt_ohm=(wanted.shunt_ohm or 1.0) / factor), BENCH)
    assert smaller.burden_v < plan_capture(msgspec.structs.replace(wanted, shunt_ohm=wanted.shunt_ohm or 1.0)).burden_v


@pytest.mark.parametrize("changes", [{"shortest_s": 0}, {"floor_a": 1.0}, {"shortest_s": 5.0}, {"gain": -1.0},
                                     {"capacitance_f": -1.0}, {"peak_a": math.nan}, {"shunt_ohm": -2.0}])  # fmt: skip
def test_a_contradiction_is_refused(changes: dict[str, float]) -> None:
    with pytest.raises(BadArgumentError):
        plan_capture(msgspec.structs.replace(Expectation(), **changes))


def test_a_level_has_the_error_that_its_noise_gives(random: np.random.Generator) -> None:
    inside = 0
    for _ in range(200):
        level = level_of((3e-6 + 1e-6 * random.standard_normal(2000)).astype(np.float32))
        assert level.is_steady
        inside += abs(level.mean_a - 3e-6) < 1.73 * level.error_a  # Student's t with 19 degrees of freedom, 90 %
    assert 165 <= inside <= 195


def test_too_few_samples_are_no_level() -> None:
    with pytest.raises(BadArgumentError, match="20 needed"):
        level_of(np.full(19, 1e-6, np.float32))


def test_the_zero_is_the_offset_and_the_load_that_truly_hang_there(serve: Serve) -> None:
    server = serve(speed=10.0)
    server.instrument.run(f"ROUT:OPEN (@{LEADS})")
    levels = {}
    for name, attached in (("leads open", ()), ("target off", ("debugger", "meter")), ("tool unplugged", ("meter",))):
        for part in ATTACHMENTS:
            server.instrument.target.attach(part.name, attached=part.name in attached)
        station = InstrumentConnection(address(server), timeout_s=2.0)
        levels[name] = read_level(station, BenchSettings(3.0, 0.1, interval_s=1e-4), 3.0)
        station.close()
        assert not server.instrument.is_on
    assert all(level.is_steady for level in levels.values())
    zero = zero_from(levels)
    assert zero.offset_a == pytest.approx(RANGES[0].offset_a, abs=5e-9 + 4 * zero.offset_error_a)
    tools = tool_load(levels)
    assert tools is not None
    assert zero.load_a == pytest.approx(1.3e-6 + 3.0 / 2.2e6, abs=4 * zero.load_error_a + 1e-8)
    assert tools.mean_a == pytest.approx(1.3e-6, abs=4 * tools.error_a + 1e-8)


def test_a_working_target_is_not_taken_for_a_zero(serve: Serve) -> None:
    station = InstrumentConnection(address(serve(speed=4.0)), timeout_s=2.0)
    level = read_level(station, BenchSettings(3.0, 0.1, interval_s=1e-4), 2.0)
    station.close()
    assert not level.is_steady


def test_without_open_leads_there_is_no_zero() -> None:
    with pytest.raises(KeyError):
        zero_from({"target off": Level(1e-6, 1e-9)})


@given(st.lists(st.tuples(st.floats(0, 1e-3), st.booleans(), st.booleans()), max_size=8))
def test_what_stays_is_what_is_plugged_in_and_not_subtracted(parts) -> None:
    attached = tuple(Attached(str(i), a, subtracted=s, present=p) for i, (a, s, p) in enumerate(parts))
    added = added_by(Bench(attached=attached))
    assert added.stays_a == pytest.approx(sum(a for a, s, p in parts if p and not s), abs=1e-15)
    assert added.added_a == pytest.approx(sum(a for a, _, p in parts if p), abs=1e-15)


def test_the_burden_takes_what_ohm_says() -> None:
    bench = Bench(burden_ohm=0.24, settings=BenchSettings(voltage_v=3.0))
    found = at_target(bench, 0.268)
    assert found is not None
    assert (found.lost_v, found.left_v) == (pytest.approx(0.06432), pytest.approx(2.93568))
    assert at_target(Bench(), 0.1) is None
    assert Attached("meter", ohm=2.2e6).draws_a(3.0) == pytest.approx(3.0 / 2.2e6)


@pytest.mark.parametrize("lines", [0, 3, 12, 24])
@pytest.mark.parametrize("with_voltage", [False, True])
def test_a_planned_sample_takes_as_much_as_a_recorded_one(tmp_path: Path, lines: int, with_voltage: bool) -> None:
    names = tuple(f"L{k}" for k in range(lines))
    sense = ("current", *(("voltage",) if with_voltage else ()), *(("lines",) if lines else ()))
    known = InstrumentDescription(format=1, name="made", sense=sense, line_names=names)
    recording = RecordingFile(tmp_path / "a.h5", CaptureInfo(1e-3), with_voltage=with_voltage, line_names=names)
    values = np.zeros(1000, dtype=np.float32)
    bits = np.zeros(1000, dtype=np.uint32) if lines else None
    recording.append(values, values if with_voltage else None, bits)
    assert recording.bytes_written == 1000 * bytes_per_sample(known)
    recording.finish(CaptureInfo(1e-3), ())


METER = InstrumentDescription(1, "meter", mode="polled", max_rate_hz=20.0, aperture_s=0.02)


def test_a_meter_is_planned_at_its_pace_and_says_what_it_misses() -> None:
    planned = plan_capture(Expectation(shortest_s=1e-3, cycle_s=1.0), METER)
    assert planned.interval_s == 0.05
    assert any("it sees 42.0 %" in one for one in planned.unseen)
    unknown = plan_capture(Expectation(shortest_s=1e-3, cycle_s=1.0), msgspec.structs.replace(METER, aperture_s=None))
    assert any("it is not known how long each looks" in one and "it sees 2.0 %" in one for one in unknown.unseen)
    slow = plan_capture(Expectation(shortest_s=0.5, cycle_s=10.0), METER)
    assert not any("A reading comes" in one for one in slow.unseen)


@pytest.mark.parametrize(("shortest_s", "aperture_s"), [(1e-3, 0.02), (5e-3, 1e-3), (1e-3, 0.04)])
def test_what_events_take_is_as_well_known_as_the_plan_says(shortest_s: float, aperture_s: float) -> None:
    """Events at any moment between readings, counted by those that a reading touches."""
    known = msgspec.structs.replace(METER, aperture_s=aperture_s)
    planned = plan_capture(Expectation(shortest_s=shortest_s, cycle_s=1.0, floor_a=1e-6), known)
    words = next(one for one in planned.unseen if "A reading comes" in one)
    promised = float(words.partition("known to ±")[2].partition(" %")[0]) / 100
    random, events = np.random.default_rng(4), round(planned.duration_s)
    caught = (aperture_s + shortest_s) / planned.interval_s
    hits = random.binomial(events, caught, 4000)
    assert np.mean(np.abs(hits / caught / events - 1) <= promised) >= 0.88


def test_pauses_between_sweeps_are_counted() -> None:
    known = InstrumentDescription(1, "short sweeps", max_points=10_000)
    planned = plan_capture(Expectation(shortest_s=1e-3, cycle_s=1.0), known)
    assert any("between two sweeps it looks away, 2 times here" in one for one in planned.unseen)
    endless = plan_capture(Expectation(shortest_s=1e-3, cycle_s=1.0), msgspec.structs.replace(known, max_points=None))
    assert not any("looks away" in one for one in endless.unseen)
