"""The inside of a bracket adds up, whatever is in it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.model.project import Bracket
from warm_ember.session.bracket_inside import look_inside, peak_intervals
from warm_ember.session.session import Session


@given(st.lists(st.floats(1e-6, 1e4), min_size=1, max_size=300))
def test_every_interval_is_counted_once(intervals_s: list[float]) -> None:
    found = peak_intervals(np.array(intervals_s))
    assert found is not None
    assert found.counts.sum() == len(intervals_s)
    assert found.edges_s[0] < found.shortest_s <= found.low_s <= found.middle_s <= found.high_s <= found.longest_s
    assert found.longest_s < found.edges_s[-1]


def test_without_intervals_nothing_is_said() -> None:
    assert peak_intervals(np.zeros(0)) is None


@pytest.mark.parametrize("stretch", [(0.0, 120.0), (3.0, 20.0)])
def test_a_bracket_on_the_demo_holds_its_charge(demo_session: Session, stretch: tuple[float, float]) -> None:
    results = demo_session.run("r5")
    inside = look_inside(results, Bracket("A", "r5", *stretch))
    reading = results.capture.reading(*stretch)
    assert inside.bands.charge_c.sum() + inside.bands.below_c == pytest.approx(reading.charge_c, rel=1e-6)
    low_a, high_a, charge, time = inside.densest
    assert 0 < low_a < high_a
    assert 0 < charge <= 1
    assert 0 < time <= 1
    assert (inside.intervals is None) == (inside.peaks < 2)
