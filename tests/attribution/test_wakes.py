"""Wakes that a log misses, their causes, their names, and the sleep between them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from attribution.made import INTERVAL_S, ArrayLines, Made, stays
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import WakeLedger, make_wake_ledger
from warm_ember.attribution.wake_profile import wake_profile
from warm_ember.attribution.wakes import Cause, Wakes, arranged, find_wakes
from warm_ember.bench.simulated.direct import SimulatedCapture, simulate
from warm_ember.bench.simulated.firmware import FIRMWARE, LINES
from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Activity, FromWakes, Typed
from warm_ember.model.capture import Event
from warm_ember.model.project import Project
from warm_ember.model.rules import LevelsRule
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.session import wake_edits
from warm_ember.session.wake_edits import change_source, rename, split
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries


def woken(*wakes: tuple[str, str, float, float], floor_a: float = 1e-5) -> Made:
    """Make a device that sleeps for a while and then wakes: ``(source, state, slept_s, awake_s)``, at 10 mA."""
    parts, events, now_s = [], [], 0.0
    for source, state, slept_s, awake_s in wakes:
        parts += [("asleep", floor_a, slept_s), (state, 0.01, awake_s)]
        events.append(Event(round(now_s + slept_s, 9), "wake", source))
        now_s = round(now_s + slept_s + awake_s, 9)
        events.append(Event(now_s, "sleep", "deep"))
    made, _ = stays(*parts, ("asleep", floor_a, 1.0), noise=0.01)
    made.events = tuple(sorted((*made.events, *events), key=lambda event: event.time_s))
    return made


def found_in(made: Made) -> Wakes:
    return find_wakes(made, place(made), lambda: find_levels(made.current))


def ledger_of(made: Made, *typed: SleepMode) -> WakeLedger:
    placement = place(made)
    return make_wake_ledger(made, placement, found_in(made), typed=typed)


REGULAR = [("tick", "work", 0.95, 0.05)] * 30


def test_a_log_in_another_clock_is_laid_on_whatever_places_the_states() -> None:
    made = woken(*[("tick", "work", 0.7 + 0.05 * (k % 7), 0.05) for k in range(30)])
    shifted = [Event(e.time_s - 0.4, e.event, e.name) for e in made.events if e.event != "state"]
    without_states = replace(made, events=tuple(shifted))
    true, found = found_in(made), found_in(without_states)
    assert found.count == 30
    assert np.abs(found.first - true.first).max() <= 1


@pytest.mark.parametrize("kind", ["wake", "sleep", "both"])
def test_what_the_log_lost_is_told_by_the_current_and_its_cause_by_the_period(kind: str) -> None:
    made = woken(*REGULAR)
    wake_at, sleep_at = 15 * 1.0 + 0.95 - 1.0, 16 * 1.0 - 1.0  # of the fifteenth wake
    gone = {"wake": {("wake", wake_at)}, "sleep": {("sleep", sleep_at)}}
    gone["both"] = gone["wake"] | gone["sleep"] | {("sleep", 20.0)}  # another line lost shows that lines were lost
    lost = {(event, round(time_s, 6)) for event, time_s in gone[kind]}
    states_too = [e for e in made.events if (e.event, round(e.time_s, 6)) not in lost and e.event != "state"]
    assert len(states_too) < len([e for e in made.events if e.event != "state"])
    found = find_wakes(replace(made, events=tuple(states_too)), place(made), lambda: find_levels(made.current))
    assert found.count == 30
    assert set(found.source) == {"tick"}
    assert np.abs(np.diff(found.first) * INTERVAL_S - 1.0).max() < 0.005
    assert np.abs((found.last - found.first) * INTERVAL_S - 0.05).max() < 0.005
    assert int((found.cause == Cause.PERIOD).sum()) == (0 if kind == "sleep" else 1)


def test_a_log_that_is_whole_is_taken_at_its_word() -> None:
    made = woken(*REGULAR)
    values = made.current.read(0, made.current.samples).copy()
    values[400:450] = 0.02  # a radio that listens, while the log says asleep
    made.current = type(made.current)(values, INTERVAL_S)
    assert found_in(made).count == 30


def test_a_line_with_an_edge_just_before_is_the_cause_and_one_that_mirrors_is_not() -> None:
    made = woken(*[("", "work", 0.6 + 0.07 * (k % 5), 0.05) for k in range(20)])
    true = found_in(made)
    made.events = ()
    bits = np.zeros(made.current.samples, dtype=np.uint8)
    for k, (first, last) in enumerate(zip(true.first.tolist(), true.last.tolist(), strict=True)):
        bits[first:last] |= 2  # a marker of being awake
        if k % 2:
            bits[first - 2 : first + 20] |= 1
    made.lines = ArrayLines(bits, ("pin", "awake"))
    found = find_wakes(made, place(made), lambda: find_levels(made.current))
    assert found.source == ("unknown", "pin") * 10
    assert found.cause.tolist() == [Cause.NOTHING, Cause.LINE] * 10


@pytest.fixture(scope="module", params=[3, 8])
def without_a_log(request: pytest.FixtureRequest) -> tuple[SimulatedCapture, Made, WakeLedger]:
    """What a bench records of a build whose console is not connected: current and lines."""
    simulated = simulate(FIRMWARE[4], seed=request.param, duration_s=120.0, rate_hz=10e3)
    current = ArraySeries(simulated.current, simulated.info.sample_interval_s)
    lines = ArrayLines(simulated.lines, LINES, current.interval_s)
    recording = Made(current, (), lines=lines, info=simulated.info)
    levels = find_levels(current)
    placement = place(recording, (LevelsRule(),), levels=lambda: levels)
    wakes = find_wakes(recording, placement, lambda: levels)
    return simulated, recording, make_wake_ledger(recording, placement, wakes)


def test_without_a_log_the_lines_tell_what_woke_the_device(without_a_log) -> None:
    simulated, recording, ledger = without_a_log
    wakes = ledger.wakes
    told = {"rtc": "RTC_IRQ", "pir": "PIR_OUT"}
    right, every = 0, 0
    for event in simulated.true_events:
        if event.event == "wake" and event.name in told:
            at = int(np.searchsorted(wakes.first * recording.current.interval_s, event.time_s + 1e-3)) - 1
            every += 1
            right += at >= 0 and wakes.source[at] == told[event.name]
    assert every > 50
    assert right >= 0.95 * every


def test_sleep_is_not_judged_by_a_state_that_was_entered_once(without_a_log) -> None:
    # While the modem idles the device wakes many times, and sleeps no deeper: that is one stay of the modem's.
    ledger = without_a_log[2]
    assert max(row.count for row in ledger.idle if row.mode != "sleep") >= 5
    assert ledger.depth.lost_a == 0
    assert all(row.too_shallow == 0 for row in ledger.idle)


def test_sources_are_joined_renamed_split_and_named_as_logged_again() -> None:
    made = woken(
        *[("rtc", "report" if k % 5 == 4 else "tick", 0.9, 0.1) for k in range(20)], ("pir", "count", 1.0, 0.2)
    )
    placement, wakes = place(made), found_in(made)

    def counts(project: Project) -> dict[str, int]:
        named = arranged(wakes, project.wake_sources, placement, INTERVAL_S)
        return {name: int(named.by(name).sum()) for name in named.names}

    parted = split("rtc", WakeSource("alarm", (), "report"))(Project())
    assert counts(parted) == {"rtc": 16, "alarm": 4, "pir": 1}
    joined = rename("pir", "rtc")(parted)
    assert counts(joined) == {"rtc": 17, "alarm": 4}
    assert counts(rename("alarm", "report timer")(joined)) == {"rtc": 17, "report timer": 4}
    assert counts(rename("pir", "motion")(Project())) == {"rtc": 20, "motion": 1}
    assert counts(wake_edits.as_logged(joined)) == {"rtc": 20, "pir": 1}
    by_period = split("rtc", WakeSource("second", (), "", 1.0))(Project())
    assert counts(by_period)["second"] == 20
    assert counts(change_source("rtc", slack_s=0.5)(Project())) == {"rtc": 20, "pir": 1}


def test_what_ran_adds_up_and_what_all_sources_begin_with_is_resuming() -> None:
    parts, events, now_s = [], [], 0.0
    for k in range(12):
        source, state = ("rtc", "measure") if k % 3 else ("pir", "count")
        parts += [("asleep", 1e-5, 0.9), ("restore", 0.005, 0.02), (state, 0.01, 0.08)]
        events += [Event(round(now_s + 0.9, 9), "wake", source), Event(round(now_s + 1.0, 9), "sleep", "deep")]
        now_s = round(now_s + 1.0, 9)
    made, _ = stays(*parts, ("asleep", 1e-5, 1.0))
    made.events = tuple(sorted((*made.events, *events), key=lambda event: event.time_s))
    ledger = ledger_of(made)
    for row in ledger.sources:
        assert sum(one.charge_c for one in row.ran) == pytest.approx(row.charge_c_mean, rel=1e-6)
        assert row.ran[0].state == "restore"
        assert row.resume_c == pytest.approx((0.005 - 1e-5) * 0.02, rel=1e-3)


def test_typed_modes_judge_what_idles_within_wakes_and_a_rule_that_knows_the_timers() -> None:
    # 1 mA against 10 µA, 20 µC more to leave: deep pays from 20.2 ms on.
    modes = (SleepMode("deep", "core", None, 20e-6, 1e-3), SleepMode("wait", "core", None, 0.0, 1e-6))
    parts, events, now_s = [], [], 0.0
    for k in range(20):
        wait_s = 0.1 if k % 2 else 0.01
        parts += [("asleep", 1e-5, 0.8), ("work", 0.01, 0.05), ("wait", 1e-3, wait_s), ("work", 0.01, 0.05)]
        events += [Event(round(now_s + 0.8, 9), "wake", "rtc"), Event(round(now_s + 0.9 + wait_s, 9), "sleep", "deep")]
        now_s = round(now_s + 0.9 + wait_s, 9)
    made, _ = stays(*parts, ("asleep", 1e-5, 1.0))
    made.events = tuple(sorted((*made.events, *events), key=lambda event: event.time_s))
    depth = ledger_of(made, *modes).depth
    (even,) = depth.break_evens("wait")
    assert (even.lighter, even.deeper) == ("wait", "deep")
    assert even.from_s == pytest.approx(20e-6 / 0.99e-3, rel=1e-3)
    rows = {row.mode: row for row in depth.rows}
    assert (rows["wait"].count, rows["wait"].too_shallow, rows["wait"].too_deep) == (20, 10, 0)
    assert rows["deep"].too_deep == rows["deep"].too_shallow == 0
    lost_c = 10 * ((1e-3 - 1e-5) * 0.1 - 20e-6)
    assert depth.lost_a == pytest.approx(lost_c / depth.duration_s, rel=1e-3)
    # The usual wait is 55 ms: deep for all, which is wrong for the short ones.
    assert depth.by_rule_a == pytest.approx(10 * (20e-6 - 0.99e-3 * 0.01) / depth.duration_s, rel=1e-2)


def test_over_time_adds_up_to_the_ledger() -> None:
    ledger = ledger_of(woken(*REGULAR, ("pir", "count", 2.0, 3.0)))
    profile = wake_profile(ledger)
    assert profile.count.sum() == ledger.wakes.count
    lasts_s = np.full(profile.added_a.shape[1], profile.step_s)
    lasts_s[-1] = ledger.duration_s - profile.step_s * (len(lasts_s) - 1)
    for row, found in zip(ledger.sources, profile.added_a, strict=True):
        assert (found * lasts_s).sum() / ledger.duration_s == pytest.approx(row.added_a, rel=1e-6)


def test_a_batch_pays_for_waking_once_and_hardware_of_its_own_not_at_all() -> None:
    ledger = ledger_of(woken(*REGULAR))
    (row,) = ledger.sources
    activity = Activity("tick", FromWakes("tick"), interval_s=1.0)
    batch = wake_edits.batched(activity, row, 0.1 * row.charge_c_mean, 8)
    assert batch.activity.interval_s == 8.0
    assert batch.late_s == 7.0
    assert isinstance(batch.activity.source, Typed)
    assert batch.activity.source.charge_c == pytest.approx((0.1 + 8 * 0.9) * row.charge_c_mean)
    alone = wake_edits.without_core(activity, row, 2e-6)
    assert alone.source.charge_c == 2e-6
    assert alone.interval_s == 1.0
    often = Activity("tick", FromWakes("tick"), per_day=100.0)
    assert wake_edits.batched(often, row, 0.0, 4).activity.per_day == 25.0
    with pytest.raises(BadArgumentError, match="2 samples"):
        wake_edits.batched(activity, row, 0.0, 1)
    with pytest.raises(BadArgumentError, match="no rate of its own"):
        wake_edits.batched(Activity("tick", FromWakes("tick"), follows="other"), row, 0.0, 4)


def test_refused_sleeps_are_counted_by_who_refused() -> None:
    made = woken(*REGULAR)
    marks = (Event(2.0, "mark", "sleep refused", "radio"), Event(3.0, "mark", "sleep refused", "radio"))
    made.events = (*made.events, *marks, Event(4.0, "mark", "sleep refused", "flash"), Event(5.0, "mark", "other", "x"))
    assert ledger_of(made).refused == {"radio": 2, "flash": 1}
