"""Recordings from the simulated bench over a socket: true, long enough, and safe through every fault."""

from __future__ import annotations

import dataclasses
import errno
import re
import threading
import time
from pathlib import Path

import msgspec
import numpy as np
import pytest

from attribution.made import ArrayLines, Made
from bench.benches import AskedClock, Serve, address, console_address
from bench.fake_instrument import FakeInstrument
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.bench.console import Console
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.recorder import Ending, Job, Recorder
from warm_ember.bench.simulated.direct import noise_of
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.firmware import FIRMWARE, LINES, Post
from warm_ember.bench.simulated.ranges import Noise
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import InstrumentError
from warm_ember.model.bench import (
    DEFAULT_PATTERNS,
    Attached,
    Bench,
    BenchSettings,
    Identity,
    Recipe,
    Send,
    SwitchOutput,
    Take,
    Trigger,
    TriggerSource,
    WaitFor,
)
from warm_ember.model.capture import CaptureInfo
from warm_ember.session.recording import RecordRequest, adopt_recorded, record
from warm_ember.session.session import Session
from warm_ember.signal.series import ArraySeries, never
from warm_ember.store.capture import Capture
from warm_ember.store.interrupted_recording import interrupted
from warm_ember.store.recording_file import RecordingFile

SETTINGS = BenchSettings(voltage_v=3.0, limit_a=1.0, interval_s=1e-4, duration_s=2.0)
PLAIN = (SwitchOutput(), Take())
FAULTS = 20
WAITED = 2  # of faults that show by a long silence alone


def request(resource: str, settings: BenchSettings = SETTINGS, **changes: object) -> RecordRequest:
    bench = {"resource": resource, "guard_v": 3.6} | changes.pop("bench", {})  # type: ignore[operator]
    steps = changes.pop("steps", PLAIN)
    recipe = Recipe("test", settings, steps)  # type: ignore[arg-type]
    return RecordRequest(Bench(**bench), recipe, **({"name": "a", "timeout_s": 8.0} | changes))  # type: ignore[arg-type]


@pytest.fixture
def session(tmp_path: Path):
    with Session.open_or_create(tmp_path / "project") as opened:
        yield opened


@pytest.mark.parametrize("firmware", FIRMWARE, ids=lambda one: one.name)
def test_a_recording_has_the_ledger_of_its_direct_simulation(serve: Serve, session: Session, firmware) -> None:
    """Over the socket, placed by the console's lines, against the same life sampled without a bench."""
    server = serve(firmware.name, clock=AskedClock(step_s=0.25), report_at_s=12.0)
    settings = msgspec.structs.replace(SETTINGS, duration_s=60.0)
    wanted = request(address(server), settings, bench={"console": console_address(server)})
    (recorded,) = record(session, wanted, should_stop=never)
    assert (recorded.samples, recorded.missing, recorded.ending) == (600_000, 0, Ending.DONE)
    adopt_recorded(session, recorded)
    found = session.run("a").ledger
    armed_s = server.instrument.sweep.armed_s if server.instrument.sweep else ARMED[0]
    expected = direct_ledger(firmware, armed_s, 60.0)
    assert {row.name for row in found.rows} == {row.name for row in expected.rows}
    whole = sum(row.charge_c for row in expected.rows)
    for row in expected.rows:
        same = found.row(row.name)
        assert same.charge_c == pytest.approx(row.charge_c, rel=0.01, abs=1e-3 * whole)
        assert same.dwell_s == pytest.approx(row.dwell_s, rel=0.01, abs=0.02)
    differing = {row.name: found.row(row.name).entries - row.entries for row in expected.rows}
    assert sum(map(abs, differing.values())) <= 2, differing  # one cut off by an end may be shorter than a sample
    assert session.capture("a").whole().charge_c == pytest.approx(whole, rel=1e-3)


ARMED: list[float] = []


@pytest.fixture(autouse=True)
def _remember_when_armed(monkeypatch: pytest.MonkeyPatch) -> None:
    """The bench forgets its sweep when it is stopped; the comparison needs to know when it began."""
    from warm_ember.bench.simulated.instrument import SimulatedInstrument

    abort = SimulatedInstrument._abort

    def remembering(self: SimulatedInstrument) -> None:
        if self.sweep is not None:
            ARMED[:] = [self.sweep.armed_s]
        abort(self)

    monkeypatch.setattr(SimulatedInstrument, "_abort", remembering)


