"""Parquet, Arrow, HDF5, value change dumps, and times written as a clock: held against what was written."""

import json
from pathlib import Path

import h5py
import numpy as np
import pyarrow as pa
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pyarrow import feather, parquet

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.event_log import read_events
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions
from warm_ember.formats.vcd import VcdFile, sampled
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.session import Session
from warm_ember.signal.series import ignore_progress, never


def read(path, **options):
    source = open_source(path, ImportOptions(**options))
    pieces = list(source.pieces(never, ignore_progress))
    return source, np.concatenate([piece.current for piece in pieces]), pieces


@pytest.fixture
def current(random) -> np.ndarray:
    return (1e-3 * random.random(5000)).astype(np.float32)


def table_of(current) -> pa.Table:
    return pa.table(
        {
            "time_ms": np.arange(len(current)) * 0.5,
            "Current (mA)": current * np.float32(1e3),
            "voltage_v": np.full(len(current), 3.0),
            "tx": np.arange(len(current)) % 7 == 0,
            "comment": ["x"] * len(current),
        }
    )


@pytest.mark.parametrize("ending", ["parquet", "feather", "arrows"])
def test_arrow_tables_are_read_by_name_and_unit(tmp_path, current, ending: str) -> None:
    path, table = tmp_path / f"a.{ending}", table_of(current)
    if ending == "parquet":
        parquet.write_table(table, path, row_group_size=700)
    elif ending == "feather":
        feather.write_feather(table, path)
    else:
        with pa.OSFile(str(path), "wb") as file, pa.ipc.new_stream(file, table.schema) as writer:
            writer.write_table(table, max_chunksize=900)
    source, found, pieces = read(path)
    np.testing.assert_allclose(found, current, rtol=1e-6)
    assert source.interval_s == pytest.approx(0.5e-3)
    assert source.line_names == ("tx",)
    assert source.with_voltage
    high = np.concatenate([piece.lines for piece in pieces])
    assert np.array_equal(high, np.arange(len(current)) % 7 == 0)
    assert any("comment" in note for note in source.notes)


def test_a_parquet_time_stamp_and_nulls(tmp_path) -> None:
    stamps = pa.array(np.arange(10) * 2_000_000 + 1_800_000_000_000_000_000, pa.timestamp("ns"))
    table = pa.table({"when": stamps, "I (uA)": pa.array([1.0, None, 3.0, *[4.0] * 7])})
    parquet.write_table(table, tmp_path / "a.pq")
    source, found, _ = read(tmp_path / "a.pq", time_column="when")
    assert source.interval_s == pytest.approx(2e-3)
    np.testing.assert_allclose(found[[0, 2]], [1e-6, 3e-6], rtol=1e-6)
    assert np.isnan(found[1])


def test_a_foreign_hdf5_file_is_a_table_of_datasets(tmp_path, current) -> None:
    with h5py.File(tmp_path / "a.h5", "w") as file:
        file.attrs["sample_rate_hz"] = 2000.0
        file["log/current"] = current * 1e6
        file["log/current"].attrs["unit"] = "uA"
        file["log/supply"] = np.full(len(current), 3.1)
        file["log/supply"].attrs["unit"] = "V"
        file["other"] = np.arange(3)
    source, found, _ = read(tmp_path / "a.h5")
    np.testing.assert_allclose(found, current, rtol=1e-6)
    assert source.interval_s == 1 / 2000
    assert source.with_voltage
    assert any("attributes" in note for note in source.notes)


def test_a_capture_of_another_project_comes_with_all_it_holds(tmp_path, demo_path) -> None:
    session = Session.open_or_create(tmp_path / "p")
    adopt(session, import_file(session, ImportRequest(demo_path / "captures" / "r5.h5")))
    with Session.open(demo_path) as demo:
        copy, original = session.capture("r5"), demo.capture("r5")
        assert copy.info == original.info
        assert copy.events == original.events
        assert copy.lines.names == original.lines.names
        assert copy.reading(10, 20) == original.reading(10, 20)
    session.close()


def vcd_text(changes: list[tuple[int, str]], timescale: str = "1 us") -> str:
    body = "\n".join(f"#{time}\n{change}" for time, change in changes)
    return (
        f"$date today $end\n$timescale {timescale} $end\n$scope module top $end\n$var wire 1 ! TX $end\n"
        f'$var wire 1 " RX $end\n$var reg 3 # state [2:0] $end\n$upscope $end\n$enddefinitions $end\n{body}\n'
    )


