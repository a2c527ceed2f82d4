"""Charge by function, against the trace stream and ELF file that the simulation writes."""

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from attribution.made import INTERVAL_S, Made, stays
from warm_ember.attribution.functions import SILENT_NAME, SLEEP_NAME, UNKNOWN_NAME, function_ledger, lay_on_current
from warm_ember.attribution.placing import place
from warm_ember.bench.simulated import program as simulated
from warm_ember.errors import BadFileError
from warm_ember.formats.itm import read_itm
from warm_ember.formats.symbols import read_functions
from warm_ember.model.capture import Event
from warm_ember.model.program import ASLEEP, Function, ProgramTrace
from warm_ember.signal.intervals import integrals
from warm_ember.signal.levels import find_levels
from warm_ember.signal.series import ArraySeries

EVENTS = (Event(0.0, "state", "Deep sleep"), Event(1.0, "state", "Count"), Event(3.0, "state", "Transmit"))


@pytest.fixture
def run() -> simulated.ProgramRun:
    return simulated.execute(EVENTS, 5.0, seed=1)


@pytest.fixture
def stream(run: simulated.ProgramRun, tmp_path: Path) -> Path:
    path = tmp_path / "trace.itm"
    path.write_bytes(simulated.trace_stream(run))
    return path


@pytest.fixture
def functions(tmp_path: Path) -> tuple[Function, ...]:
    path = tmp_path / "post.elf"
    path.write_bytes(simulated.elf_file())
    return read_functions(path)[0]


def test_functions_and_files_are_those_that_were_built(functions: tuple[Function, ...]) -> None:
    assert [(f.file, f.name, f.address, f.size) for f in functions] == list(simulated.functions())


def test_every_sample_comes_back_at_its_time(run, stream: Path, functions: tuple[Function, ...]) -> None:
    found = read_itm(stream)
    assert found.ticks is not None
    assert found.notes == ()
    np.testing.assert_allclose(found.ticks / simulated.TRACE_CLOCK_HZ, run.times_s, atol=2e-6)
    starts = np.array([f.address for f in functions], dtype=np.uint64)
    owner = np.where(found.addresses == ASLEEP, -1, np.searchsorted(starts, found.addresses, side="right") - 1)
    np.testing.assert_array_equal(owner, run.function)


@given(st.integers(0, 400), st.binary(max_size=12))
def test_a_damaged_or_cut_stream_gives_what_is_whole_or_is_refused(tmp_path_factory, at: int, rubbish: bytes) -> None:
    run = simulated.execute(EVENTS, 3.2, seed=2)
    whole = simulated.trace_stream(run)
    path = tmp_path_factory.mktemp("itm") / "trace.itm"
    path.write_bytes(whole[: at * 7] + rubbish + whole[at * 7 + 3 :])
    try:
        found = read_itm(path)
    except BadFileError:
        return
    assert len(found.addresses) <= len(run.times_s) + len(rubbish)
    assert found.ticks is None or (np.diff(found.ticks) >= 0).all()


def test_a_cut_off_stream_says_so_and_keeps_what_came_before(stream: Path, run: simulated.ProgramRun) -> None:
    whole = stream.read_bytes()
    stream.write_bytes(whole[: whole.rindex(b"\x17") + 3])
    found = read_itm(stream)
    assert len(found.addresses) == len(run.times_s) - 1
    assert found.notes == ("the trace stream is cut off: its last 3 bytes are no whole packet",)


def test_packets_of_other_kinds_are_passed_over(tmp_path: Path) -> None:
    path = tmp_path / "trace.itm"
    sample = b"\x17\x01\x02\x00\x08"
    others = [b"\x01A", b"\x03text", b"\x0e\x0f\x10", b"\x05\x20", b"\x8f\0\0\0\0", b"\x70", b"\x08", b"\x94\x81\x01"]
    path.write_bytes(b"".join(other + sample + b"\x10" for other in others))
    found = read_itm(path)
    assert found.addresses.tolist() == [0x0800_0200] * len(others)
    assert found.ticks is not None
    assert found.ticks.tolist() == list(range(1, len(others) + 1))
    assert found.notes == ("the trace stream overflowed 1 time: samples are missing there",)


def test_a_stream_without_samples_and_a_file_that_is_no_program_are_refused(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"\x01A" * 50)
    with pytest.raises(BadFileError, match="program-counter samples, found none"):
        read_itm(tmp_path / "a")
    for content in (b"", b"\x7fELF", b"not a program" * 20, simulated.elf_file()[:300]):
        (tmp_path / "b").write_bytes(content)
        with pytest.raises(BadFileError, match="expected an ELF file"):
            read_functions(tmp_path / "b")


