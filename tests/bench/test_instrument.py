"""The client: descriptions, the link, what is sent, and what comes back wrong."""

from __future__ import annotations

import socket
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.benches import AskedClock, Serve, address
from bench.fake_instrument import FakeInstrument
from warm_ember.bench.description import (
    Commands,
    InstrumentDescription,
    description_for,
    known_descriptions,
    read_description,
)
from warm_ember.bench.discovery import find_instruments
from warm_ember.bench.link import Link
from warm_ember.bench.opening import instrument_on, open_instrument
from warm_ember.bench.scpi_errors import error_words, parse_error
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.instrument import IDENTITY
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import BadArgumentError, BadFileError, InstrumentError
from warm_ember.model.bench import BenchSettings, Trigger, TriggerSource

VALUES = np.linspace(-1e-6, 0.2, 999, dtype=np.float32)


def test_the_simulated_bench_is_known_and_any_other_is_generic() -> None:
    known = known_descriptions(())
    assert description_for(IDENTITY, known).name == "simulated bench"
    other = description_for("Any Maker,Model 1,0,1", known)
    assert other.name == "generic SCPI source-measure unit"
    assert "lines" not in other.sense


def test_a_users_own_description_comes_first(tmp_path: Path) -> None:
    (tmp_path / "mine.json").write_text(
        '{"format": 1, "name": "mine", "identity": "^Warm Ember", "sense": ["current"]}'
    )
    assert description_for(IDENTITY, known_descriptions((tmp_path,))).name == "mine"


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ("{", "no instrument description"),
        ('{"format": 1}', "name"),
        ('{"format": 2, "name": "x"}', "expected format 1"),
        ('{"format": 1, "name": "x", "identity": "("}', "no regular expression"),
        ('{"format": 1, "name": "x", "sense": ["voltage"]}', "current"),
        ('{"format": 1, "name": "x", "sense": ["current", "lines"]}', "line_names"),
        ('{"format": 1, "name": "x", "colour": 3}', "colour"),
        ('{"format": 1, "name": "x", "commands": {"start": "GO {fast}"}}', "braces"),
        ('{"format": 1, "name": "x", "interval_s": [1.0, 0.1]}', "shortest"),
        ('{"format": 1, "name": "x", "ranges": [{"full_a": 1}, {"full_a": 0.1}]}', "lowest first"),
    ],
)
def test_a_wrong_description_is_refused_by_file_and_key(tmp_path: Path, content: str, words: str) -> None:
    path = tmp_path / "wrong.json"
    path.write_text(content)
    with pytest.raises(BadFileError, match=words) as caught:
        read_description(path)
    assert str(path) in caught.value.one_line


@given(st.text(max_size=40))
def test_any_answer_about_errors_is_a_number_or_none(answer: str) -> None:
    found = parse_error(answer)
    assert found is None or isinstance(found[0], int)


def test_errors_are_said_in_words() -> None:
    assert error_words(-113, "Undefined header").startswith("it does not know this command")
    assert error_words(-299, "") == "it could not do this (-299)"
    assert "of its make" in error_words(42, "Fan stuck")


@pytest.mark.parametrize(
    ("data_format", "byte_order", "kind", "asked"),
    [
        ("ascii", "big", "", "FORMat ASCii"),
        ("real64", "big", ">f8", "FORMat REAL,64"),
        ("real64", "little", "<f8", "FORMat REAL,64"),
        ("real32", "little", "<f4", "FORMat REAL,32"),
    ],
)
@pytest.mark.parametrize("has_lengths", [True, False])
def test_samples_come_in_any_format(
    data_format: str, byte_order: str, kind: str, asked: str, has_lengths: bool
) -> None:
    sent = VALUES.copy()
    sent[[3, 500]] = 9.91e37, -9.9e37
    description = InstrumentDescription(1, "any", data_format=data_format, byte_order=byte_order)
    with FakeInstrument(sent) as fake:
        fake.number_format, fake.has_lengths = kind, has_lengths
        instrument = instrument_on(Link(fake.address, timeout_s=2.0), (description,))
        instrument.set_sweep(BenchSettings(interval_s=1e-3), len(sent))
        instrument.start()
        current = np.concatenate([instrument.fetch().current for _ in range(4)])
        assert instrument.link.is_in_step
        instrument.close()
    np.testing.assert_allclose(current, np.where(np.abs(sent) > 1e37, np.nan, sent), rtol=1e-6)
    assert asked in fake.heard