def test_lines_of_a_value_change_dump(tmp_path) -> None:
    path = tmp_path / "a.vcd"
    path.write_text(
        vcd_text([(0, '$dumpvars\n0!\n1"\nb10 #\n$end'), (300, "1!"), (1000, 'x"'), (1049, "b111 #"), (9000, "0!")])
    )
    vcd = VcdFile(path)
    assert vcd.names == ("TX", "RX", "state[0]", "state[1]", "state[2]")
    bits = np.concatenate(list(sampled(vcd, 20, 100e-6)))
    assert bits[:3].tolist() == [0b01010] * 3
    assert bits[3:10].tolist() == [0b01011] * 7
    assert bits[10:].tolist() == [0b11101] * 10


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.integers(1, 400), st.booleans()), max_size=60), st.integers(1, 700))
def test_a_line_is_sampled_at_the_nearest_edges(tmp_path, steps, samples: int) -> None:
    times = np.cumsum([step for step, _ in steps])
    path = tmp_path / "h.vcd"
    path.write_text(vcd_text([(int(t), f"{int(high)}!") for t, (_, high) in zip(times, steps, strict=True)]))
    bits = np.concatenate(list(sampled(VcdFile(path), samples, 7e-6)))
    slow = np.zeros(samples, dtype=int)
    for time, (_, high) in zip(times, steps, strict=True):
        slow[min(samples, int(np.floor(time * 1e-6 / 7e-6 + 0.5))) :] = high
    assert bits.tolist() == slow.tolist()


FREE = (
    "$date today $end $timescale 10 ns $end $scope module top $end $var reg 8 c counter [7:0] $end\n"
    '$var wire 1 ! data [3] $end $var wire 1 " TX $end $var string 1 s name $end $upscope $end '
    '$enddefinitions $end #0 1! 0" b101 c shello s #200 0! 1" #400 0" #600'
)


@pytest.mark.parametrize("end", ["\n", "\r", "\r\n", " "])
def test_a_dump_in_free_format_is_read_from_the_first_word_of_its_body(tmp_path: Path, end: str) -> None:
    path = tmp_path / "free.vcd"
    path.write_bytes(FREE.replace("\n", end).encode())
    vcd = VcdFile(path)
    assert vcd.names[8:] == ("data[3]", "TX")
    assert any("string" in note for note in vcd.notes)
    bits = np.concatenate(list(sampled(vcd, 6, 1e-6)))
    assert (bits >> 8 & 1).tolist() == [1, 1, 0, 0, 0, 0]
    assert (bits >> 9 & 1).tolist() == [0, 0, 1, 1, 0, 0]
    assert (bits & 255).tolist() == [5] * 6


def test_lines_are_chosen_by_name_so_that_a_counter_does_not_take_all(tmp_path: Path, command) -> None:
    raw, dump = tmp_path / "c.f32", tmp_path / "c.vcd"
    np.full(600, 1e-3, "<f4").tofile(raw)
    dump.write_text(FREE.replace("reg 8 c counter [7:0]", "reg 40 c counter [39:0]"))
    given = ("import", tmp_path / "p", raw, "--rate", 1e8, "--lines", dump)
    told = json.loads(command(*given, "--json")[1])["assumed"]
    assert any("'counter' left out: a capture holds 32 lines; choose with --line" in note for note in told)
    code, out, _ = command(*given, "--name", "two", "--line", "TX", "--line", "data", "--json")
    assert (code, "left out: a capture" in out) == (0, False)
    with Session.open(tmp_path / "p") as session:
        lines = session.capture("two").lines
        assert lines is not None
        assert lines.names == ("data[3]", "TX")
    code, _, err = command(*given, "--name", "three", "--line", "RX")
    assert code == 2
    assert "--line 'RX' is no line; there are: counter, data[3], TX" in err


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("time,current\n", "expected a keyword"),
        ("$timescale 3 parsecs $end\n", r"line 1.*expected a \$timescale"),
        ("$timescale 1 ns $end\n$enddefinitions $end\n", "declares no digital line"),
        (vcd_text([(5, "1!"), (3, "0!")]), "times that rise"),
        (vcd_text([(5, "1?")]), "never declared"),
        (vcd_text([(5, "hello")]), "line 10.*expected a value change"),
        (vcd_text([(5, "b12 #")]), "binary vector"),
        ("$timescale 1 ns $end\n$var wire 1 ! a $end\n", "ends before"),
    ],
)
def test_a_bad_dump_names_its_line(tmp_path, text: str, words: str) -> None:
    path = tmp_path / "bad.vcd"
    path.write_text(text)
    with pytest.raises(BadFileError, match=words):
        list(VcdFile(path).changes())


