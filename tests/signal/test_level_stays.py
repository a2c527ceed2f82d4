import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.signal.level_stays import level_stays
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries

INTERVAL_S = 1e-3


@given(
    st.lists(st.tuples(st.sampled_from((1e-5, 1e-3, 3e-2)), st.integers(300, 2000)), min_size=2, max_size=12), st.data()
)
def test_what_lies_at_levels_is_what_flowed_there(stays: list[tuple[float, int]], data: st.DataObject) -> None:
    random = np.random.default_rng(data.draw(st.integers(0, 2**32)))
    true_a = np.concatenate([np.full(samples, level_a) for level_a, samples in stays])
    current = ArraySeries((true_a * (1 + 0.01 * random.standard_normal(len(true_a)))).astype(np.float32), INTERVAL_S)
    found = level_stays(current, find_levels(current))
    assert found.time_s.sum() <= len(true_a) * INTERVAL_S * (1 + 1e-9)
    assert found.charge_c.sum() <= float(current.read(0, len(true_a)).astype(float).sum()) * INTERVAL_S * (1 + 1e-6)
    for level_a in {level_a for level_a, _ in stays}:
        at = int(np.argmin(np.abs(np.log(found.levels.centres_a / level_a))))
        samples = int((true_a == level_a).sum())
        assert found.time_s[at] == pytest.approx(samples * INTERVAL_S, rel=0.02)
        assert found.charge_c[at] == pytest.approx(samples * level_a * INTERVAL_S, rel=0.03)
        assert found.stays[at] == sum(
            level == level_a and (k == 0 or stays[k - 1][0] != level_a) for k, (level, _) in enumerate(stays)
        )


def test_a_level_where_the_current_never_is_has_nothing() -> None:
    current = ArraySeries(np.full(1000, 1e-3, np.float32), INTERVAL_S)
    found = level_stays(current, find_levels(current, centres_a=(1e-6, 1e-3)))
    assert found.stays.tolist() == [0, 1]
    assert (found.usual_s[0], found.time_s[0], found.charge_c[0]) == (0.0, 0.0, 0.0)
    assert found.usual_s[1] == pytest.approx(1.0)