def test_text_that_is_no_numbers_is_told() -> None:
    description = InstrumentDescription(1, "any", data_format="ascii")
    with FakeInstrument(VALUES) as fake:
        instrument = instrument_on(Link(fake.address, timeout_s=2.0), (description,))
        instrument.start()
        with pytest.raises(InstrumentError, match="expected numbers with commas between"):
            instrument.fetch()
        instrument.close()


def test_samples_come_as_they_were_measured_and_missing_ones_are_missing() -> None:
    sent = VALUES.copy()
    sent[[3, 500]], sent[[7, 8]] = 9.91e37, (9.9e37, -9.9e37)
    with FakeInstrument(sent, 3.0 - VALUES) as fake:
        instrument = open_instrument(fake.address, timeout_s=2.0)
        instrument.set_sweep(BenchSettings(interval_s=1e-3), len(sent))
        instrument.start()
        pieces = [instrument.fetch() for _ in range(4)]
        instrument.close()
    current = np.concatenate([piece.current for piece in pieces])
    expected = np.where(np.abs(sent) > 1e37, np.nan, sent)
    np.testing.assert_array_equal(current, expected)
    np.testing.assert_array_equal(np.concatenate([piece.voltage for piece in pieces]), 3.0 - VALUES)
    assert "FORMat REAL,32" in fake.heard
    assert f"SENSe:SWEep:POINts {len(sent)}" in fake.heard


def test_blocks_without_a_length_are_read_up_to_their_end() -> None:
    values = np.frombuffer(np.arange(3000, dtype=np.uint32).tobytes(), dtype=np.float32) + np.float32(10.0)
    values[100] = np.frombuffer(b"\n\n\n\n", dtype=np.float32)[0]  # a line end within the block is none of its end
    with FakeInstrument(values, pieces=(1000, 0, 2000)) as fake:
        fake.has_lengths = False
        instrument = open_instrument(fake.address.lower(), timeout_s=5.0)
        instrument.start()
        pieces = [instrument.fetch().current for _ in range(3)]
        instrument.close()
    np.testing.assert_array_equal(np.concatenate(pieces), values)


def test_an_empty_command_is_not_sent() -> None:
    silent = msgspec.structs.replace(Commands(), error="", complete="", clear="", reset="", range="", stop="")
    description = InstrumentDescription(format=1, name="quiet", commands=silent)
    with FakeInstrument(VALUES) as fake:
        instrument = instrument_on(Link(fake.address, timeout_s=2.0), (description,))
        instrument.reset()
        instrument.set_sweep(BenchSettings(interval_s=1e-3), 10)
        assert instrument.make_safe()
        instrument.close()
        assert fake.has_left.wait(30)
        assert "" not in fake.heard
        assert "OUTPut 0" in fake.heard


def test_a_make_without_voltage_is_recorded_without() -> None:
    with FakeInstrument(VALUES) as fake:
        instrument = open_instrument(fake.address, timeout_s=2.0)
        instrument.start()
        piece = instrument.fetch()
        instrument.close()
    assert piece.voltage is None
    assert instrument.senses == ("current",)


def test_a_refused_setting_is_told_in_words() -> None:
    with FakeInstrument(VALUES) as fake:
        fake.refuse = "SENSE:SWEEP:TINTERVAL"
        instrument = open_instrument(fake.address, timeout_s=2.0)
        with pytest.raises(InstrumentError, match="the value is outside what it can do"):
            instrument.set_sweep(BenchSettings(interval_s=1e-9), 10)
        instrument.close()


