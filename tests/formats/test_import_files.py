"""Foreign files in every dialect, through the command line and back."""

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.column_words import split_header
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions
from warm_ember.formats.text_dialect import find_dialect
from warm_ember.signal.series import ignore_progress, never

CURRENT = np.float32([1e-6, 2e-3, 0.17, -4e-8, 5e-3, 6e-3])
ROWS = range(len(CURRENT))


def read(path: Path, **options: object):
    """Read a file whole: current, the source, and the pieces."""
    source = open_source(path, ImportOptions(**options))  # type: ignore[arg-type]
    pieces = list(source.pieces(never, ignore_progress))
    return np.concatenate([piece.current for piece in pieces]), source, pieces


def write(tmp_path: Path, text: str, encoding: str = "utf-8", name: str = "log.csv") -> Path:
    path = tmp_path / name
    path.write_bytes(text.encode(encoding))
    return path


def table(delimiter: str = ",", decimal: str = ".", header: str = "", factor: float = 1.0) -> str:
    rows = [f"{k * 1e-3:.4f}{delimiter}{CURRENT[k] * factor:.9g}" for k in ROWS]
    return header + "\n".join(row.replace(".", decimal) for row in rows) + "\n"


@pytest.mark.parametrize(
    ("text", "encoding"),
    [
        (table(), "utf-8"),
        (table(header="Time (s),Current (A)\n"), "utf-8"),
        (table(header="time_s,current_a\n"), "utf-8-sig"),
        (table(";", ",", "Zeit [s];Strom [mA]\n", 1e3), "utf-8"),
        (table(";", ",", "Zeit (s);Strom (µA)\n", 1e6), "latin-1"),
        (table("\t", ",", "t / s\tI / µA\n", 1e6), "utf-8"),
        (table("\t", ".", "Logger 7\nstarted, at noon\n\ntime\tcurrent\ns\tnA\n", 1e9), "utf-8"),
        (table("|", ".", "# a comment\n# seconds|current\ns|mA\n", 1e3), "utf-8"),
        (table(" ", ".", "s A\n"), "utf-8"),
        (table("   ", ".", "s    A\n").replace("\n0", " \n  0"), "utf-8"),
        (table(header="Time (s),Current (A),\n").replace("\n", ",\n").replace(",,", ","), "utf-8"),
        (table(header="Time (s),Current (A)\n").replace("\n", "\r\n"), "utf-8"),
        (table(header='"Time (s)","Current (uA)"\n', factor=1e6), "utf-8"),
        (table(header="Time (s),Current (A)\n") + "END OF DATA\n\n", "utf-8"),
        (table(header="Time (s),Current (A)\n") + "0.0", "utf-8"),
    ],
)
def test_the_same_table_in_every_dialect(tmp_path: Path, text: str, encoding: str) -> None:
    current, source, _ = read(write(tmp_path, text, encoding))
    assert current == pytest.approx(CURRENT, rel=1e-5)
    assert source.interval_s == 1e-3


@given(
    st.sampled_from([(",", "."), (";", ","), (";", "."), ("\t", ","), ("\t", "."), ("|", ".")]),
    st.sampled_from(["A", "mA", "uA", "nA", "µA"]),
    st.lists(st.floats(-1.0, 1.0, width=32), min_size=3, max_size=40),
)
def test_what_is_written_is_read(tmp_path_factory, signs: tuple[str, str], unit: str, values: list[float]) -> None:
    delimiter, decimal = signs
    scale = {"A": 1.0, "mA": 1e-3, "uA": 1e-6, "nA": 1e-9, "µA": 1e-6}[unit]
    rows = [f"{k * 0.01:.2f}{delimiter}{value:.9e}".replace(".", decimal) for k, value in enumerate(values)]
    text = f"time (s){delimiter}current ({unit})\n" + "\n".join(rows) + "\n"
    current, source, _ = read(write(tmp_path_factory.mktemp("t"), text))
    assert current == pytest.approx(np.float32(values) * scale, rel=1e-5, abs=1e-30)
    assert source.interval_s == pytest.approx(0.01)


def test_voltage_lines_and_other_columns_are_found_by_header(tmp_path: Path) -> None:
    rows = "\n".join(f"{k},{k * 0.5},{k % 2},3000,{20 + k}" for k in ROWS)
    path = write(tmp_path, f"time_ms,current_mA,TX_ON,Vbat (mV),case temp (°C)\n{rows}\n")
    current, source, pieces = read(path)
    assert current == pytest.approx(np.arange(6) * 0.5e-3)
    assert source.interval_s == 1e-3
    assert pieces[0].voltage == pytest.approx(np.full(6, 3.0))
    assert source.line_names == ("TX_ON",)
    assert pieces[0].lines is not None
    assert pieces[0].lines.tolist() == [0, 1, 0, 1, 0, 1]
    assert source.aux_units == {"case temp": "°C"}
    assert pieces[0].aux["case temp"].tolist() == [20, 21, 22, 23, 24, 25]