def test_lines_place_states_and_a_vector_is_named_by_its_value(tmp_path, command) -> None:
    raw, dump = tmp_path / "c.f32", tmp_path / "c.vcd"
    np.repeat(np.float32([1e-3, 5e-3]), 1000).tofile(raw)
    dump.write_text(
        "$timescale 1ms $end\n$var wire 2 s mode [1:0] $end\n$enddefinitions $end\n#0\nb0 s\n#100\nb10 s\n#200\n"
    )
    assert command("import", tmp_path / "p", raw, "--rate", "10000", "--lines", dump)[0] == 0
    code, out, _ = command("states", tmp_path / "p", "c", "--json")
    assert code == 0
    assert '"name":"0"' in out
    assert '"name":"2"' in out


@pytest.mark.parametrize(
    ("stamp", "start"),
    [
        ("2026-06-14T05:59:{:09.6f}Z", "2026-06-14T05:59:00+00:00"),
        ("2026-06-14 07:59:{:09.6f}+02:00", "2026-06-14T05:59:00+00:00"),
        ("14.06.2026 05:59:{:09.6f}", "2026-06-14T05:59:00+00:00"),
        ("05:59:{:06.3f}", ""),
    ],
)
def test_times_written_as_a_clock(tmp_path, stamp: str, start: str) -> None:
    path = tmp_path / "a.csv"
    path.write_text("Timestamp,Current (mA)\n" + "".join(f"{stamp.format(k * 0.02)},{k}\n" for k in range(200)))
    source, found, _ = read(path)
    assert source.interval_s == pytest.approx(0.02)
    assert source.start_utc == start
    np.testing.assert_allclose(found, np.arange(200) * 1e-3, rtol=1e-6)


def test_a_clock_without_date_runs_past_midnight(tmp_path) -> None:
    path = tmp_path / "a.csv"
    seconds = (86_390 + np.arange(40)) % 86_400
    path.write_text("".join(f"{s // 3600:02d}:{s // 60 % 60:02d}:{s % 60:02d};1,5\n" for s in seconds))
    source, found, _ = read(path, unit="mA")
    assert (source.interval_s, len(found)) == (1.0, 40)


def mutated(data: bytes, places: list[tuple[float, int]], cut: float) -> bytes:
    changed = bytearray(data)
    for share, value in places:
        changed[int(share * (len(changed) - 1))] = value
    return bytes(changed[: max(1, int(cut * len(changed)))])


def or_words(work, words: str):
    """Return what the work gives, or None when it refuses in words; anything else it raises is a failure."""
    try:
        return work()
    except BadFileError as error:
        if words not in str(error):
            raise
        return None


@pytest.fixture(scope="module")
def good_files(tmp_path_factory):
    folder = tmp_path_factory.mktemp("good")
    current = np.linspace(1e-6, 1e-3, 400, dtype=np.float32)
    table = table_of(current)
    parquet.write_table(table, folder / "a.parquet")
    feather.write_feather(table, folder / "a.feather", compression="uncompressed")
    np.save(folder / "a.npy", current)
    with h5py.File(folder / "a.h5", "w") as file:
        file["current"] = current
        file.attrs["sample_interval_s"] = 1e-3
    (folder / "a.csv").write_text("time (s);I (mA)\n" + "".join(f"{k / 100};{k}\n" for k in range(300)))
    (folder / "b.csv").write_text("".join(f"05:59:{k % 60:02d}.{k % 10},{k}\n" for k in range(50)))
    return folder


@settings(max_examples=250, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    name=st.sampled_from(["a.parquet", "a.feather", "a.npy", "a.h5", "a.csv", "b.csv"]),
    places=st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), max_size=6),
    cut=st.sampled_from([1.0, 1.0, 0.99, 0.5, 0.05]),
)
def test_damaged_files_are_read_or_refused_in_words(tmp_path, good_files, name: str, places, cut: float) -> None:
    path = tmp_path / name
    path.write_bytes(mutated((good_files / name).read_bytes(), places, cut))
    found = or_words(lambda: read(path, rate_hz=1000.0 if name == "a.npy" else None)[1], str(path))
    assert found is None or len(found) < 10_000_000


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(places=st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), max_size=6), cut=st.floats(0.01, 1))
def test_damaged_dumps_are_read_or_refused_in_words(tmp_path, places, cut: float) -> None:
    path = tmp_path / "m.vcd"
    text = vcd_text([(k * 50, f"{k % 2}!\nb{k % 8:b} #") for k in range(1, 60)])
    path.write_bytes(mutated(text.encode(), places, cut))
    bits = or_words(lambda: list(sampled(VcdFile(path), 300, 1e-5)), "line ")
    assert bits is None or sum(len(part) for part in bits) == 300