def test_only_commands_of_the_standard_are_sent_to_an_unknown_make() -> None:
    with FakeInstrument(VALUES, VALUES) as fake:
        instrument = open_instrument(fake.address, timeout_s=2.0)
        instrument.reset()
        settings = BenchSettings(3.0, 0.1, 1e-2, 1e-3, 1.0, Trigger(TriggerSource.LEVEL, 1e-3))
        instrument.set_source(settings)
        instrument.switch(on=True)
        instrument.set_sweep(settings, 999)
        instrument.start()
        instrument.fetch()
        instrument.make_safe()
        instrument.close()
    allowed = ("*IDN?", "*RST", "*CLS", "*OPC?", "SYSTem:ERRor?", "SOURce:VOLTage ", "SOURce:CURRent:LIMit ", "OUTPut ",
               "SENSe:CURRent:RANGe ", "SENSe:SWEep:TINTerval ", "SENSe:SWEep:POINts ", "FORMat REAL,32",
               "TRIGger:SOURce ", "TRIGger:LEVel ", "TRIGger:SLOPe ", "INITiate", "ABORt", "FETCh:ARRay:CURRent?",
               "FETCh:ARRay:VOLTage?")  # fmt: skip
    assert [message for message in fake.heard if not message.startswith(allowed)] == []
    assert not fake.is_on


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        (BenchSettings(voltage_v=4.0), "above the guard"),
        (BenchSettings(voltage_v=-1.0), "0 V or above"),
        (BenchSettings(voltage_v=float("nan")), "0 V or above"),
        (BenchSettings(limit_a=3.0), "current limit"),
        (BenchSettings(interval_s=1e-9), "samples every"),
        (BenchSettings(duration_s=1e-9), "one interval at least"),
        (BenchSettings(trigger=Trigger(TriggerSource.LINE, line="NOPE")), "NOPE"),
        (BenchSettings(trigger=Trigger(before_s=-1.0)), "0 or above"),
    ],
)
def test_nothing_is_sent_when_settings_are_impossible(serve: Serve, settings: BenchSettings, words: str) -> None:
    server = serve()
    instrument = open_instrument(address(server), guard_v=3.6)
    with pytest.raises(BadArgumentError, match=words):
        instrument.check(settings)
    instrument.close()
    assert not server.instrument.is_on


@given(st.floats(0, 6))
def test_no_voltage_above_the_guard_ever_leaves(voltage_v: float) -> None:
    sent: list[str] = []

    class Spy:
        resource = "spy"

        def write(self, message: str) -> None:
            sent.append(message)

        def query(self, message: str) -> str:
            return "A,B,C,D" if message == "*IDN?" else "0"

    instrument = instrument_on(Spy(), known_descriptions(()), guard_v=3.6)  # type: ignore[arg-type]
    sent.clear()
    try:
        instrument.set_source(BenchSettings(voltage_v=voltage_v))
    except BadArgumentError:
        assert voltage_v > 3.6
        assert sent == []
    else:
        assert float(sent[-1].split()[1]) == pytest.approx(voltage_v, rel=1e-8, abs=1e-12)
        assert voltage_v <= 3.6 * (1 + 1e-8)


@pytest.mark.parametrize(
    "resource", ["TCPIP::127.0.0.1::1::SOCKET", "ASRL/dev/nothing::INSTR", "nonsense", "TCPIP::", ""]
)
def test_a_wrong_address_is_named(resource: str) -> None:
    with pytest.raises(InstrumentError, match="no instrument answers there") as caught:
        open_instrument(resource, timeout_s=0.5)
    assert "\n" not in caught.value.one_line
    assert resource in caught.value.one_line


