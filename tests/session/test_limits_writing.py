"""Limits written into their file: what is between them stays, what is written is read as it was meant."""

from __future__ import annotations

import math
import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.session.limits_writing import limit_from, limits_written, toml_number, with_limit, with_strict
from warm_ember.store.limits_file import limits_in, line_of
from warm_ember.tuning.gate import Check, Outcome, at_least, at_most, lasting, lasts
from warm_ember.tuning.gate import Measured as Figure

TEXT = """# of the post

[states."Deep sleep"] # asleep
max_mean_a = 15e-6   # the parts' sum, +20 %

# the rest
[findings]
forbid = [
  "clipped", # never
]
"""

values = st.floats(1e-12, 1e6)
names = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=12)


@given(values)
def test_a_number_is_written_as_it_is(value: float) -> None:
    assert float(toml_number(value)) == pytest.approx(value, rel=1e-5)
    assert tomllib.loads(f"a = {toml_number(value)}")["a"] == float(toml_number(value))


@given(values, names)
def test_a_changed_limit_changes_nothing_else(value: float, name: str) -> None:
    text = with_limit(TEXT, ("states", "Deep sleep", "max_mean_a"), value)
    assert text == TEXT.replace("15e-6", toml_number(value))
    more = with_limit(TEXT, ("sources", name, "max_charge_c"), value)
    assert more.startswith(TEXT)
    limits = limits_in(more, Path("limits.toml"))
    assert limits.sources[name].max_charge_c == pytest.approx(value, rel=1e-5)
    assert limits.states["Deep sleep"].max_mean_a == 15e-6
    assert more.splitlines()[line_of(more, "sources", name, "max_charge_c") - 1].startswith("max_charge_c")


@given(st.booleans())
def test_strict_is_set_with_all_else_as_it_was(strict: bool) -> None:
    text = with_strict(TEXT, strict=strict)
    assert limits_in(text, Path("limits.toml")).strict is strict
    assert all(line in text for line in TEXT.splitlines())
    assert with_strict(text, strict=strict) == text


def test_limits_that_there_are_stay() -> None:
    found = ((("states", "Deep sleep", "max_mean_a"), 1.0), (("states", "Count", "max_mean_a"), 4e-3),
             (("measurement", "max_missing"), 0.01), (("findings", "forbid"), ("hum",)))  # fmt: skip
    text = limits_written(TEXT, found)
    assert all(line in text for line in TEXT.splitlines())
    limits = limits_in(text, Path("limits.toml"))
    assert limits.states["Deep sleep"].max_mean_a == 15e-6
    assert limits.states["Count"].max_mean_a == 4e-3
    assert limits.findings.forbid == ("clipped",)
    assert "max_missing = 0.01" in text
    assert limits_written(text, found) == text
    assert limits_in(limits_written("", found), Path("limits.toml")).findings.forbid == ("hum",)


@given(st.floats(-1e3, 1e3), st.floats(0, 10), st.booleans())
def test_a_limit_from_a_run_is_kept_by_that_run(value: float, half: float, is_least: bool) -> None:
    figure = Figure(value, value - half, value + half)
    check = Check("n", Outcome.PASS, value, figure.low, figure.high, 0.0, "A", "", (), "", is_least)
    limit = limit_from(check)
    assert limit is not None
    slack = 1e-9 * (abs(value) + half)
    if is_least:
        assert at_least(figure, limit - slack) is Outcome.PASS
    else:
        assert at_most(figure, limit + slack) is Outcome.PASS
    assert abs(limit - value) <= 2 * half + 0.15 * (abs(value) + 2 * half) + 1e-9


def test_what_nothing_is_known_of_gets_no_limit() -> None:
    for value, low, high in ((None, None, None), (1.0, None, None), (1.0, 0.5, math.inf), (1.0, 0.5, None)):
        assert limit_from(Check("n", Outcome.UNDECIDED, value, low, high, 1.0, "A", "")) is None


@given(st.lists(st.floats(0, 100), min_size=1, max_size=80), st.floats(0, 100), st.floats(0.02, 0.99))
def test_a_life_s_interval_says_what_its_check_says(draws: list[float], limit: float, chance: float) -> None:
    low, high = lasting(draws, chance)
    outcome = lasts(draws, limit, chance)
    assert (outcome is Outcome.PASS) == (low >= limit)
    assert (outcome is Outcome.FAIL) == (high < limit)
    assert low <= high or chance <= 0.5
