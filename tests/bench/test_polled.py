"""A meter that is asked for each reading: what it gave is what is kept, each reading at its own moment."""

from __future__ import annotations

import json
import time
from itertools import pairwise
from pathlib import Path

import h5py
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attribution.made import Made
from bench.fake_meter import FakeMeter
from warm_ember.bench.description import description_from, known_descriptions, read_description
from warm_ember.bench.link import Link
from warm_ember.bench.opening import instrument_on
from warm_ember.bench.reading_grid import ReadingGrid
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.bench import BenchSettings, Trigger, TriggerSource
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.finding import FindingKind
from warm_ember.model.readings import Readings
from warm_ember.session.session import Session
from warm_ember.signal.series import ArraySeries
from warm_ember.store.capture import Capture
from warm_ember.store.interrupted_recording import interrupted, recover
from warm_ember.store.recording_file import RecordingFile
from warm_ember.tuning.findings.registry import find_all

METER = {"format": 1, "name": "a meter", "identity": "Meter 3", "mode": "polled", "max_rate_hz": 50, "aperture_s": 0.01}


@pytest.fixture
def described(own_settings: None, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The folder of the user's own descriptions, with one of the meter."""
    import platformdirs

    folder = platformdirs.user_config_path("warm-ember") / "instruments"
    folder.mkdir(parents=True)
    (folder / "meter.json").write_text(json.dumps(METER))
    return folder


def test_a_meter_is_recorded_at_its_own_pace(described: Path, tmp_path: Path, command) -> None:
    with FakeMeter(lambda number: f"{1e-3 * (1 + number):.6E}") as meter:
        code, out, error = command(
            "record", tmp_path / "p", "--from", meter.address, "--duration", 1, "--name", "m", "--json"
        )
        assert (code, error) == (0, "")
        asked = np.array(meter.moments_s)
    found = json.loads(out)
    assert (found["samples"], found["sample_interval_s"]) == (50, 0.02)
    # Nothing that a meter without source or sweeps does not know is sent.
    assert not [one for one in meter.heard if one.upper().startswith(("OUTP", "SOUR", "SENS", "FORM", "INIT", "FETC"))]
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        readings = capture.readings
        assert readings is not None
        count = len(readings.time_s)
        np.testing.assert_allclose(readings.current_a, 1e-3 * (1 + np.arange(count)), rtol=1e-6)
        # Each at the moment midway between question and answer, which lie around those that the meter saw.
        after_s = np.append(asked[1:, 0], np.inf)
        earliest_s = (np.append(asked[0, 0] - 0.5, asked[:-1, 1]) + asked[:, 1]) / 2
        latest_s = (asked[:, 0] + after_s) / 2
        moments = readings.time_s - readings.time_s[0]
        assert (moments[1:] >= earliest_s[1:count] - latest_s[0]).all()
        assert (moments[1:] <= latest_s[1:count] - earliest_s[0]).all()
        assert (capture.info.reading_interval_s, capture.info.aperture_s) == (0.02, 0.01)
        # A reading holds until the next: charge is that of these steps, but for what came late on a busy machine.
        ends = np.append(moments[1:], np.inf).clip(max=1.0)
        held_s = ends - moments.clip(max=1.0)
        # The reading after the last one is not kept: it may have come late too.
        assert (held_s > 0.2).any() or held_s[count - 1 :].max() > 2.5 * 0.02 or found["missing"] == 0
        if not found["missing"]:
            assert capture.whole().charge_c == pytest.approx(float(np.sum(held_s * readings.current_a)), rel=1e-5)
    with h5py.File(tmp_path / "p" / "captures" / "m.h5") as file:
        assert set(file["readings"]) == {"time_s", "current_a"}
        assert len(file["current"]) == 50


def test_a_voltage_of_its_own_is_asked_for_too(tmp_path: Path) -> None:
    description = description_from(METER | {"commands": {"read_voltage": "READ?"}})
    with FakeMeter(lambda number: "2.5" if number % 2 else "1E-3") as meter:
        instrument = instrument_on(Link(meter.address, timeout_s=2.0), (description,))
        instrument.set_sweep(BenchSettings(interval_s=0.02), 3)
        instrument.start()
        blocks = [instrument.fetch() for _ in range(6)]
        instrument.close()
    current = np.concatenate([one.current for one in blocks])
    assert len(current) >= 2
    np.testing.assert_allclose(current, 1e-3)
    np.testing.assert_allclose(np.concatenate([one.voltage for one in blocks]), 2.5)


def test_its_pace_is_tried_where_nobody_said_it(tmp_path: Path) -> None:
    def slow(_number: int) -> str:
        time.sleep(0.02)
        return "1E-3"

    description = description_from({key: value for key, value in METER.items() if key != "max_rate_hz"})
    with FakeMeter(slow) as meter:
        instrument = instrument_on(Link(meter.address, timeout_s=2.0), (description,))
        fitted = instrument.fitted(BenchSettings(interval_s=1e-4))
        asked = instrument.fitted(BenchSettings(interval_s=10.0))
        instrument.close()
    assert 0.02 <= fitted.interval_s < 5.0
    assert asked.interval_s == 10.0


def test_late_and_overranged_readings_are_missing_and_the_rest_is_kept(
    described: Path, tmp_path: Path, command
) -> None:
    def answer(number: int) -> str:
        if number == 10:
            time.sleep(0.7)
        return "9.9E+37" if number == 20 else "OVLD" if number == 21 else "2.0E-3 A"

    with FakeMeter(answer) as meter:
        code, out, _ = command(
            "record", tmp_path / "p", "--from", meter.address, "--duration", 1, "--name", "m", "--json"
        )
    found = json.loads(out)
    assert code == 0
    assert found["samples"] == 50
    assert found["missing"] >= 10  # a step holds, the rest of the silence is missing
    with Session.open(tmp_path / "p") as session:
        capture = session.capture("m")
        values = capture.current.read(0, 50)
        np.testing.assert_allclose(values[~np.isnan(values)], 2e-3, rtol=1e-6)
        assert np.isnan(capture.readings.current_a[20:22]).all()


@pytest.mark.parametrize(
    ("answers", "words"),
    [
        (["1E-3"] * 10 + ["2.5 V"], "expected amperes after “READ?”, found “2.5 V”"),
        (["1E-3"] * 10 + ["hello"], "expected amperes after “READ?”, found “hello”"),
        (["1E-3"] * 10 + [None], "no answer to “READ?”"),
    ],
)
def test_what_came_before_a_fault_is_kept_and_the_fault_is_said(
    described: Path, tmp_path: Path, command, answers: list[str | None], words: str
) -> None:
    with FakeMeter(lambda number: answers[min(number, len(answers) - 1)]) as meter:
        code, out, error = command(
            "record", tmp_path / "p", "--from", meter.address, "--duration", 5, "--name", "m", "--timeout", 0.5
        )
    assert code == 2
    assert out == ""
    assert error.count("\n") == 1
    assert words in error
    assert "kept as 'm'" in error
    with Session.open(tmp_path / "p") as session:
        assert session.capture("m").current.samples >= 4
        assert len(session.capture("m").readings.time_s) == 10


def test_one_that_tells_no_errors_is_recorded_all_the_same(described: Path, tmp_path: Path, command) -> None:
    with FakeMeter(lambda _number: "1E-3", knows_errors=False) as meter:
        code, _, error = command("record", tmp_path / "p", "--from", meter.address, "--duration", 0.2, "--name", "m")
    assert (code, error) == (0, "")


def test_a_meter_of_which_nothing_is_known_is_asked_reading_by_reading(tmp_path: Path, command) -> None:
    with FakeMeter(lambda _number: "+1.5000E-03") as meter:
        code, out, error = command(
            "record",
            tmp_path / "p",
            "--from",
            meter.address,
            "--duration",
            1,
            "--interval",
            0.1,
            "--name",
            "m",
            "--json",
        )
    assert (code, error) == (0, "")
    assert (json.loads(out)["samples"], json.loads(out)["sample_interval_s"]) == (10, 0.1)
    with Session.open(tmp_path / "p") as session:
        assert session.capture("m").whole().mean_a == pytest.approx(1.5e-3)


def test_it_waits_for_no_trigger(described: Path) -> None:
    with FakeMeter(lambda _number: "1E-3") as meter:
        instrument = instrument_on(Link(meter.address, timeout_s=2.0), known_descriptions())
        with pytest.raises(BadArgumentError, match="it can wait for no trigger"):
            instrument.check(BenchSettings(trigger=Trigger(TriggerSource.LEVEL)))
        instrument.close()


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"max_rate_hz": 0}, "max_rate_hz above 0"),
        ({"aperture_s": -1}, "aperture_s above 0"),
        ({"commands": {"read": ""}}, "needs commands.read"),
        ({"mode": "asked"}, "mode"),
        ({"commands": []}, "commands"),
    ],
)
def test_a_wrong_description_is_told_by_its_key(tmp_path: Path, changes: dict[str, object], words: str) -> None:
    (tmp_path / "m.json").write_text(json.dumps(METER | changes))
    with pytest.raises(BadFileError, match=words):
        read_description(tmp_path / "m.json")


