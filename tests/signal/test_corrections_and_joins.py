"""Corrections undo what was added, whatever it was; joined samples are true or bounded."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.model.correction import Burden, InputResistance, KnownLoad, Scaling
from warm_ember.signal.alignment import ClockFit
from warm_ember.signal.corrections import correct, effect_of
from warm_ember.signal.joining import Ranges, join_samples, mean_bounds, on_grid
from warm_ember.signal.series import ArraySeries

currents = st.lists(st.floats(-1e-3, 0.5), min_size=1, max_size=50).map(lambda v: np.array(v, dtype=np.float32))


@given(currents, st.floats(0.2, 5), st.floats(-1e-3, 1e-3), st.floats(0, 1e-3), st.floats(1e4, 1e8), st.floats(0.01, 5))
def test_a_correction_undoes_what_the_measurement_did(true_a, factor, offset_a, load_a, input_ohm, shunt_ohm) -> None:
    """The loads draw what the target's own voltage drives through them; the meter sees all of it through the shunt."""
    exact = true_a.astype(float)
    # v = 3 - ohm * (i + load + v / input), solved for v
    target_v = (3.0 - shunt_ohm * (exact + load_a)) / (1 + shunt_ohm / input_ohm)
    through = exact + load_a + target_v / input_ohm
    read = (through / factor + offset_a).astype(np.float32)
    loads = [KnownLoad(load_a, "x"), InputResistance(input_ohm, "x"), Burden(shunt_ohm, "x")]
    corrections = [Scaling(factor, offset_a, "x"), *loads]
    made = correct(read, None, corrections, supply_v=3.0)
    np.testing.assert_allclose(made.voltage, target_v, atol=1e-5)
    np.testing.assert_allclose(made.current, exact, atol=2e-7 * max(1.0, factor))


@given(currents, st.floats(0, 1e-2))
def test_the_order_of_loads_does_not_matter(true_a, load_a: float) -> None:
    some = [KnownLoad(load_a, "a"), InputResistance(1e5, "b"), KnownLoad(2e-4, "c"), Scaling(1.1, 1e-5, "d")]
    one = correct(true_a, None, some, supply_v=3.0).current
    np.testing.assert_array_equal(one, correct(true_a, None, some[::-1], supply_v=3.0).current)


@given(st.floats(1e-6, 0.1), st.floats(1, 4), st.floats(0.1, 3))
def test_the_effect_on_mean_and_peak_is_that_on_the_samples(mean_a: float, times: float, ohm: float) -> None:
    samples = np.array([mean_a * times, mean_a * (2 - times)], dtype=np.float32)
    corrections = [Scaling(0.97, 1e-6, "x"), KnownLoad(2e-6, "x"), Burden(ohm, "x")]
    made = correct(samples, None, corrections, supply_v=3.0)
    effect = effect_of(corrections, mean_a=float(samples.mean()), peak_a=float(samples.max()), supply_v=3.0)
    assert effect.mean_a == pytest.approx(float(made.current.mean()), abs=1e-8)
    assert effect.peak_a == pytest.approx(float(made.current.max()), rel=1e-5)
    assert effect.lowest_v == pytest.approx(float(made.voltage.min()), rel=1e-6)


def test_what_is_missing_stays_missing_and_is_not_invented() -> None:
    made = correct(np.float32([np.nan, 1e-3]), np.float32([3.0, np.nan]), [KnownLoad(1e-4, "x")])
    assert np.isnan(made.current[0])
    assert made.current[1] == pytest.approx(9e-4)
    assert np.isnan(made.voltage[1])
    assert correct(np.float32([1.0]), None, [KnownLoad(1e-4, "x")], supply_v=3.0).voltage is None


@given(
    st.lists(st.floats(1e-9, 0.4), min_size=1, max_size=80),
    st.floats(1e-4, 1e-2),
    st.floats(1e-8, 1e-6),
    st.floats(1e-5, 1e-3),
    st.floats(0.02, 0.5),
)
def test_a_joined_sample_is_true_or_lies_within_its_bounds(true_a, limit_a, fine_bound, coarse_bound, top_a) -> None:
    exact = np.array(true_a)
    fine, coarse = np.minimum(exact, limit_a).astype(np.float32), np.minimum(exact, top_a).astype(np.float32)
    made = join_samples(fine, coarse, Ranges(limit_a, fine_bound, coarse_bound, top_a))
    known = ~np.isnan(made.current)
    np.testing.assert_allclose(made.current[known], exact[known], rtol=1e-5)
    assert not made.at_least[known].any()
    low, high = made.at_least[~known], made.at_most[~known]
    assert np.all(np.isnan(low) | (low <= exact[~known] * (1 + 1e-5)))
    assert np.all(np.isnan(high) | (high >= exact[~known] * (1 - 1e-5)))
    bounds = mean_bounds(*(ArraySeries(v, 1e-3) for v in (made.current, made.at_least, made.at_most)), 0, len(exact))
    assert bounds.low_a is None or bounds.low_a <= exact.mean() * (1 + 1e-5)
    assert bounds.high_a is None or bounds.high_a >= exact.mean() * (1 - 1e-5)


@given(st.integers(1, 300), st.floats(-0.1, 0.1), st.floats(-4e-4, 4e-4), st.sampled_from([1e-3, 0.5e-3, 3e-3]))
def test_the_coarse_capture_is_laid_on_the_fine_ones_samples(samples, offset_s, drift, interval_s) -> None:
    coarse = ArraySeries(np.arange(100, dtype=np.float32), interval_s)
    laid = on_grid(coarse, ClockFit(offset_s, drift, 0.0, 9), 0, samples, 1e-3)
    for k in range(0, samples, 37):
        place = int(np.floor(((k + 0.5) * 1e-3 - offset_s) / (1 + drift) / interval_s))
        assert laid[k] == place if 0 <= place < 100 else np.isnan(laid[k])