def test_a_program_without_symbols_is_told(tmp_path: Path) -> None:
    stripped = simulated.elf_file().replace(b".symtab\0", b".absent\0")
    (tmp_path / "post.elf").write_bytes(stripped)
    functions, notes = read_functions(tmp_path / "post.elf")
    assert functions == ()
    assert "has no function symbols" in notes[0]


@pytest.mark.parametrize(("at", "byte", "found"), [(4, 2, "64-bit"), (5, 2, "big-endian"), (18, 0xF3, "RISCV")])
def test_a_program_for_another_machine_is_refused_by_name(tmp_path: Path, at: int, byte: int, found: str) -> None:
    content = bytearray(simulated.elf_file())
    content[at] = byte
    (tmp_path / "b").write_bytes(content)
    with pytest.raises(BadFileError, match=rf"{found}|expected an ELF file"):
        read_functions(tmp_path / "b")


def test_what_the_samples_do_not_cover_has_a_row_of_its_own() -> None:
    made, truth = stays(("Sleep", 1e-6, 1.0), ("Run", 3e-3, 2.0), ("Radio", 0.1, 1.0))
    times = np.arange(1.0, 2.0, 0.01)
    found = function_ledger(made.current, _trace(times, np.zeros(100, int), TWO), place(made))
    rows = {row.name: row for row in found.rows}
    assert found.charge_c == pytest.approx(sum(truth.values()), rel=1e-9)
    assert rows["wait"].charge_c == pytest.approx(3e-3, rel=0.02)
    assert rows["no samples"].charge_c == pytest.approx(sum(truth.values()) - 3e-3, rel=0.02)


def _trace(times_s, owners, functions) -> ProgramTrace:
    addresses = [ASLEEP if k < 0 else functions[k].address for k in owners]
    return ProgramTrace(np.array(times_s, dtype=float), np.array(addresses, dtype=np.uint64), functions)


TWO = (Function(0x100, 16, "wait", "a.c"), Function(0x200, 16, "work", "b.c"))


def test_rows_close_to_the_charge_and_know_their_states() -> None:
    made, truth = stays(("Sleep", 1e-6, 1.0), ("Run", 3e-3, 2.0), ("Radio", 0.1, 1.0))
    times = np.arange(0.005, 4.0, 0.01)
    owners = np.where(times < 1, -1, np.where(times < 2.5, 0, 1))
    found = function_ledger(made.current, _trace(times, owners, TWO), place(made))
    assert found.charge_c == pytest.approx(sum(truth.values()), rel=1e-9)
    rows = {row.name: row for row in found.rows}
    assert rows["wait"].charge_c == pytest.approx(1.5 * 3e-3, rel=1e-6)
    assert rows["work"].charge_c == pytest.approx(0.5 * 3e-3 + 0.1, rel=1e-6)
    assert rows[SLEEP_NAME].charge_c == pytest.approx(1e-6, rel=1e-3)
    assert [name for name, _ in rows["work"].states] == ["Radio", "Run"]
    assert not rows[SLEEP_NAME].is_code
    assert [file for file, _ in found.files()] == ["b.c", "a.c", SLEEP_NAME]
    in_run = function_ledger(made.current, _trace(times, owners, TWO), place(made), state="Run")
    assert in_run.charge_c == pytest.approx(truth["Run"], rel=1e-6)


def test_time_without_samples_is_told_apart_from_sleep() -> None:
    made, truth = stays(("Run", 3e-3, 1.0), ("Sleep", 1e-6, 2.0), ("Run", 3e-3, 1.0))
    times = np.concatenate((np.arange(0.005, 1.0, 0.01), np.arange(3.005, 4.0, 0.01)))
    found = function_ledger(made.current, _trace(times, np.zeros(len(times), int), TWO), place(made))
    rows = {row.name: row for row in found.rows}
    assert rows[SILENT_NAME].time_s == pytest.approx(2.0)
    assert rows[SILENT_NAME].charge_c == pytest.approx(2e-6, rel=1e-3)
    assert rows["wait"].charge_c == pytest.approx(truth["Run"], rel=1e-6)


def test_code_without_a_symbol_has_a_row() -> None:
    made, _ = stays(("Run", 3e-3, 1.0))
    trace = ProgramTrace(np.arange(0.005, 1.0, 0.01), np.full(100, 0x300, dtype=np.uint64), TWO)
    assert [row.name for row in function_ledger(made.current, trace, place(made)).rows] == [UNKNOWN_NAME]


