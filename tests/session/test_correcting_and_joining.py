"""Corrected and joined captures, against what was put into the samples."""

import msgspec
import numpy as np
import pytest

from warm_ember.errors import BadArgumentError, Cancelled
from warm_ember.formats.source import ImportOptions
from warm_ember.model.correction import Burden, InputResistance, KnownLoad, Scaling
from warm_ember.model.project import RunKind
from warm_ember.session.correcting import adopt_as_condition, correct_capture
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.joining import join_captures
from warm_ember.session.new_capture import adopt
from warm_ember.session.session import Session
from warm_ember.signal.corrections import effect_of

RATE_HZ = 10e3


def add(session: Session, folder, name: str, values: np.ndarray, **request) -> None:
    path = folder / f"{name}.f32"
    values.astype("<f4").tofile(path)
    adopt(session, import_file(session, ImportRequest(path, ImportOptions(rate_hz=RATE_HZ), **request)))


def bursts(seconds: float = 20.0, shift_s: float = 0.0) -> np.ndarray:
    """Return 9 µA of sleep with bursts of 150 mA at uneven times."""
    time_s = np.arange(round(seconds * RATE_HZ)) / RATE_HZ + shift_s
    starts = np.array([0.9, 2.1, 4.8, 6.0, 9.7, 11.1, 15.3, 17.2])
    on = np.any([(time_s >= s) & (time_s < s + 0.06) for s in starts], axis=0)
    return np.where(on, 0.15, 9e-6)


@pytest.fixture
def session(tmp_path):
    with Session.open_or_create(tmp_path / "p") as opened:
        yield opened


def test_what_was_added_is_taken_out_again(session, tmp_path) -> None:
    true_a = bursts()
    ohm, input_ohm, bridge_a = 1.5, 1e6, 310e-6
    target_v = 3.0 - (true_a + bridge_a) * ohm  # nearly: the probe's own microamperes flow through the shunt too
    read_a = true_a + bridge_a + target_v / input_ohm
    add(session, tmp_path, "raw", read_a / 1.01, supply_v=3.0)
    corrections = (
        Scaling(1.01, 0.0, "shunt is 1 % high"),
        KnownLoad(bridge_a, "debug serial bridge"),
        InputResistance(input_ohm, "meter input"),
        Burden(ohm, "shunt"),
    )
    report = correct_capture(session, "raw", corrections, "clean")
    adopt_as_condition(session, report, "raw", "corrected")
    capture = session.capture("clean")
    np.testing.assert_allclose(capture.current.read(0, len(true_a)), true_a, atol=2e-9, rtol=1e-5)
    np.testing.assert_allclose(capture.voltage.read(0, len(true_a)), target_v, atol=1e-5)
    assert len(capture.info.corrections) == 4
    assert "debug serial bridge" in capture.info.corrections[1]
    assert session.project.run("clean").kind is RunKind.CONDITION
    assert session.capture("raw").info.corrections == ()
    raw = session.capture("raw").whole()
    effect = effect_of(corrections, mean_a=raw.mean_a, peak_a=raw.max_a, supply_v=3.0)
    assert effect.mean_a == pytest.approx(capture.whole().mean_a, rel=1e-4)
    assert effect.lowest_v == pytest.approx(3.0 - (0.15 + bridge_a) * ohm, abs=1e-4)


@pytest.mark.parametrize(
    ("corrections", "words"),
    [
        ((), "nothing to correct"),
        ((KnownLoad(1e-3, " "),), "say why"),
        ((KnownLoad(float("nan"), "x"),), "finite"),
        ((Scaling(0.0, 0.0, "x"),), "factor of 0"),
        ((Burden(-1.0, "x"),), "above 0"),
        ((InputResistance(1e6, "x"),), "voltage is not known"),
    ],
)
def test_impossible_corrections_are_refused(session, tmp_path, corrections, words: str) -> None:
    add(session, tmp_path, "raw", bursts(3.0))
    with pytest.raises(BadArgumentError, match=words):
        correct_capture(session, "raw", corrections, "clean")
    with pytest.raises(BadArgumentError, match="already"):
        correct_capture(session, "raw", (KnownLoad(1e-6, "x"),), "raw")
    with pytest.raises(Cancelled):
        correct_capture(session, "raw", (KnownLoad(1e-6, "x"),), "clean", should_stop=lambda: True)
    assert [path.name for path in session.folder.captures.iterdir()] == ["raw.h5"]


def test_two_ranges_become_one(session, tmp_path, random) -> None:
    """The joined mean is the true one, though neither capture shows it."""
    true_a, shift_s = bursts(), 0.0371
    fine = np.minimum(true_a, 1e-3) + 0.2e-6 * random.standard_normal(len(true_a))
    fine = np.minimum(fine, 1e-3)
    coarse = bursts(20.0, shift_s) * (1 + 0.01 * random.standard_normal(len(true_a)))
    coarse += 200e-6 * random.standard_normal(len(true_a)) + 3e-6
    add(session, tmp_path, "fine", fine)
    add(session, tmp_path, "coarse", coarse)
    report = join_captures(session, "fine", "coarse", "joined")
    adopt(session, report)
    capture = session.capture("joined")
    whole = capture.whole()
    assert whole.coverage > 0.998
    bounds = capture.bounds(0.0, capture.duration_s)
    assert bounds.low_a is not None
    assert bounds.low_a <= true_a.mean() * 1.01
    assert whole.mean_a == pytest.approx(true_a.mean(), rel=0.02)
    sleep = capture.reading(12.0, 15.0)
    assert sleep.mean_a == pytest.approx(9e-6, rel=0.01)
    assert "joined with coarse" in capture.info.corrections[0]


def test_clipped_and_unresolved_samples_become_bounds(session, tmp_path, random) -> None:
    true_a = bursts()
    add(session, tmp_path, "fine", np.minimum(true_a + 0.2e-6 * random.standard_normal(len(true_a)), 1e-3))
    noisy = true_a * (1 + 0.02 * random.standard_normal(len(true_a))) + 50e-6 * random.standard_normal(len(true_a))
    add(session, tmp_path, "coarse", np.minimum(noisy, 0.145))
    join_captures(session, "fine", "coarse", "joined")
    session.add_run(msgspec.structs.replace(session.project.runs[0], name="joined"))
    capture = session.capture("joined")
    burst = capture.reading(0.92, 0.94)
    assert burst.coverage < 0.6
    bounds = capture.bounds(0.92, 0.94)
    assert bounds.high_a is None
    assert 0.13 < bounds.low_a < 0.15


def test_captures_of_other_work_are_not_joined(session, tmp_path, random) -> None:
    fine = np.minimum(bursts() + 1e-7 * random.standard_normal(200_000), 1e-3)
    add(session, tmp_path, "fine", fine)
    other = np.where(np.arange(200_000) % 31_000 < 1500, 0.1, 1e-6) + 1e-6 * random.standard_normal(200_000)
    add(session, tmp_path, "other", other)
    add(session, tmp_path, "quiet", np.full(200_000, 1e-5) + 1e-7 * random.standard_normal(200_000))
    with pytest.raises(BadArgumentError, match="same bursts"):
        join_captures(session, "fine", "other", "joined")
    with pytest.raises(BadArgumentError, match="not clipped"):
        join_captures(session, "other", "fine", "joined")
    with pytest.raises(BadArgumentError, match="never exceeds"):
        join_captures(session, "fine", "quiet", "joined")
