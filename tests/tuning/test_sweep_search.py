"""A sweep finds the best allowed setting with few measurements; its fits hold the truth, or say that they do not."""

from __future__ import annotations

import numpy as np
import pytest
from accuracy_sweep import made_device, searched

from warm_ember.model.sweep import Search, SweepGoal, SweepLimit, SweepParameter, SweepRecipe
from warm_ember.tuning.sweep.fits import fit_parameter
from warm_ember.tuning.sweep.points import estimates_of, scatter_of
from warm_ember.tuning.sweep.search import first_settings, next_settings, standing

INTERVAL = SweepParameter("interval", (10.0, 20.0, 40.0, 80.0, 160.0, 320.0), "interval {value}", latency_per_value=1.0)
MODE = SweepParameter("mode", ("deep", "off"), "sleep {value}")


def recipe(*parameters: SweepParameter, **given: object) -> SweepRecipe:
    return SweepRecipe(parameters or (INTERVAL,), 3, 60.0, "socket://127.0.0.1:1", **given)  # type: ignore[arg-type]


def recorded(random: np.random.Generator, mean_a: float, scatter: float = 0.01, repeats: int = 3) -> list[float]:
    return [mean_a * (1 + scatter * random.standard_normal()) for _ in range(repeats)]


def test_made_devices_get_a_setting_near_the_best_with_half_the_grid_at_most() -> None:
    near = 0
    for number in range(10):
        random = np.random.default_rng((7, number))
        device = made_device(random)
        means = searched(device, random)
        found = standing(device.recipe, means, frozenset())
        allowed = [one for one in found.grid if not device.recipe.why_not(one)]
        assert found.best is not None
        assert found.grid[found.best] in allowed
        assert len(means) <= max(len(found.grid) // 2, 1)
        near += device.mean_a(found.grid[found.best]) <= 1.02 * min(map(device.mean_a, allowed))
    assert near >= 9


def test_floor_and_charge_are_held_by_their_intervals_nine_times_in_ten() -> None:
    random, held, series = np.random.default_rng(3), 0, 150
    for _ in range(series):
        means = {(value,): recorded(random, 20e-6 + 5e-3 / value) for value in INTERVAL.steps}
        fit = fit_parameter(recipe(), 0, means, (10.0,))
        assert fit is not None
        for estimate, truth in ((fit.floor, 20e-6), (fit.charge, 5e-3)):
            low, high = estimate.interval() or (0.0, 0.0)
            held += low <= truth <= high
    assert 0.85 <= held / series / 2 <= 0.97


def test_a_model_that_does_not_fit_is_said_to_and_one_that_does_rarely() -> None:
    random, wrong, right = np.random.default_rng(4), 0, 0
    for _ in range(60):
        bent = {
            (value,): recorded(random, 20e-6 + 5e-3 / value + 4e-6 * np.log(value) ** 2) for value in INTERVAL.steps
        }
        straight = {(value,): recorded(random, 20e-6 + 5e-3 / value) for value in INTERVAL.steps}
        for means, is_bent in ((bent, True), (straight, False)):
            fit = fit_parameter(recipe(), 0, means, (10.0,))
            assert fit is not None
            wrong += is_bent and not fit.fits
            right += not is_bent and fit.fits
    assert wrong >= 57
    assert right >= 57


def test_modes_cost_the_same_at_their_break_even() -> None:
    random = np.random.default_rng(5)

    def mean_a(interval: float, mode: str) -> float:
        floor_a, charge_c = {"deep": (9e-6, 2e-3), "off": (4e-6, 2.4e-3)}[mode]
        return floor_a + charge_c / interval

    asked = recipe(INTERVAL, MODE)
    means = {(interval, mode): recorded(random, mean_a(interval, mode), 0.003) for interval, mode in asked.grid()}
    fit = fit_parameter(asked, 0, means, (320.0, "off"))
    assert fit is not None
    assert fit.fits
    assert fit.interacts
    (even,) = fit.break_evens
    assert even.low is not None
    assert even.high is not None
    assert even.low <= 0.4e-3 / 5e-6 <= even.high
    assert set(even.between) == {"deep", "off"}
    assert fit.flattens_at == pytest.approx(2.4e-3 / 4e-6, rel=0.1)


def test_only_allowed_settings_are_chosen_and_refused_ones_are_not() -> None:
    goal = SweepGoal(max_latency_s=100.0, limits=(SweepLimit("counts lost", {"interval": 0.1}, 6.0),))
    asked = recipe(goal=goal)
    assert [asked.why_not(one) for one in asked.grid()][:3] == ["", "", ""]
    assert "counts lost: 8, more than 6" in asked.why_not((80.0,))
    assert "answers after 160 s" in asked.why_not((160.0,))
    means = {(value,): [1e-3 / value] * 3 for value in INTERVAL.steps}
    found = standing(asked, means, frozenset())
    assert found.grid[found.best or 0] == (40.0,)
    without = standing(asked, means, frozenset({(40.0,)}))
    assert without.grid[without.best or 0] == (20.0,)
    nothing = recipe(goal=SweepGoal(max_latency_s=1.0))
    assert standing(nothing, means, frozenset()).best is None
    assert standing(nothing, means, frozenset()).chance == 0.0


def test_a_grid_is_measured_whole_where_that_is_wanted_or_it_is_small() -> None:
    assert first_settings(recipe(search=Search.GRID)) == recipe().grid()
    few = SweepParameter("batch", (1.0, 2.0, 4.0), "batch {value}")
    assert first_settings(recipe(few)) == recipe(few).grid()
    means = {setting: [1e-3] for setting in recipe().grid()}
    assert next_settings(recipe(search=Search.GRID), standing(recipe(), means, frozenset())) == ()


def test_what_was_not_repeated_has_no_interval() -> None:
    means = {(10.0,): [1e-3], (20.0,): [5e-4]}
    assert scatter_of(means).freedom == 0
    assert all(one.interval() is None for one in estimates_of(means).values())
    twice = {(10.0,): [1.01e-3, 0.99e-3], (20.0,): [5e-4]}
    assert estimates_of(twice)[(20.0,)].interval() is not None  # by what the other one scatters
    # Without repeats a model is judged by the course of what it leaves over.
    values = np.geomspace(10, 320, 9)
    wide = SweepParameter("interval", tuple(values.tolist()), "interval {value}")
    bent = {(value,): [20e-6 + 5e-3 / value + 4e-6 * np.log(value) ** 2] for value in values.tolist()}
    fit = fit_parameter(recipe(wide), 0, bent, (10.0,))
    assert fit is not None
    assert not fit.fits
    assert fit_parameter(recipe(MODE), 0, {("deep",): [1e-3]}, ("deep",)) is None


def test_of_a_small_grid_the_best_is_found_wherever_the_limit_is() -> None:
    for most in INTERVAL.steps:
        asked = recipe(goal=SweepGoal(max_latency_s=float(most)))
        means = {one: [20e-6 + 5e-3 / float(one[0])] * 3 for one in first_settings(asked)}
        assert all(not asked.why_not(one) for one in means)
        while wanted := next_settings(asked, standing(asked, means, frozenset())):
            means |= {one: [20e-6 + 5e-3 / float(one[0])] * 3 for one in wanted}
        found = standing(asked, means, frozenset())
        assert found.grid[found.best or 0] == (most,)
        assert len(means) <= 3
    # Limits that leave no corner: what they leave is where it begins.
    both = SweepLimit("memory", {"interval": 1.0, "batch": 40.0}, 200.0)
    batch = SweepParameter("batch", (1.0, 2.0, 3.0, 4.0), "batch {value}")
    asked = recipe(INTERVAL, batch, goal=SweepGoal(limits=(both,)))
    assert first_settings(asked)
    assert all(not asked.why_not(one) for one in first_settings(asked))
