import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.battery.life_density import density_of


@given(st.integers(0, 2**32), st.floats(1e3, 1e9), st.floats(0.02, 0.5))
def test_a_density_sums_to_one_and_follows_its_lives(seed: int, middle_s: float, spread: float) -> None:
    draws_s = np.sort(middle_s * np.exp(spread * np.random.default_rng(seed).standard_normal(4000)))
    found = density_of(draws_s)
    step_s = found.life_s[1] - found.life_s[0]
    assert (found.per_s >= 0).all()
    assert found.per_s.sum() * step_s == pytest.approx(1.0, abs=0.02)
    assert (found.per_s * found.life_s).sum() * step_s == pytest.approx(draws_s.mean(), rel=0.04)
    at_middle = float(np.interp(middle_s, found.life_s, found.per_s))
    assert at_middle == pytest.approx(1 / (middle_s * spread * math.sqrt(2 * math.pi)), rel=0.2)


@pytest.mark.parametrize("draws_s", [[], [5.0, 5.0], [1.0, math.inf]])
def test_lives_that_are_all_alike_or_endless_have_no_density(draws_s: list[float]) -> None:
    assert not len(density_of(np.array(draws_s)).life_s)
