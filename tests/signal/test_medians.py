"""Medians of rows against the plain definition."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from warm_ember.signal.medians import row_medians


@pytest.mark.filterwarnings("ignore:invalid value")
@given(
    hnp.arrays(
        st.sampled_from([np.float32, np.float64]),
        st.tuples(st.integers(0, 5), st.integers(1, 9)),
        elements=st.floats(-1e3, 1e3, width=32) | st.just(float("nan")),
    )
)
def test_they_are_those_of_the_library(rows: np.ndarray) -> None:
    found = row_medians(rows)
    assert found.dtype == rows.dtype
    assert found.shape == (len(rows),)
    expected = np.array([np.median(row) if not np.isnan(row).any() else np.nan for row in rows], dtype=rows.dtype)
    assert np.allclose(found, expected, rtol=1e-6, equal_nan=True)