def direct_ledger(firmware, start_s: float, duration_s: float):
    post = Post(firmware, 1, report_at_s=12.0)
    post.run(start_s + duration_s)
    events = tuple(msgspec.structs.replace(event, time_s=event.time_s - start_s) for event in post.log.events)
    sampler = Sampler(post, start_s, 1e4, supply_v=3.0, limit_a=1.0, noise=Noise(noise_of(firmware, 1)))
    piece = sampler.take(round(duration_s * 1e4))
    made = Made(ArraySeries(piece.current, 1e-4), events, ArrayLines(piece.lines, LINES, 1e-4), info=CaptureInfo(1e-4))
    return make_ledger(made, place(made))


def quick(
    server,
    path: Path,
    *,
    reconnect_s: float = 0.0,
    settings: BenchSettings = SETTINGS,
    timeout_s: float = 8.0,
    console: Console | None = None,
) -> Recorder:
    station = InstrumentConnection(address(server), timeout_s=timeout_s)
    station.instrument.set_source(settings)
    station.instrument.switch(on=True)
    job = Job(path, settings, CaptureInfo(settings.interval_s), reconnect_s=reconnect_s)
    job = dataclasses.replace(job, patterns=Patterns(DEFAULT_PATTERNS))
    return Recorder(station, job, console)


@pytest.mark.parametrize("mode", [FaultMode.SLOW, FaultMode.FRAGMENTED])
def test_slow_and_broken_up_answers_lose_nothing(serve: Serve, tmp_path: Path, mode: FaultMode) -> None:
    server = serve(speed=20.0, fault=Fault(mode, delay_s=0.01))
    settings = msgspec.structs.replace(SETTINGS, duration_s=0.4)
    for turn in range(FAULTS):
        recorder = quick(server, tmp_path / f"{turn}.h5", settings=settings)
        recorded = recorder.run(never)
        recorder.station.close()
        assert (recorded.samples, recorded.missing, recorded.fault) == (4000, 0, None)


@pytest.mark.parametrize(
    ("mode", "words", "turns"),
    [
        (FaultMode.DISCONNECT, "hung up|broke", FAULTS),
        (FaultMode.ERRORS, "a failure inside|does not go with", WAITED),
        (FaultMode.REBOOT, "hung up|broke|does not go with", FAULTS),
        (FaultMode.GARBAGE, "expected a block", FAULTS),
        (FaultMode.WRONG_LENGTH, "no answer|another length|expected", WAITED),
        (FaultMode.SILENT, "no answer", WAITED),
    ],
)
def test_a_fault_keeps_what_came_and_switches_off(
    serve: Serve, tmp_path: Path, mode: FaultMode, words: str, turns: int
) -> None:
    server = serve(clock=AskedClock(step_s=0.05))
    for turn in range(turns):
        server.fault = Fault(mode, after=3, delay_s=0.02)
        recorder = quick(server, tmp_path / f"{turn}.h5", timeout_s=8.0 if turns == FAULTS else 3.0)
        recorded = recorder.run(never)
        recorder.station.close()
        assert recorded.ending is Ending.FAULT
        assert recorded.fault is not None
        assert re.search(words, recorded.fault.one_line), recorded.fault.one_line
        assert address(server) in recorded.fault.one_line
        with Capture(tmp_path / f"{turn}.h5") as kept:
            assert 0 < kept.current.samples == recorded.samples < 20_000
            assert not np.isnan(kept.current.read(0, recorded.samples)).any()
        assert not server.instrument.is_on


@pytest.mark.parametrize("mode", [FaultMode.DISCONNECT, FaultMode.REBOOT, FaultMode.SILENT])
def test_a_lost_link_is_found_again_and_the_gap_is_marked(serve: Serve, tmp_path: Path, mode: FaultMode) -> None:
    server = serve(speed=2.0)
    settings = msgspec.structs.replace(SETTINGS, duration_s=0.8)
    for turn in range(8 if mode is FaultMode.DISCONNECT else 3):
        server.fault = Fault(mode, after=3, delay_s=0.1)
        timeout_s = 2.0 if mode is FaultMode.SILENT else 8.0
        recorder = quick(server, tmp_path / f"{turn}.h5", reconnect_s=30.0, timeout_s=timeout_s, settings=settings)
        try:
            recorded = recorder.run(never)
        finally:
            recorder.station.close()
        assert (recorded.samples, recorded.fault) == (8000, None)
        assert recorded.gaps >= 1
        with Capture(tmp_path / f"{turn}.h5") as kept:
            missing = np.isnan(kept.current.read(0, 8000))
            edges = np.flatnonzero(np.diff(missing.astype(int)))
            assert missing.sum() == recorded.missing
            assert len(edges) in (1, 2)  # on a slow machine the gap may reach to the end
            mark = kept.events[0]
            assert mark.name.startswith("link lost for")
            assert mark.time_s * 2 == pytest.approx(edges[0] * 1e-4, abs=0.8)