@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(places=st.lists(st.tuples(st.floats(0, 1), st.integers(0, 255)), max_size=5), cut=st.floats(0.05, 1))
@pytest.mark.parametrize("ending", ["csv", "jsonl"])
def test_damaged_event_logs_are_read_or_refused_in_words(tmp_path, ending: str, places, cut: float) -> None:
    rows = [(k / 10, "state", f"s{k % 3}", "") for k in range(40)]
    text = "time_s,event,name,value\n" + "".join(f"{t},{e},{n},{v}\n" for t, e, n, v in rows)
    if ending == "jsonl":
        text = "".join(f'{{"time_s": {t}, "event": "{e}", "name": "{n}"}}\n' for t, e, n, _ in rows)
    path = tmp_path / f"log.{ending}"
    path.write_bytes(mutated(text.encode(), places, cut))
    events = or_words(lambda: read_events(path).events, str(path))
    assert events is None or all(np.isfinite(event.time_s) for event in events)


@settings(max_examples=80, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    data=st.binary(max_size=4000), ending=st.sampled_from(["f32", "f64", "i16", "bin", "dat", "csv", "npy", "pq", "h5"])
)
def test_any_bytes_are_read_or_refused_in_words(tmp_path, data: bytes, ending: str) -> None:
    path = tmp_path / f"any.{ending}"
    path.write_bytes(data)
    found = or_words(lambda: read(path, rate_hz=1000.0, scale_a=1e-6)[1], str(path))
    assert found is None or not np.isinf(found).any()


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        ("05:59:00;1\n05:59:61x;2\n05:59:02;3\n", "line 2.*expected a time like '05:59:00'"),
        ("05:59:02;1\n05:59:01;2\n05:59:03;3\n", "times that rise"),
    ],
)
def test_clock_times_that_cannot_be_read_name_their_line(tmp_path, rows: str, words: str) -> None:
    path = tmp_path / "a.csv"
    path.write_text(rows)
    with pytest.raises(BadFileError, match=words):
        read(path, unit="mA")


def test_lines_take_the_place_of_digital_columns(tmp_path, command) -> None:
    table, dump = tmp_path / "t.csv", tmp_path / "t.vcd"
    table.write_text("s,A,led\n" + "".join(f"{k / 100:.2f},0.001,{k % 2}\n" for k in range(200)))
    dump.write_text(vcd_text([(1_000_000, "1!")]))
    code, out, _ = command("import", tmp_path / "p", table, "--lines", dump)
    assert code == 0
    assert "digital columns left out for those of t.vcd" in out
    with Session.open(tmp_path / "p") as session:
        lines = session.capture("t").lines
        assert lines.names[:2] == ("TX", "RX")
        assert (lines.read(0, 200) & 1).tolist() == [0] * 100 + [1] * 100


def test_an_exponent_that_is_none_ends_in_one_line(tmp_path, command) -> None:
    rows = ["time_s,current_a", *(f"{k},1.5e--05" for k in range(5)), *(f"{k},1.5e-05" for k in range(5, 50))]
    (tmp_path / "a.csv").write_text("\n".join(rows))
    code, _, err = command("import", tmp_path / "p", tmp_path / "a.csv")
    assert "a bug" not in err
    assert code in (0, 2)


@pytest.mark.parametrize(("dates", "other"), [("day-first", "04/03/2026"), ("month-first", "03/04/2026")])
def test_dates_that_do_not_tell_are_asked_for(tmp_path: Path, dates: str, other: str) -> None:
    rows = [f"03/03/2026 23:59:{second:02d},1.0" for second in range(50, 60)]
    rows += [f"{other} 00:00:{second:02d},1.0" for second in range(10)]
    path = tmp_path / "night.csv"
    path.write_text("\n".join(["time,current (mA)", *rows]))
    with pytest.raises(BadFileError, match=r"month or day.*--dates day-first or month-first"):
        open_source(path, ImportOptions())
    source = open_source(path, ImportOptions(dates=dates))
    assert sum(len(piece.current) for piece in source.pieces(never, ignore_progress)) == 20
    assert (source.interval_s, source.start_utc) == (pytest.approx(1.0), "2026-03-03T23:59:50+00:00")


def test_an_order_of_dates_that_is_none_is_refused() -> None:
    with pytest.raises(BadArgumentError, match="--dates must be one of day-first, month-first, found 'year'"):
        ImportOptions(dates="year")
