"""What is wasted: sleep of the wrong depth, and timers that the network chose, on devices whose truth is known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, Made, stays
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import find_wakes
from warm_ember.model.capture import Event
from warm_ember.model.finding import FindingKind
from warm_ember.model.placement import Alignment
from warm_ember.model.wakes import SleepMode
from warm_ember.tuning.findings.sleep_depth import sleep_depth
from warm_ember.tuning.findings.timer_overridden import timer_overridden
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE

FLOOR_A, IDLE_A = 2e-5, 9e-3
MODES = (SleepMode("deep", "core", None, 50e-6), SleepMode("light", "core", None, 0.0))


def looked_at(made: Made, modes: tuple[SleepMode, ...] = (), **known: object) -> WasteContext:
    """Lay out all that waste is looked for in."""
    placement = place(made)
    wakes = make_wake_ledger(made, placement, find_wakes(made, placement), typed=modes)
    return WasteContext(made, placement, make_ledger(made, placement), wakes, **known)


def reported(asked_s: float, granted_s: float, *, asked_period_s: float = 3600.0, period_s: float = 3600.0) -> Made:
    """Make a device that reports, asks for an active time, and idles for the one that was granted."""
    made, _ = stays(
        ("sleep", FLOOR_A, 5.0), ("report", 0.1, 2.0), ("idle", IDLE_A, granted_s), ("sleep", FLOOR_A, 20.0)
    )
    codes = [timer.encode(f"{s} s").octet for timer, s in ((PERIODIC_UPDATE, asked_period_s), (ACTIVE_TIME, asked_s))]
    given = [timer.encode(f"{s} s").octet for timer, s in ((ACTIVE_TIME, granted_s), (PERIODIC_UPDATE, period_s))]
    said = (
        Event(4.0, "log", f'AT+CPSMS=1,,,"{codes[0]}","{codes[1]}"'),
        Event(7.0, "log", f'+CEREG: 5,1,"1A2B","01C3D5E7",9,,,"{given[0]}","{given[1]}"'),
    )
    made.events = tuple(sorted((*made.events, *said), key=lambda event: event.time_s))
    return made


@given(st.integers(1, 15), st.integers(16, 31))
@settings(max_examples=25, deadline=None)
def test_a_longer_active_time_costs_what_flows_in_it(asked: int, granted: int) -> None:
    made = reported(2.0 * asked, 2.0 * granted)
    (found,) = timer_overridden(looked_at(made))
    duration_s = made.current.samples * INTERVAL_S
    assert found.kind is FindingKind.TIMER_OVERRIDDEN
    assert found.cost_a == pytest.approx(2.0 * (granted - asked) * (IDLE_A - FLOOR_A) / duration_s, rel=0.01)
    assert (found.from_s, found.to_s) == (7.0, pytest.approx(7.0 + 2.0 * granted))


def test_what_was_granted_as_asked_for_or_cannot_be_told_is_no_finding() -> None:
    assert timer_overridden(looked_at(reported(10.0, 10.0))) == []
    unsure = looked_at(reported(10.0, 60.0))
    ambiguous = replace(unsure.placement, alignment=Alignment(rival_s=3.0))
    assert timer_overridden(replace(unsure, placement=ambiguous)) == []
    assert timer_overridden(looked_at(replace(reported(10.0, 60.0), events=()))) == []
    (other,) = timer_overridden(looked_at(reported(10.0, 10.0, asked_period_s=7200.0)))
    assert "periodic update" in other.text
    assert other.cost_a == 0.0


def sleeping(lengths_s: list[float], mode: str) -> Made:
    """Make a device that sleeps in one mode for each of some lengths, and another time in the other mode."""
    parts, events, now_s = [], [], 0.0
    for name, length_s in (
        *((mode, length_s) for length_s in lengths_s),
        ("deep" if mode == "light" else "light", 0.05),
    ):
        events.append(Event(round(now_s, 9), "sleep", name))
        events.append(Event(round(now_s + length_s, 9), "wake", "timer"))
        parts += [(name, 1e-3 if name == "light" else 1e-5, length_s), ("awake", 0.01, 0.02)]
        now_s = round(now_s + length_s + 0.02, 9)
    made, _ = stays(("awake", 0.01, 0.02), *parts)
    shifted = [Event(round(e.time_s + 0.02, 9), e.event, e.name) for e in events]
    made.events = tuple(sorted((*made.events, *shifted), key=lambda event: event.time_s))
    return made


@given(st.integers(0, 1 << 30), st.booleans())
@settings(max_examples=25, deadline=None)
def test_sleep_of_the_wrong_depth_is_found_with_its_cost_and_the_right_one_is_not(seed: int, wrong: bool) -> None:
    # 50 µC over 990 µA: deep pays from 50.5 ms on.
    random = np.random.default_rng(seed)
    long_s = np.round(random.uniform(0.3, 2.0, 20), 3)
    made = sleeping(long_s.tolist(), "light" if wrong else "deep")
    waste = looked_at(made, MODES)
    found = sleep_depth(waste)
    if not wrong:
        assert found == []
        return
    (one,) = found
    assert one.kind is FindingKind.TOO_SHALLOW
    lost_c = float((long_s[1:] * 0.99e-3 - 50e-6).sum())  # where the first began is not in the capture
    assert one.cost_a == pytest.approx(lost_c / waste.duration_s, rel=0.15)