def test_what_a_strange_instrument_measured_is_what_is_kept(session: Session) -> None:
    values = np.linspace(1e-6, 1e-2, 5000, dtype=np.float32)
    values[40:60] = 9.91e37
    settings = BenchSettings(voltage_v=3.0, interval_s=1e-3, duration_s=5.0)
    with FakeInstrument(values, np.full(5000, 2.9, np.float32), (1, 0, 999, 2)) as fake:
        (recorded,) = record(session, request(fake.address, settings), should_stop=never)
    assert (recorded.samples, recorded.missing) == (5000, 20)
    capture = session.capture("a")
    np.testing.assert_array_equal(capture.current.read(0, 5000), np.where(values > 1e37, np.nan, values))
    assert not fake.is_on


def test_an_instrument_of_short_sweeps_takes_several(session: Session, tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setattr("platformdirs.user_config_path", lambda *_a, **_k: tmp_path / "config")
    (tmp_path / "config" / "instruments").mkdir(parents=True)
    description = '{"format": 1, "name": "short", "identity": "^Any", "max_points": 400}'
    (tmp_path / "config" / "instruments" / "short.json").write_text(description)
    values = np.linspace(1e-6, 1e-3, 400, dtype=np.float32)
    settings = BenchSettings(interval_s=1e-3, duration_s=1.0)
    with FakeInstrument(values) as fake:
        (recorded,) = record(session, request(fake.address, settings), should_stop=never)
    assert fake.heard.count("INITiate") >= 2
    assert recorded.samples == 1000
    assert recorded.gaps == 0  # the link was never lost
    with session.capture("a") as capture:
        assert capture.events
        assert all("the next sweep began after" in event.name for event in capture.events)


def test_stopping_keeps_what_came_and_nothing_runs_on(serve: Serve, session: Session) -> None:
    server = serve()
    stop, endless = threading.Event(), msgspec.structs.replace(SETTINGS, duration_s=None)

    def stop_soon(recorder: Recorder) -> None:
        threading.Thread(target=lambda: stop_when(recorder, stop)).start()

    (recorded,) = record(session, request(address(server), endless), should_stop=stop.is_set, started=stop_soon)
    assert recorded.ending is Ending.STOPPED
    assert recorded.samples >= 5000
    assert not server.instrument.is_on
    assert not interrupted(session.folder.captures)


def stop_when(recorder: Recorder, stop: threading.Event) -> None:
    while recorder.samples < 5000:
        stop.wait(0.01)
    stop.set()


def test_a_nearly_full_disk_ends_it_and_keeps_what_came(serve: Serve, tmp_path: Path) -> None:
    recorder = quick(serve(), tmp_path / "a.h5", settings=msgspec.structs.replace(SETTINGS, duration_s=20.0))
    recorder.job = Job(tmp_path / "a.h5", recorder.job.settings, recorder.job.info, spare_bytes=1 << 60)
    recorded = recorder.run(never)
    recorder.station.close()
    assert recorded.ending is Ending.DISK
    with Capture(tmp_path / "a.h5") as kept:
        assert kept.current.samples == recorded.samples > 0


def test_a_full_disk_switches_off_and_keeps_what_was_written(serve: Serve, tmp_path: Path, monkeypatch) -> None:
    server = serve()
    append = RecordingFile.append

    def full_after_a_while(self: RecordingFile, *pieces: np.ndarray) -> None:
        if self.samples > 3000:
            raise OSError(errno.ENOSPC, "No space left on device")
        append(self, *pieces)

    monkeypatch.setattr(RecordingFile, "append", full_after_a_while)
    recorder = quick(server, tmp_path / "a.h5")
    recorded = recorder.run(never)
    recorder.station.close()
    assert recorded.ending is Ending.DISK
    assert "the disk is full" in recorded.fault.one_line
    assert not server.instrument.is_on
    with Capture(tmp_path / "a.h5") as kept:
        assert kept.current.samples == recorded.samples > 3000


def test_what_hangs_on_the_rail_is_subtracted_with_its_reason(serve: Serve, session: Session) -> None:
    server = serve()
    server.instrument.target.attach("debugger", attached=True)
    server.instrument.target.attach("meter", attached=True)
    parts = (
        Attached("Debug probe", 1.3e-6, subtracted=True),
        Attached("Meter", ohm=2.2e6, subtracted=True),
        Attached("Logic pod", 5e-6, subtracted=True, present=False),
    )
    means = {}
    for name, attached in (("with", ()), ("without", parts)):
        settings = msgspec.structs.replace(SETTINGS, duration_s=0.4)
        wanted = request(address(server), settings, name=name, bench={"attached": attached})
        adopt_recorded(session, record(session, wanted, should_stop=never)[0])
        means[name] = float(np.median(session.capture(name).current.read(0, 4000)))
    assert means["with"] - means["without"] == pytest.approx(1.3e-6 + 3.0 / 2.2e6, abs=0.05e-6)
    corrections = session.capture("without").info.corrections
    assert any("Debug probe" in one for one in corrections)
    assert any("Meter" in one for one in corrections)
    assert not any("Logic pod" in one for one in corrections)


def test_a_recipe_boots_waits_sends_and_records_twice(serve: Serve, session: Session) -> None:
    server = serve(speed=10.0)
    steps = (
        SwitchOutput(cycle=True), WaitFor("^boot", 5.0), Take(1.0, "at boot"), Send("version"),
        WaitFor("trail counter r5", 5.0), Take(0.5),
    )  # fmt: skip
    identity = Identity("post", "rev C", "r5", "release", 21.0, "off")
    bench = {"console": console_address(server), "identity": identity}
    said: list[str] = []
    wanted = request(address(server), SETTINGS, steps=steps, bench=bench)
    taken = record(session, wanted, should_stop=never, said=said.append)
    assert [one.samples for one in taken] == [10_000, 5000]
    assert [one.name for one in taken] == ["a at boot", "a"]
    assert "send “version”" in said
    info = Capture(session.folder.capture_path("a")).info
    assert (info.target, info.board, info.firmware, info.temperature_c) == ("post", "rev C", "r5", 21.0)
    assert msgspec.json.decode(info.recipe, type=Recipe).steps == steps
    assert info.supply_v == 3.0


def test_a_recipe_that_waits_in_vain_says_so_and_switches_off(serve: Serve, session: Session) -> None:
    server = serve()
    steps = (SwitchOutput(), WaitFor("never said", 0.3), Take(1.0))
    wanted = request(address(server), SETTINGS, steps=steps, bench={"console": console_address(server)})
    with pytest.raises(InstrumentError, match="did not say “never said”"):
        record(session, wanted, should_stop=never)
    assert not server.instrument.is_on
    assert not list(session.folder.path.glob("captures/*"))


def test_a_trigger_keeps_what_came_before_it(serve: Serve, session: Session) -> None:
    server = serve(clock=AskedClock(0.05))  # what is asked decides, not how busy the machine is
    trigger = Trigger(TriggerSource.LEVEL, 0.5e-3, before_s=0.05)
    settings = msgspec.structs.replace(SETTINGS, duration_s=0.2, trigger=trigger)
    record(session, request(address(server), settings), should_stop=never)
    with Capture(session.folder.capture_path("a")) as capture:
        read = capture.current.read(0, 2000)
    # Another wake may lie within the time before, by chance of when the target was asked: the edge tells.
    assert len(read) == 2000
    assert read[499] < 0.5e-3 <= read[500]


def test_marks_and_console_share_one_clock(serve: Serve, tmp_path: Path) -> None:
    server = serve()
    console = Console(console_address(server))
    settings = msgspec.structs.replace(SETTINGS, duration_s=2.5)
    recorder = quick(server, tmp_path / "a.h5", settings=settings, console=console)
    marked_s: list[float] = []
    marker = threading.Thread(target=lambda: marked_s.extend(mark_at(recorder, 10_000)))
    marker.start()
    recorder.run(never)
    marker.join()
    recorder.station.close()
    console.close()
    with Capture(tmp_path / "a.h5") as kept:
        alignment = place(kept).alignment
        (mark,) = [event for event in kept.events if event.event == "mark"]
        # How late the thread comes to mark is the machine's affair. When it did is known, but for how late lines come.
        before_s, after_s = (moment_s - recorder.started_s for moment_s in marked_s)
        assert before_s - 1.0 <= alignment.to_capture(mark.time_s) <= after_s + 1.0


def mark_at(recorder: Recorder, samples: int) -> tuple[float, float]:
    """Mark the moment when so many samples are there; return just before and just after it, by the monotonic clock."""
    waiting = threading.Event()
    while recorder.samples < samples:
        waiting.wait(0.005)
    before_s = time.monotonic()
    recorder.mark("here")
    return before_s, time.monotonic()
