"""The promises of docs/accuracy.md on random simulated captures, by the script that makes it."""

from __future__ import annotations

import accuracy
import accuracy_wakes
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st


@given(st.integers(0, 1 << 30))
@settings(max_examples=4)
def test_states_are_placed_as_well_as_is_promised(seed: int) -> None:
    found = accuracy.measure(seed)
    for way, limit in accuracy.LIMITS.items():
        assert found[way].charge < limit, (way, found[way])
    assert found["lines"].dwell <= 2


@given(st.integers(0, 1 << 30))
@settings(max_examples=2, deadline=None)
def test_wakes_and_their_causes_are_found_as_well_as_is_promised(seed: int) -> None:
    found = accuracy_wakes.measure(seed)
    assert found.found > accuracy_wakes.LIMITS["found"]
    assert found.right_cause > accuracy_wakes.LIMITS["right cause"]
    assert found.charge < accuracy_wakes.LIMITS["charge"]
    assert found.invented < 0.01
    assert found.alignment_is_best


@pytest.mark.parametrize("with_line", [True, False])
def test_an_hours_log_is_laid_on_within_two_samples(with_line: bool) -> None:
    assert accuracy.clock_error(7, with_line=with_line) < 2


def test_the_document_says_what_was_measured() -> None:
    text = accuracy.document([accuracy.measure(3)], {"the current alone": [0.5, 1.25]}, 3)
    assert "| the current alone | 0.88 | 1.25 | 2 |" in text
    assert text.count("| 1 % |") == 2