def test_further_columns_keep_apart_and_fit_into_a_file(tmp_path: Path, command) -> None:
    path = write(tmp_path, "s,A,T/in (K),T_in (K),T_in (K),. (K)\n0,1,2,3,4,5\n1,2,3,4,5,6\n2,3,4,5,6,7\n")
    _, source, _ = read(path)
    assert len(source.aux_units) == 4
    assert not any("/" in name for name in source.aux_units)
    assert command("import", tmp_path / "p", path)[0] == 0


def test_columns_can_be_named_or_numbered(tmp_path: Path) -> None:
    path = write(tmp_path, "when,first,second\n" + "\n".join(f"{k},{k},{2 * k}" for k in ROWS) + "\n")
    by_name, _, _ = read(path, current_column="second", time_column="when", unit="mA")
    by_number, _, _ = read(path, current_column="3", time_column="1", unit="mA")
    assert by_name.tolist() == by_number.tolist()
    assert by_name == pytest.approx(np.arange(6) * 2e-3)
    with pytest.raises(BadFileError, match="there are: when, first, second"):
        read(path, current_column="third")


def test_a_rate_makes_times_needless(tmp_path: Path) -> None:
    current, source, _ = read(write(tmp_path, "0,5\n1,5\n"), rate_hz=100.0)
    assert current == pytest.approx([0, 1])
    assert source.interval_s == 0.01
    one, _, _ = read(write(tmp_path, "1.5\n2.5\n3.5\n"), rate_hz=10.0, unit="mA")
    assert one == pytest.approx([1.5e-3, 2.5e-3, 3.5e-3])
    with_time, source, _ = read(write(tmp_path, table(header="Time (s),Current (A)\n")), rate_hz=50.0)
    assert with_time == pytest.approx(CURRENT)
    assert source.interval_s == 0.02
    assert any("left out" in note for note in source.notes)


def test_a_shunt_turns_volts_into_amperes(tmp_path: Path) -> None:
    path = write(tmp_path, "t (s),out (mV)\n0,110\n1,210\n2,10\n")
    current, _, _ = read(path, shunt_ohm=0.5, gain=20.0, offset_v=0.01)
    assert current == pytest.approx([0.01, 0.02, 0.0])
    with pytest.raises(BadFileError, match=r"cannot tell|is a voltage"):
        read(path)


def test_gaps_and_missing_cells_become_nan(tmp_path: Path) -> None:
    path = write(tmp_path, "s,A\n0.0,1\n0.1,\n0.2,NaN\n0.3,4\n0.7,5\n0.8,6\n0.9,7\n")
    current, source, _ = read(path)
    assert np.isnan(current).tolist() == [False, True, True, False, True, True, True, False, False, False]
    assert "3 missing samples" in " ".join(source.notes)


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "empty"),
        ("hello\nworld\n", "table of numbers"),
        ("s,A\n0,1\n1,2\n2,oops\n3,4\n4,5\n", "line 4.*column 2.*'oops'"),
        ("s,A\n0,1\n1,2,9\n2,3\n3,4\n", "line 3.*expected 2 columns, found 3"),
        ("s,A\n0,1\n1,inf\n2,3\n", "line 3.*inf"),
        ("s,A\n0,1\n1,2\n0.5,3\n2,3\n", "line 4.*rise"),
        ("alpha,beta\n0,1\n1,2\n", "no time column among: alpha, beta"),
        ("s,x (kg),y (kg)\n0,1,2\n1,2,3\n", "cannot tell which column"),
        ("s,A\n0,1\n", "one row"),
    ],
)
def test_bad_text_names_the_place(tmp_path: Path, text: str, problem: str) -> None:
    with pytest.raises(BadFileError, match=problem):
        read(write(tmp_path, text))