@pytest.mark.parametrize(
    ("resource", "error", "words"),
    [
        ("USB0::0x0A1B::0x5678::N::INSTR", OSError("[Errno 13] Access denied (insufficient permissions)"), '=="0a1b"'),
        ("USB0::2587::1::N::INSTR", PermissionError(13, "Permission denied"), '=="0a1b"'),
        ("USB0::0x0A1B::0x5678::N::INSTR", ValueError("No backend available"), "apt-get install libusb-1.0-0"),
        ("USB0::0x0A1B::0x5678::N::INSTR", ValueError("No device found."), "check the address"),
        ("ASRL/dev/ttyUSB0::INSTR", OSError("could not open port: [Errno 13] Permission denied"), "dialout"),
        ("TCPIP::h::5025::SOCKET", OSError("[Errno 13] Permission denied"), "check the address"),
    ],
)
def test_what_keeps_a_resource_from_opening_is_explained(
    monkeypatch: pytest.MonkeyPatch, resource: str, error: Exception, words: str
) -> None:
    def refuse(*_: object, **__: object) -> None:
        raise error

    monkeypatch.setattr("pyvisa.ResourceManager.open_resource", refuse)
    with pytest.raises(InstrumentError, match="no instrument answers there") as caught:
        Link(resource, timeout_s=0.1)
    assert words in caught.value.one_line


def test_somebody_who_says_nothing_and_somebody_who_is_no_instrument() -> None:
    with socket.create_server(("127.0.0.1", 0)) as deaf, pytest.raises(InstrumentError, match="no answer"):
        open_instrument(f"TCPIP::127.0.0.1::{deaf.getsockname()[1]}::SOCKET", timeout_s=0.4)
    with FakeInstrument(VALUES) as fake:
        fake.identity = "SSH-2.0-something"
        with pytest.raises(InstrumentError, match="maker, model"):
            open_instrument(fake.address, timeout_s=5.0)


@pytest.mark.parametrize("mode", [FaultMode.FRAGMENTED, FaultMode.SLOW])
def test_a_slow_or_broken_up_answer_is_whole_all_the_same(serve: Serve, mode: FaultMode) -> None:
    server = serve(fault=Fault(mode, delay_s=0.05))
    station = InstrumentConnection(address(server), timeout_s=8.0)
    assert station.instrument.identity == IDENTITY
    station.instrument.set_sweep(BenchSettings(interval_s=1e-4), 200)
    station.instrument.start()
    count = 0
    while count < 200:
        count += len(station.instrument.fetch().current)
    station.close()
    assert count == 200


def test_instruments_are_found_by_their_answer(serve: Serve) -> None:
    server = serve()
    found = find_instruments((address(server), "TCPIP::127.0.0.1::1::SOCKET"), timeout_s=1.5)
    assert (address(server), IDENTITY) in {(one.resource, one.identity) for one in found}


def test_a_serial_line_carries_the_same(serve: Serve) -> None:
    clock = AskedClock(step_s=0.1)
    server = serve(clock=clock)
    instrument = open_instrument(f"ASRL{server.open_serial()}::INSTR", timeout_s=8.0)
    assert instrument.identity == IDENTITY
    settings = BenchSettings(voltage_v=3.0, limit_a=1.0, interval_s=1e-3, duration_s=0.8)
    instrument.set_source(settings)
    instrument.switch(on=True)
    clock.wait(5.0)  # after its start-up
    instrument.set_sweep(settings, 800)
    instrument.start()
    pieces = []
    while sum(map(len, pieces)) < 800:
        pieces.append(instrument.fetch().current)
    instrument.make_safe()
    instrument.close()
    assert 5e-6 < np.median(np.concatenate(pieces)) < 20e-6
    assert not server.instrument.is_on


def test_the_shipped_descriptions_are_written_out_whole() -> None:
    for known in known_descriptions(()):
        assert msgspec.json.decode(msgspec.json.encode(known), type=type(known)) == known
