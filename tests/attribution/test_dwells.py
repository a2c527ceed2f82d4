import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.attribution.dwells import dwell_spread


@given(st.lists(st.floats(1e-6, 1e6), min_size=1, max_size=200))
def test_every_dwell_is_counted_where_it_lies(dwells: list[float]) -> None:
    found = dwell_spread(np.array([*dwells, 0.0]))
    assert found.entries == found.counts.sum() == len(dwells)
    assert (found.shortest_s, found.longest_s) == (min(dwells), max(dwells))
    assert found.shortest_s <= found.low_s <= found.middle_s <= found.high_s <= found.longest_s
    assert found.edges[0] < np.log10(min(dwells))
    assert found.edges[-1] > np.log10(max(dwells))
    below = int((np.log10(dwells) < found.edges[24]).sum())
    assert int(found.counts[:24].sum()) == pytest.approx(below, abs=0)


def test_a_state_that_was_never_entered_has_no_dwells() -> None:
    assert dwell_spread(np.zeros(3)).entries == 0