@given(st.data())
def test_charge_is_that_of_what_held_however_the_readings_come(data: st.DataObject) -> None:
    """Samples add up to the readings' own steps, in whichever pieces these come; a long silence is missing."""
    steps_s = np.array(data.draw(st.lists(st.floats(0.01, 0.5), min_size=2, max_size=60)))
    times_s = 7.0 + np.cumsum(steps_s)
    values = np.array([1e-3 * (1 + n % 7) for n in range(len(times_s))])
    grid, pieces, at = ReadingGrid(0.05, 0.1), [], 0
    while at < len(times_s):
        count = data.draw(st.integers(1, 9))
        pieces.append(grid.add(times_s[at : at + count], values[at : at + count]))
        at += count
    made = np.concatenate([one.current for one in pieces]).astype(np.float64)
    held_s = np.where(np.diff(times_s) > 0.25, 0.1, np.diff(times_s))
    known = ~np.isnan(made)
    assert len(made) == int((times_s[-1] - times_s[0]) / 0.05 + 1e-9)
    whole_s = len(made) * 0.05
    begins = times_s[:-1] - times_s[0]
    inside_s = np.clip(np.minimum(begins + held_s, whole_s) - begins, 0.0, None)
    charge_c = float(np.sum(inside_s * values[:-1]))
    # A sample that is measured for less than half its length is missing, one for more than that counts as whole.
    gaps = int((np.diff(times_s) > 0.25).sum())
    assert float(made[known].sum() * 0.05) == pytest.approx(charge_c, rel=1e-6, abs=gaps * 0.05 * 7e-3 + 1e-9)
    readings = np.concatenate([one.readings.time_s for one in pieces])
    np.testing.assert_allclose(readings, times_s - times_s[0], atol=1e-9)


