"""Intervals by their standards, and periods measured in a capture so that another one can be asked for."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, stays
from warm_ember.attribution.placing import place
from warm_ember.errors import BadArgumentError
from warm_ember.model.plan import ActivityEvery, CurrentBy, ReduceAverage
from warm_ember.session.session import Session
from warm_ember.tuning.timers.intervals import ADVERTISING, CONNECTION, MESH_POLL, STANDARDS, supervision
from warm_ember.tuning.timers.period_model import of_state
from warm_ember.tuning.timers.registry import ANY, KINDS, interval_at


@given(st.sampled_from(list(STANDARDS.values())), st.floats(1e-4, 100), st.integers(0, 20))
def test_an_interval_is_within_the_limits_on_a_step_and_near(standard, wanted_s: float, skipped: int) -> None:
    found = standard.at(wanted_s, skipped)
    assert standard.low_s - 1e-9 <= found.seconds <= standard.high_s + 1e-9
    if standard.step_s and found.state != "outside":
        steps = found.seconds / standard.step_s
        assert steps == pytest.approx(round(steps), abs=1e-6)
        assert abs(found.seconds - wanted_s) <= standard.step_s / 2 + 1e-12
    assert found.worst_s == found.wakes_each_s == pytest.approx((found.seconds + standard.delay_s) * (1 + skipped))
    assert found.reacts_s == found.worst_s / 2


def test_limits_are_those_of_the_standards() -> None:
    assert (ADVERTISING.low_s, ADVERTISING.high_s, ADVERTISING.step_s) == (0.02, 10.24, 0.000625)
    assert (CONNECTION.low_s, CONNECTION.high_s, CONNECTION.step_s) == (0.0075, 4.0, 0.00125)
    assert MESH_POLL.high_s == pytest.approx(7.68)
    assert ADVERTISING.at(1.0).wakes_each_s == pytest.approx(1.005)  # the mean of the random delay of 0 to 10 ms
    assert CONNECTION.at(0.03).state == "allowed"
    assert CONNECTION.at(0.0301).state == "rounded"
    assert CONNECTION.at(5.0).state == "outside"


@given(st.floats(0.0075, 4.0), st.integers(-1, 600), st.floats(0.05, 40))
def test_a_timeout_has_to_outlast_what_is_skipped(interval_s: float, skipped: int, timeout_s: float) -> None:
    right = 0 <= skipped <= 499 and max(2 * (1 + skipped) * interval_s, 0.1) < timeout_s <= 32
    assert (supervision(interval_s, skipped, timeout_s) == "") == right


@pytest.mark.parametrize("kind", [*STANDARDS, *KINDS, ANY])
def test_what_is_no_time_is_refused(kind: str) -> None:
    with pytest.raises(BadArgumentError):
        interval_at(kind, -1.0)


def test_coded_timers_take_the_nearest_time_that_they_hold() -> None:
    found = interval_at("edrx-nb", 50.0)
    assert (found.seconds, found.state) == (40.96, "rounded")
    assert interval_at("t3412", 3600.0).state == "allowed"


@given(st.integers(0, 1 << 30))
def test_what_pulses_in_a_state_is_measured(seed: int) -> None:
    random = np.random.default_rng(seed)
    period_s, lasts_s = float(random.uniform(0.5, 3.0)), 0.012
    idle_a, pulse_a = random.uniform(1e-3, 1e-2), random.uniform(3e-2, 6e-2)
    count = 20
    made, _ = stays(("sleep", 2e-5, 2.0), ("idle", idle_a, count * period_s + 0.5), ("sleep", 2e-5, 2.0), noise=0.01)
    values = np.array(made.current.read(0, made.current.samples), dtype=np.float64)
    starts = (2.0 + 0.2 + period_s * np.arange(count)) / INTERVAL_S
    for start in np.round(starts).astype(int):
        values[start : start + round(lasts_s / INTERVAL_S)] = pulse_a
    made.current = type(made.current)(values.astype(np.float32), INTERVAL_S)
    model = of_state(made, place(made), "idle")
    assert model is not None
    assert model.times == count
    assert model.period_s == pytest.approx(period_s, rel=0.01)
    assert model.charge_c == pytest.approx((pulse_a - idle_a) * lasts_s, rel=0.05)
    assert model.floor_a == pytest.approx(idle_a, rel=0.02)
    assert model.mean_a(2 * period_s) - model.floor_a == pytest.approx(model.charge_c / period_s / 2)
    assert of_state(made, place(made), "sleep") is None
    with pytest.raises(BadArgumentError):
        model.mean_a(0.0)


def test_periods_of_the_demo_become_changes(demo_session: Session) -> None:
    project = demo_session.project
    models = {model.name: model for model in demo_session.tuning.periods(project, "r4")}
    rtc, idle = models["rtc"], models["Modem idle"]
    assert rtc.period_s == pytest.approx(1.0, rel=1e-3)
    assert idle.period_s == pytest.approx(2.56, rel=1e-3)
    assert idle.charge_c == pytest.approx((42e-3 - 9.2e-3) * 12e-3, rel=0.05)
    assert rtc.change(2.0, project, "r4").effects == (ActivityEvery("Each second", 2.0),)
    (effect,) = idle.change(10.24, project, "r4").effects
    assert isinstance(effect, CurrentBy)
    assert effect.by_a == pytest.approx(idle.charge_c * (1 / 10.24 - 1 / idle.period_s))
    alone = demo_session.project.__class__()
    assert rtc.change(2.0, alone, "r4").effects == (ReduceAverage(pytest.approx(rtc.charge_c / 2, rel=1e-3)),)
    granted = demo_session.tuning.asked(project, "r4")
    assert [(one.asked.active_s, one.granted.active_s, one.differ) for one in granted] == [(16.0, 180.0, True)]
    assert not demo_session.tuning.asked(project, "r5")[0].differ


def test_the_command_answers_what_a_period_would_take(demo_path, command) -> None:
    fitted = ("--project", demo_path, "--name", "r4", "--of", "rtc")
    code, out, _ = command("timers", "model", "any", "1 s", "20 s", *fitted, "--json")
    assert code == 0
    found = json.loads(out)
    now, then = found["values"]
    assert found["fitted_period_s"] == pytest.approx(1.0, rel=1e-3)
    assert now["mean_a"] - then["mean_a"] == pytest.approx(found["charge_c"] * (1 - 1 / 20))
    assert then["worst_s"] == 20.0
    typed = ("--charge", "20u", "--floor", "2u")
    code, out, _ = command("timers", "model", "bluetooth-connection", "1s", *typed, "--skipped", "4", "--json")
    assert json.loads(out)["values"][0]["mean_a"] == pytest.approx(2e-6 + 20e-6 / 5)
    for wrong in (
        ("any", "1 s"),
        ("any", "1 s", *fitted[:-1], "nobody"),
        ("dance", "1 s", *typed),
        ("any", "x", *typed),
    ):
        code, out, error = command("timers", "model", *wrong)
        assert (code, out, error.count("\n")) == (2, "", 1)
