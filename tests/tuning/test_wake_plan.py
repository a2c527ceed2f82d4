"""Wake plans proven or refuted, against a search through all that the wires could do."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.model.wake_plan import ModePower, Pull, RestLevel, WakeOn, WakePath, WakePlan
from warm_ember.tuning.wake_plan import check_plan

paths = st.builds(
    WakePath,
    source=st.just("pin"),
    domain=st.sampled_from(["", "inputs", "radio"]),
    oscillator=st.sampled_from(["", "slow"]),
    pin=st.sampled_from(["", "P1"]),
    trigger=st.sampled_from(list(WakeOn)),
    rest=st.sampled_from(list(RestLevel)),
    pull=st.sampled_from(list(Pull)),
    enabled=st.booleans(),
    wired=st.booleans(),
    rearmed=st.booleans(),
)
modes = st.builds(
    ModePower,
    mode=st.just("deep"),
    domains=st.sets(st.sampled_from(["inputs", "radio"])).map(tuple),
    oscillators=st.sets(st.just("slow")).map(tuple),
)


def fires(trigger: WakeOn, before: int, after: int) -> bool:
    """Answer whether an input that goes from one level to another wakes the core."""
    return {
        WakeOn.RISING: (before, after) == (0, 1),
        WakeOn.FALLING: (before, after) == (1, 0),
        WakeOn.CHANGE: before != after,
        WakeOn.HIGH: after == 1,
        WakeOn.LOW: after == 0,
    }[trigger]


@given(paths, modes)
@settings(max_examples=400)
def test_a_source_works_when_its_event_alone_wakes_the_core(path: WakePath, mode: ModePower) -> None:
    verdict = check_plan(WakePlan((path,), (mode,)), {"deep": 1e-3}).of("pin", "deep")
    powered = {"", *mode.domains} >= {path.domain} and {"", *mode.oscillators} >= {path.oscillator}
    through = powered and path.enabled and path.wired and path.rearmed
    resting = {RestLevel.HIGH: 1, RestLevel.LOW: 0}.get(path.rest, {Pull.UP: 1, Pull.DOWN: 0}.get(path.pull))
    if not path.pin:
        assert verdict.works == through
        return
    if resting is None or not through:
        assert not verdict.works
        assert not verdict.at_once
        return
    asleep_wakes = fires(path.trigger, resting, resting)
    event_wakes = fires(path.trigger, resting, 1 - resting) or fires(path.trigger, 1 - resting, resting)
    assert verdict.at_once == asleep_wakes
    assert verdict.works == (event_wakes and not asleep_wakes)


SOUND = WakePlan(
    (WakePath("clock", "backup", "slow"), WakePath("motion", "inputs", "", "P1", reacts_s=0.02)),
    (ModePower("deep", ("backup", "inputs"), ("slow",)),),
    window_s=2.0, window_a=3e-3, boots_per_day=1.0,
)  # fmt: skip


def test_a_sound_plan_has_no_conflict_and_its_window_a_price() -> None:
    found = check_plan(SOUND, {"deep": 1e-3})
    assert found.conflicts == ()
    assert found.of("motion", "deep").reacts_s == pytest.approx(0.021)
    assert found.window_a == pytest.approx(2.0 * 3e-3 / 86400)


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({"modes": (ModePower("deep"),)}, "Nothing can wake the device from deep"),
        ({"modes": (ModePower("deep", ("inputs",)),)}, "clock cannot wake the device from any mode: backup is off"),
        ({"modes": (ModePower("deep", ("inputs", "backup")),)}, "slow stands still"),
        ({"window_s": 0.0}, "No way is left to reprogram"),
        ({"together": ("P1", "P2")}, "P1 and P2 shall wake it together"),
        ({"paths": (WakePath("a", pin="P1", rest=RestLevel.NOBODY),)}, "P1 of a floats"),
        ({"paths": (WakePath("a", pin="P1", pull=Pull.UP),)}, "leaks in sleep"),
        ({"paths": (WakePath("a", pin="P1", trigger=WakeOn.LOW),)}, "wakes at once"),
        ({"paths": (WakePath("a", pin="P1", trigger=WakeOn.FALLING),)}, "at the end of its pulse"),
        ({"paths": (WakePath("a", rearmed=False),)}, "not armed again"),
    ],
)
def test_each_conflict_is_told_in_words(change: dict[str, object], expected: str) -> None:
    found = check_plan(msgspec.structs.replace(SOUND, **change), {})
    assert any(expected in one for one in found.conflicts), found.conflicts


def test_a_wake_that_is_a_reset_says_what_it_loses() -> None:
    plan = msgspec.structs.replace(SOUND, paths=(WakePath("clock", is_reset=True, loses="the counts"),))
    assert check_plan(plan, {}).notes == ("A wake by clock is a reset: it loses the counts.",)
