"""Figures compared with limits: decided only where all of the interval lies on one side."""

from __future__ import annotations

import math

from hypothesis import given
from hypothesis import strategies as st

from warm_ember.tuning.gate import Check, GateResult, Measured, Outcome, at_least, at_most, lasts, relative

ends = st.lists(st.floats(-1e3, 1e3), min_size=3, max_size=3).map(sorted)
limits = st.floats(-1e3, 1e3)
chances = st.floats(0.01, 0.99)


def figure(three: list[float]) -> Measured:
    return Measured(three[1], three[0], three[2])


@given(ends, limits)
def test_a_limit_is_decided_by_the_whole_interval(three, limit) -> None:
    low, _, high = three
    outcome = at_most(figure(three), limit)
    assert (outcome is Outcome.PASS) == (high <= limit)
    assert (outcome is Outcome.FAIL) == (low > limit)


@given(ends, limits, st.floats(1e-9, 1e6))
def test_outcomes_know_no_unit_and_the_lower_limit_mirrors_the_upper(three, limit, scale) -> None:
    scaled = figure([one * scale for one in three])
    mirrored = Measured(-three[1], -three[2], -three[0])
    if all(one * scale != limit * scale or one == limit for one in three):
        assert at_most(scaled, limit * scale) is at_most(figure(three), limit)
    assert at_least(mirrored, -limit) is at_most(figure(three), limit)


@given(limits, limits)
def test_what_has_no_end_on_a_side_is_never_decided_by_that_side(value, limit) -> None:
    assert at_most(Measured(value), limit) is Outcome.UNDECIDED
    assert at_least(Measured(value), limit) is Outcome.UNDECIDED
    assert at_most(Measured(value, low=value), limit) is not Outcome.PASS
    assert at_most(Measured(value, high=value), limit) is not Outcome.FAIL
    assert at_least(Measured(value, low=value), limit) is not Outcome.FAIL


@given(st.lists(st.floats(0, 100), min_size=1, max_size=60), st.floats(0, 100), chances, chances)
def test_a_life_that_is_likely_enough_is_so_for_less_too(draws, limit, one, other) -> None:
    less, more = sorted((one, other))
    if lasts(draws, limit, more) is Outcome.PASS:
        assert lasts(draws, limit, less) is Outcome.PASS
    reach = sum(draw >= limit for draw in draws) / len(draws)
    assert (lasts(draws, limit, one) is Outcome.PASS) == (reach >= one)
    if lasts(draws, limit, one) is Outcome.FAIL:
        assert reach < one
    if one <= 0.5:
        assert lasts(draws, limit, one) is not Outcome.UNDECIDED
    assert lasts([], limit, one) is Outcome.UNDECIDED


@given(st.floats(1e-9, 1e3), ends)
def test_a_change_is_a_share_of_what_was_there(before, three) -> None:
    found = relative(before, figure(three))
    assert found.value is not None
    assert found.value * before == three[1] or math.isclose(
        found.value * before, three[1], rel_tol=1e-9, abs_tol=1e-300
    )
    nothing = relative(0.0, figure(three))
    assert nothing.value == (0.0 if three[1] == 0 else math.copysign(math.inf, three[1]))
    assert relative(before, Measured(three[1])).low is None


@given(st.lists(st.sampled_from(Outcome), max_size=8), st.booleans())
def test_one_that_failed_fails_all_and_strictly_so_does_one_that_is_open(outcomes, strict) -> None:
    checks = tuple(Check(f"c{k}", one, None, None, None, None, "", "") for k, one in enumerate(outcomes))
    found = GateResult("r", "", checks, strict).outcome
    failing = {Outcome.FAIL, *([Outcome.UNDECIDED] if strict else [])}
    assert (found is Outcome.FAIL) == bool(failing & set(outcomes))
    assert (found is Outcome.PASS) == (set(outcomes) <= {Outcome.PASS})