def test_binary_data_is_not_taken_for_text(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_bytes(b"\x00\x01\x02" * 100)
    with pytest.raises(BadFileError, match="binary"):
        read(path)


def test_a_long_text_is_read_in_parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("warm_ember.formats.text._PART_BYTES", 1000)
    values = np.random.default_rng(1).uniform(0, 1, 3000)
    text = "s;mA\n" + "".join(f"{k * 0.002:.3f};{v:.6f}\n".replace(".", ",") for k, v in enumerate(values))
    current, source, pieces = read(write(tmp_path, text))
    assert len(pieces) > 10
    assert current == pytest.approx(np.round(values, 6) * 1e-3, rel=1e-5)
    assert source.interval_s == 0.002


@pytest.mark.parametrize(
    ("header", "name", "unit"),
    [
        ("Current (mA)", "Current", "mA"),
        ("current_ua", "current", "uA"),
        ("I / µA", "I", "µA"),
        ("Zeit [ms]", "Zeit", "ms"),
        ("mA", "mA", "mA"),
        ("time_s", "time", "s"),
        ("TX_ON", "TX_ON", ""),
    ],
)
def test_headers_split_into_name_and_unit(header: str, name: str, unit: str) -> None:
    column = split_header(0, header)
    assert (column.name, column.unit) == (name, unit)


def test_the_dialect_is_reported(tmp_path: Path) -> None:
    dialect = find_dialect(write(tmp_path, table(";", ",", "Zeit;Strom\ns;mA\n")))
    assert (dialect.delimiter, dialect.decimal, dialect.first_line) == (";", ",", 3)
    assert dialect.header == ["Zeit (s)", "Strom (mA)"]
    assert "decimal comma" in dialect.notes[0]


@pytest.mark.parametrize(("kind", "name"), [("<f4", "f32"), ("<f8", "f64")])
def test_raw_floats(tmp_path: Path, kind: str, name: str) -> None:
    path = tmp_path / f"a.{name}"
    CURRENT.astype(kind).tofile(path)
    current, source, _ = read(path, rate_hz=1000.0)
    assert current.tolist() == CURRENT.tolist()
    assert source.interval_s == 1e-3
    assert "unit assumed: A" in source.notes


def test_raw_counts_need_a_scale(tmp_path: Path) -> None:
    path = tmp_path / "a.bin"
    np.array([1, -2, 300], dtype="<i2").tofile(path)
    current, _, _ = read(path, rate_hz=10.0, sample_format="i16", scale_a=1e-6)
    assert current == pytest.approx([1e-6, -2e-6, 3e-4])
    with pytest.raises(BadFileError, match="--scale"):
        read(path, rate_hz=10.0, sample_format="i16")


@pytest.mark.parametrize(
    ("content", "options", "problem"),
    [
        (b"\0" * 7, {"rate_hz": 1.0}, "multiple of 4 bytes"),
        (b"", {"rate_hz": 1.0}, "multiple of 4 bytes"),
        (b"\0" * 8, {}, "--rate"),
        (b"\0" * 8, {"rate_hz": 1.0, "sample_format": "f16"}, "f32, f64 or i16"),
        (np.float32([1, np.inf]).tobytes(), {"rate_hz": 1.0}, "inf.*|sample 1"),
    ],
)
def test_bad_raw_files(tmp_path: Path, content: bytes, options: dict[str, object], problem: str) -> None:
    path = tmp_path / "a.f32"
    path.write_bytes(content)
    with pytest.raises(BadFileError, match=problem):
        read(path, **options)


def test_numpy_arrays_and_tables(tmp_path: Path) -> None:
    path = tmp_path / "a.npy"
    np.save(path, CURRENT)
    assert read(path, rate_hz=5.0)[0].tolist() == CURRENT.tolist()
    np.save(path, np.column_stack((np.arange(6) * 0.01, CURRENT)))
    current, source, _ = read(path)
    assert current == pytest.approx(CURRENT)
    assert source.interval_s == 0.01
    named = np.zeros(6, dtype=[("time_ms", "f8"), ("current_uA", "f4"), ("voltage_V", "f4")])
    named["time_ms"], named["current_uA"], named["voltage_V"] = np.arange(6) * 2, CURRENT * 1e6, 3.0
    np.save(path, named)
    current, source, pieces = read(path)
    assert current == pytest.approx(CURRENT, rel=1e-5)
    assert source.interval_s == 0.002
    assert pieces[0].voltage == pytest.approx(np.full(6, 3.0))


def test_bad_numpy_files(tmp_path: Path) -> None:
    path = tmp_path / "a.npy"
    path.write_bytes(b"not an array")
    with pytest.raises(BadFileError, match="NumPy"):
        read(path, rate_hz=1.0)
    np.save(path, np.array(["text"]))
    with pytest.raises(BadFileError, match="numbers"):
        read(path, rate_hz=1.0)
    np.save(path, np.zeros(1000, dtype=np.float32))
    path.write_bytes(path.read_bytes()[:-100])
    with pytest.raises(BadFileError, match="ends before"):
        read(path, rate_hz=1.0)


@pytest.mark.parametrize(
    ("options", "problem"),
    [
        ({"rate_hz": 0.0}, "--rate"),
        ({"unit": "kA"}, "--unit"),
        ({"gain": 0.0}, "--gain"),
        ({"shunt_ohm": -1.0}, "--shunt"),
    ],
)
def test_impossible_options(options: dict[str, object], problem: str) -> None:
    with pytest.raises(BadArgumentError, match=problem):
        ImportOptions(**options)  # type: ignore[arg-type]


def test_an_import_leaves_a_readable_capture(tmp_path: Path, command) -> None:
    path = write(tmp_path, table(";", ",", "Zeit [s];Strom [mA]\n", 1e3))
    code, out, err = command("import", tmp_path / "p", path, "--supply", "3", "--json")
    assert (code, err) == (0, "")
    assert json.loads(out)["samples"] == 6
    code, out, _ = command("stretch", tmp_path / "p", "log", "--from", "0", "--to", "0.006", "--json")
    reading = json.loads(out)
    charge = float(CURRENT.sum(dtype=np.float64)) * 1e-3
    assert reading["charge_c"] == pytest.approx(charge, rel=1e-5)
    assert reading["energy_j"] == pytest.approx(3 * charge, rel=1e-5)
    assert reading["min_a"] == pytest.approx(-4e-8, rel=1e-5)