@given(st.data())
def test_each_reading_out_of_range_leaves_a_sample_missing(data: st.DataObject) -> None:
    """However short it held and wherever it lies: nothing stands for a current that nobody read."""
    steps_s = np.array(data.draw(st.lists(st.floats(0.01, 0.2), min_size=3, max_size=60)))
    times_s = np.cumsum(steps_s)
    over = np.array(data.draw(st.lists(st.booleans(), min_size=len(times_s), max_size=len(times_s))))
    values = np.where(over, np.nan, 1e-3)
    grid, pieces, at = ReadingGrid(0.05, 0.1), [], 0
    while at < len(times_s):
        count = data.draw(st.integers(1, 9))
        pieces.append(grid.add(times_s[at : at + count], values[at : at + count]).current)
        at += count
    made = np.concatenate([*pieces, grid.finish().current])
    at_once = ReadingGrid(0.05, 0.1)
    np.testing.assert_array_equal(
        made, np.concatenate([at_once.add(times_s, values).current, at_once.finish().current])
    )
    begins_s = times_s - times_s[0]
    for begin_s, end_s in zip(begins_s[:-1][over[:-1]], begins_s[1:][over[:-1]], strict=True):
        held = np.arange(int(begin_s / 0.05 + 1e-6), min(int(np.ceil(end_s / 0.05 - 1e-6)), len(made)))
        assert not len(held) or np.isnan(made[held]).any()