def test_the_error_covers_the_truth_nine_times_in_ten(random: np.random.Generator) -> None:
    """Many runs of a core that is in one function 30 % of the time: the interval holds its true charge."""
    made, _ = stays(("Run", 3e-3, 2.0))
    times = np.arange(0.005, 2.0, 0.01)
    placement, covered = place(made), 0
    for _ in range(300):
        owners = (random.random(len(times)) < 0.3).astype(int)
        rows = {row.name: row for row in function_ledger(made.current, _trace(times, owners, TWO), placement).rows}
        covered += abs(rows["work"].charge_c - 0.3 * 6e-3) <= rows["work"].charge_error_c
    assert 0.84 <= covered / 300 <= 0.96


@given(st.lists(st.floats(0, 0.05), min_size=2, max_size=30, unique=True), st.integers(0, 5))
def test_integrals_are_what_their_definition_says(edges, seed: int) -> None:
    values = np.random.default_rng(seed).uniform(0, 1, 50).astype(np.float32)
    edges_s = np.sort(np.array(edges))
    fine = np.repeat(values.astype(float), 1000) * INTERVAL_S / 1000
    running = np.concatenate(([0.0], np.cumsum(fine)))
    expected = np.diff(np.interp(edges_s, np.arange(len(running)) * INTERVAL_S / 1000, running))
    np.testing.assert_allclose(integrals(ArraySeries(values, INTERVAL_S), edges_s), expected, atol=1e-9)


@pytest.mark.parametrize("offset_s", [0.0, 0.35, -2.2])
def test_a_trace_that_began_at_another_moment_is_laid_on_the_current(offset_s: float, random) -> None:
    parts = [(("Sleep", 2e-6), ("Run", 3e-3))[k % 2] for k in range(60)]
    made, truth = stays(*((name, current, float(random.uniform(0.2, 1.5))) for name, current in parts))
    placement = place(made)
    times = np.arange(0.0005, made.current.samples * INTERVAL_S, 1e-3)
    runs = placement.state[np.searchsorted(placement.edges * INTERVAL_S, times, side="right") - 1] == 1
    trace = _trace(times - offset_s, np.where(runs, 1, -1), TWO)
    laid, shifted_s = lay_on_current(trace, find_levels(made.current), made.current)
    assert shifted_s == pytest.approx(offset_s, abs=1e-3)
    rows = {row.name: row for row in function_ledger(made.current, laid, placement).rows}
    assert rows["work"].charge_c == pytest.approx(truth["Run"], rel=5e-3)


def _sampled(random: np.random.Generator, runs_s: float, period_s: float, many: int, jitter: float = 1.0):
    """Return the ledger of a program of two functions, 1 and 20 mA, and what each took."""
    rate_hz, samples = 20e3, round(many * period_s * 20e3)
    runs = 4 * round(many * period_s / runs_s)
    lengths = np.maximum(random.exponential(runs_s * rate_hz, runs), 1) if jitter else np.full(runs, runs_s * rate_hz)
    ran = np.repeat(np.arange(len(lengths)) % 2, np.rint(lengths).astype(int))[:samples]
    current = np.array([1e-3, 20e-3])[ran]
    times_s = (np.arange(many) + 0.3) * period_s
    trace = _trace(times_s, ran[(times_s * rate_hz).astype(int)], TWO)
    made = Made(ArraySeries(current.astype(np.float32), 1 / rate_hz), (Event(0.0, "state", "Run"),))
    return function_ledger(made.current, trace, place(made)), [float(current[ran == k].sum()) / rate_hz for k in (0, 1)]


@pytest.mark.parametrize("runs_s", [0.002, 0.01, 0.2])
def test_a_function_shorter_than_the_sampling_takes_what_flows_while_it_runs(random, runs_s: float) -> None:
    found, (wait_c, work_c) = _sampled(random, runs_s, 0.01, 1500)
    rows = {row.name: row for row in found.rows}
    for name, true_c in (("wait", wait_c), ("work", work_c)):
        assert abs(rows[name].charge_c - true_c) < 2 * rows[name].charge_error_c
    assert rows["wait"].mean_a == pytest.approx(1e-3, rel=0.2)
    assert not found.is_locked
    assert sum(row.charge_c for row in found.rows) == pytest.approx(found.charge_c, rel=1e-9)


def test_samples_that_keep_step_with_the_program_are_told(random) -> None:
    assert _sampled(random, 0.005, 0.01, 1000, jitter=0.0)[0].is_locked
    assert not _sampled(random, 0.0053, 0.01, 1000, jitter=0.0)[0].is_locked
