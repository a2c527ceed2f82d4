"""The simulated bench by itself: its grammar, its sweeps, its rail, its console."""

from __future__ import annotations

import socket

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.benches import Serve
from warm_ember.bench.simulated.attachments import ATTACHMENTS
from warm_ember.bench.simulated.firmware import FIRMWARE, Post
from warm_ember.bench.simulated.instrument import IDENTITY, SimulatedInstrument
from warm_ember.bench.simulated.played import PlayedBattery
from warm_ember.bench.simulated.ranges import RANGES, Noise
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.bench.simulated.target import Target


class Clock:
    """A bench's time that stands until it is moved."""

    def __init__(self) -> None:
        self.now_s = 0.0


class Bench:
    """An instrument with a target, without a socket between, at a time that the test says."""

    def __init__(self, firmware: str = "r5", **target: object) -> None:
        self.clock = Clock()
        build = next(one for one in FIRMWARE if one.name == firmware)
        self.target = Target(build, self.clock, **target)  # type: ignore[arg-type]
        self.instrument = SimulatedInstrument(self.target)
        self.lines: list[str] = []
        self.target.on_line = self.lines.append

    def send(self, *messages: str) -> None:
        for message in messages:
            assert self.instrument.run(message) is None

    def ask(self, message: str) -> str:
        answer = self.instrument.run(message)
        assert answer is not None
        return answer.decode().strip()

    def fetch(self, channel: str = "CURRent") -> np.ndarray:
        answer = self.instrument.run(f"FETC:ARR:{channel}?")
        assert answer is not None
        assert answer[:1] == b"#"
        digits = int(answer[1:2])
        length = int(answer[2 : 2 + digits])
        assert answer[2 + digits + length :] == b"\n"
        return np.frombuffer(answer, dtype=">f4", count=length // 4, offset=2 + digits)

    def ready(self, points: object = 1000, interval_s: float = 1e-4) -> None:
        self.send("*RST", "VOLT 3", "CURR:LIM 1", f"SENS:SWE:TINT {interval_s}", f"SENS:SWE:POIN {points}", "OUTP ON")


def powered(samples: int, pieces: list[int], firmware: str = "r2") -> tuple[np.ndarray, np.ndarray]:
    """Return what flowed and the lines, taken in pieces of some lengths."""
    build = next(one for one in FIRMWARE if one.name == firmware)
    post = Post(build, 1, report_at_s=1.0)
    post.run(samples / 1e4)
    sampler = Sampler(post, 0.0, 1e4, supply_v=3.0, limit_a=1.0, noise=Noise(np.random.default_rng(0)))
    sampler._wander = lambda drawn: np.zeros(len(drawn))  # type: ignore[method-assign]
    taken = [sampler.take(count) for count in pieces]
    return np.concatenate([p.flowing for p in taken]), np.concatenate([p.lines for p in taken])


def test_what_flows_does_not_depend_on_the_pieces_it_is_taken_in(random: np.random.Generator) -> None:
    cuts = np.sort(random.integers(1, 30_000, 40))
    pieces = [int(count) for count in np.diff(np.concatenate(([0], np.unique(cuts), [30_000])))]
    whole, in_pieces = powered(30_000, [30_000]), powered(30_000, pieces)
    np.testing.assert_allclose(in_pieces[0], whole[0], rtol=1e-9, atol=1e-12)
    np.testing.assert_array_equal(in_pieces[1], whole[1])


def test_commands_are_heard_in_short_and_long_form_and_errors_queue() -> None:
    bench = Bench()
    assert bench.ask("*IDN?") == IDENTITY
    bench.send("SOURce:VOLTage:LEVel:IMMediate:AMPLitude 2.5", "source:current:limit 0.2")
    assert float(bench.ask("VOLT?")) == 2.5
    assert float(bench.ask("SOUR:CURR:LIM?")) == pytest.approx(0.2)
    bench.send("VOLT 12", "WHAT:IS 1", "VOLT", "VOLT much")
    numbers = [int(bench.ask("SYST:ERR?").split(",")[0]) for _ in range(5)]
    assert numbers == [-222, -113, -109, -224, 0]
    assert float(bench.ask("VOLT?")) == 2.5


@given(st.lists(st.floats(0.001, 0.2), min_size=1, max_size=12))
def test_a_sweep_answers_each_sample_once_in_order(pauses_s: list[float]) -> None:
    bench = Bench()
    bench.ready(points=3000)
    bench.send("INIT")
    parts = []
    for pause_s in pauses_s:
        bench.clock.now_s += pause_s
        parts.append(len(bench.fetch()))
    expected = np.minimum(np.floor(np.cumsum(pauses_s) * 1e4 + 1e-3), 3000)
    assert np.abs(np.cumsum(parts) - expected).max() <= 1
    bench.clock.now_s += 1.0
    assert sum(parts) + len(bench.fetch()) == 3000
    assert len(bench.fetch()) == 0


def test_channels_are_as_long_as_each_other_and_the_order_of_bytes_can_be_swapped() -> None:
    bench = Bench()
    bench.ready(points="INF")
    bench.send("INIT")
    bench.clock.now_s += 0.7
    lengths = {len(bench.fetch(channel)) for channel in ("CURR", "VOLT", "DIG")}
    assert lengths == {7000}
    bench.send("FORM:BORD SWAP")
    bench.clock.now_s += 0.1
    assert bench.fetch("VOLT").view("<f4").mean() == pytest.approx(3.0, abs=0.01)


def test_the_same_samples_come_as_float64_and_as_text() -> None:
    found = []
    for asked in ("REAL,32", "REAL,64", "ASC"):
        bench = Bench(seed=3)
        bench.ready(200)
        bench.send(f"FORM {asked}", "INIT")
        bench.clock.now_s += 1.0
        if asked == "ASC":
            found.append(np.array(bench.ask("FETC:ARR:CURR?").split(","), dtype=np.float64))
            continue
        answer = bench.instrument.run("FETC:ARR:CURR?")
        assert answer is not None
        found.append(np.frombuffer(answer[2 + int(answer[1:2]) : -1], dtype=">f8" if "64" in asked else ">f4"))
    assert [len(values) for values in found] == [200, 200, 200]
    np.testing.assert_array_equal(found[0], found[1])
    np.testing.assert_allclose(found[2], found[0], rtol=1e-6)
    bench.send("FORM HEX")
    assert bench.ask("SYST:ERR?").startswith("-224")


def test_a_fixed_range_clips_and_a_free_one_does_not() -> None:
    peaks = {}
    for words in ("SENS:CURR:RANG 1E-3", "SENS:CURR:RANG:AUTO ON"):
        bench = Bench(report_at_s=0.5)
        bench.ready(points="INF")
        bench.send(words, "INIT")
        bench.clock.now_s += 5.0
        peaks[words] = float(bench.fetch().max())
    clipped, free = peaks.values()
    assert clipped == pytest.approx(1.05 * RANGES[1].full_a, rel=0.01)
    assert free > 0.15


def floor(bench: Bench) -> np.ndarray:
    bench.ready(points=20_000)
    bench.send("INIT")
    bench.clock.now_s += 2.1
    return bench.fetch().astype(float)


@pytest.mark.parametrize("part", ATTACHMENTS, ids=lambda part: part.name)
def test_each_part_on_the_rail_adds_what_it_draws(part) -> None:
    clean, with_part = Bench(), Bench()
    with_part.send(f"ROUT:CLOS (@{ATTACHMENTS.index(part) + 1})")
    difference = floor(with_part) - floor(clean)
    expected_a = part.current_a + 3.0 / part.ohm
    assert np.median(difference) == pytest.approx(expected_a, abs=max(0.05e-6, 0.02 * expected_a))
    if part.hum_a:
        spectrum = np.abs(np.fft.rfft(np.clip(difference, -2e-5, 2e-5))) * 2 / len(difference)
        assert np.argmax(spectrum[1:]) + 1 == 100  # two seconds at 50 Hz
        assert spectrum[100] == pytest.approx(part.hum_a, rel=0.1)


def test_open_leads_show_the_offset_alone() -> None:
    bench = Bench()
    bench.send("ROUT:OPEN (@5)")
    read = floor(bench)
    assert read.mean() == pytest.approx(RANGES[0].offset_a, abs=5e-9)
    assert bench.lines == []


@pytest.mark.parametrize("before", [0, 37])
def test_a_level_starts_the_sweep_with_what_came_before_it(before: int) -> None:
    bench = Bench()
    bench.ready(points=400)
    bench.send("TRIG:SOUR INT", "TRIG:LEV 0.5E-3", "TRIG:SLOP POS", f"SENS:SWE:OFFS:POIN -{before}", "INIT")
    bench.clock.now_s += 0.4
    assert len(bench.fetch()) == 0  # the first wake is half a second after power-on
    bench.clock.now_s += 0.6
    read = bench.fetch()
    assert len(read) == 400
    assert read[before] >= 0.5e-3
    assert (read[:before] < 0.5e-3).all()


def test_a_line_starts_the_sweep() -> None:
    bench = Bench(report_at_s=2.0)
    bench.ready(points=100)
    bench.send("TRIG:SOUR TTLT2", "TRIG:SLOP POS", "INIT")  # TX_ON
    for _ in range(30):
        bench.clock.now_s += 0.1
        bits = bench.fetch("DIG")
        if len(bits):
            break
    assert (bits.astype(int) >> 2 & 1).all()
    assert bench.clock.now_s > 2.0


def test_a_power_cycle_boots_the_target_and_its_console_answers() -> None:
    bench = Bench()
    bench.ready()
    bench.clock.now_s += 3.2
    bench.target.advance()
    assert bench.lines[0].endswith("boot r5")
    assert sum("wake rtc" in line for line in bench.lines) == 3
    bench.target.command("AT+CEREG?")
    assert "+CEREG: 5,1" in bench.lines[-1]
    bench.target.command("nonsense")
    assert "unknown" in bench.lines[-1]
    told = len(bench.lines)
    bench.send("OUTP OFF")
    bench.clock.now_s += 5.0
    bench.target.command("version")
    assert len(bench.lines) == told
    bench.send("OUTP ON")
    assert bench.lines[-1].endswith("boot r5")


def test_a_slow_reader_loses_nothing_that_the_bench_measured() -> None:
    bench = Bench()
    bench.ready(points="INF", interval_s=1e-6)
    bench.send("INIT")
    bench.clock.now_s += 0.3
    parts = [bench.fetch()]
    while len(parts[-1]):
        parts.append(bench.fetch())
    assert sum(map(len, parts)) == 300_000


def test_it_speaks_over_a_socket_to_several_at_once(serve: Serve) -> None:
    server = serve()
    for _ in range(2):
        with socket.create_connection(("127.0.0.1", server.port)) as line:
            line.sendall(b"*IDN?\nSYST:ERR?\n")
            with line.makefile("rb") as answers:
                assert answers.readline().decode().strip() == IDENTITY
                assert answers.readline().startswith(b"0,")


def test_a_played_battery_empties_and_sags_as_its_table_says() -> None:
    table_c = np.array([0.0, 1.0, 2.0])
    played = PlayedBattery(table_c, np.array([3.2, 3.0, 2.4]), np.array([0.5, 0.5, 2.0]), drawn_c=0.5, drain=1000.0)
    currents = np.array([0.0, 0.1, 0.2, 0.0])
    volts = played.volts(currents, 1e-3)
    drawn = 0.5 + 1000.0 * 1e-3 * np.cumsum(currents)
    ohm = np.interp(drawn, table_c, [0.5, 0.5, 2.0])
    assert volts == pytest.approx(np.interp(drawn, table_c, [3.2, 3.0, 2.4]) - currents * ohm)
    assert played.drawn_c == pytest.approx(0.8)
    assert played.resting_v == pytest.approx(3.04)
    assert played.volts(np.full(4, 100.0), 1.0).min() == 0.0


def test_the_bench_reads_the_voltage_of_the_battery_that_it_plays() -> None:
    fresh, worn = ((drawn, Bench("r1")) for drawn in (0.0, 900.0))
    read = []
    for drawn_c, bench in (fresh, worn):
        bench.instrument.battery = PlayedBattery(
            np.array([0.0, 1000.0]), np.array([3.2, 2.2]), np.array([1.0, 4.0]), drawn_c
        )
        bench.ready(points=2000)
        bench.send("INIT")
        bench.clock.now_s += 0.5
        bench.instrument.advance()
        current, volts = bench.fetch(), bench.fetch("VOLTage")
        open_v, ohm = (3.2, 1.0) if drawn_c == 0 else (2.3, 3.7)
        assert volts.mean() == pytest.approx(open_v - current.mean() * ohm, abs=2e-3)
        read.append(float(volts.mean()))
    assert read[0] - read[1] > 0.85


def test_the_standard_status_registers_tell_what_happened() -> None:
    bench = Bench()
    assert bench.ask("*ESR?") == "128"  # it was switched on
    assert bench.ask("*ESR?") == "0"
    bench.send("*ESE 36", "*SRE 32", "VOLT 99", "NONSENSE")
    assert (bench.ask("*ESE?"), bench.ask("*SRE?")) == ("36", "32")
    assert bench.ask("*STB?") == str(4 + 32 + 64)  # errors wait, an event counts, and asks for service
    assert bench.ask("SYST:ERR:COUN?") == "2"
    assert bench.ask("*ESR?") == str(16 + 32)  # one of execution, one of the command
    bench.send("*CLS", "*OPC", "*WAI")
    assert (bench.ask("*ESR?"), bench.ask("*STB?"), bench.ask("*OPC?"), bench.ask("*TST?")) == ("1", "0", "1", "0")
    assert bench.ask("SYSTem:VERSion?") == "1999.0"


def test_an_error_too_many_leaves_its_mark() -> None:
    bench = Bench()
    bench.send(*["NONSENSE"] * 25)
    told = [bench.ask("SYST:ERR?") for _ in range(int(bench.ask("SYST:ERR:COUN?")))]
    assert told[:-1] == ['-113,"Undefined header"'] * 19
    assert told[-1] == '-350,"Queue overflow"'
    assert bench.ask("SYST:ERR?") == '0,"No error"'


@pytest.mark.parametrize(
    ("message", "query", "value"),
    [
        ("SOUR1:VOLT 2.5V", "VOLT?", 2.5),
        ("VOLT 2500 MV", "VOLT?", 2.5),
        ("CURR:LIM 300mA", "CURR:LIM?", 0.3),
        ("SENS1:SWE1:TINT 100US", "SENS:SWE:TINT?", 1e-4),
        ("SENS:SWE:POIN 10;TINT 2E-4", "SENS:SWE:TINT?", 2e-4),
        ("SENS:SWE:POIN 10;:VOLT 1.5", "VOLT?", 1.5),
        ("SENS:CURR:RANG:AUTO ON;*CLS;:SENS:SWE:TINT 3E-4;POIN 7", "SENS:SWE:TINT?", 3e-4),
    ],
)
def test_units_numbers_behind_names_and_headers_that_go_on(message: str, query: str, value: float) -> None:
    bench = Bench()
    bench.send(message)
    assert bench.ask("SYST:ERR?") == '0,"No error"'
    assert float(bench.ask(query)) == pytest.approx(value)


@pytest.mark.parametrize(
    ("message", "error"),
    [("VOLT 2,3", -108), ("*RST 1", -108), ("VOLT? 1", -108), ("VOLT", -109), ("VOLT 3 A", -131), ("VOLT x", -224)],
)
def test_what_does_not_belong_to_a_command_is_refused(message: str, error: int) -> None:
    bench = Bench()
    assert bench.instrument.run(message) is None
    assert bench.ask("SYST:ERR?").startswith(f"{error},")