@pytest.mark.parametrize(("swings", "apart_s", "aperture_s", "is_told"), [
    (True, 0.1, 0.02, True),
    (True, 0.1, None, True),
    (False, 0.1, 0.02, False),
    (True, 0.1, 0.09, False),
    (True, 1e-3, None, False),
    (True, None, None, False),
])  # fmt: skip
def test_what_lies_between_readings_is_a_fault_where_anything_changes(
    swings: bool, apart_s: float | None, aperture_s: float | None, is_told: bool
) -> None:
    random = np.random.default_rng(3)
    values = 1e-3 * (1 + 0.001 * random.standard_normal(3000))
    if swings:
        values[1000:2000] *= 5
    info = CaptureInfo(0.1, reading_interval_s=apart_s, aperture_s=aperture_s)
    recording = Made(ArraySeries(values.astype(np.float32), 0.1), info=info)
    found = [one for one in find_all(recording) if one.kind is FindingKind.UNDERSAMPLED]
    assert len(found) == is_told
    if is_told:
        assert "a reading every 100 ms" in found[0].text
        assert ("pulses shorter than 80.0 ms" if aperture_s else "pulses shorter than 100 ms") in found[0].text
        assert found[0].cost_a is None


def test_an_interrupted_recording_keeps_its_readings(tmp_path: Path) -> None:
    path = tmp_path / "m.h5"
    file = RecordingFile(path, CaptureInfo(0.1), with_readings=True)
    given_readings = Readings(np.array([0.0, 0.11, 0.19]), np.array([1e-3, 2e-3, np.nan], dtype=np.float32))
    file.append(np.array([1e-3], dtype=np.float32), readings=given_readings)
    file.append(np.empty(0, dtype=np.float32), readings=given_readings.later(0.3, 0.4))
    file.flush()
    file.leave()
    assert recover(interrupted(tmp_path)[0], path) == 1
    with Capture(path) as capture:
        kept = capture.readings
        assert kept is not None
        np.testing.assert_allclose(kept.time_s, [0.0, 0.11, 0.19, 0.3])
        np.testing.assert_allclose(kept.current_a, [1e-3, 2e-3, np.nan, 1e-3])


@given(st.lists(st.tuples(st.floats(0.02, 0.6), st.booleans()), min_size=2, max_size=40))
def test_a_silence_may_close_the_last_reading_and_others_come_all_the_same(steps: list[tuple[float, bool]]) -> None:
    """Each sample comes once and in its place, whether or not a reading was closed before the next one came."""
    plain, closing = ReadingGrid(0.05, 0.1), ReadingGrid(0.05, 0.1)
    at_s, open_grid, closed = 0.0, [], []
    for number, (step_s, closes) in enumerate(steps):
        at_s += step_s
        time_s, value = np.array([at_s]), np.array([1e-3 * (1 + number % 5)])
        open_grid.append(plain.add(time_s, value).current)
        closed.append(closing.add(time_s, value).current)
        if closes:
            closed.append(closing.finish().current)
    ends = [np.concatenate([*parts, grid.finish().current]) for parts, grid in ((open_grid, plain), (closed, closing))]
    early = sum(closes and after_s < 0.1 for (_, closes), (after_s, _) in pairwise(steps))
    assert abs(len(ends[0]) - len(ends[1])) <= 1 + 2 * early  # one that came before the last was taken to end
    shared = min(map(len, ends))
    both = ~np.isnan(ends[0][:shared]) & ~np.isnan(ends[1][:shared])
    apart = np.abs(ends[0][:shared] - ends[1][:shared])[both]
    # Only those samples can differ in which a reading was taken to hold for longer than it did.
    assert (apart > 1e-9).sum() <= 3 * early + sum(closes for _, closes in steps)
