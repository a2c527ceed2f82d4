"""Tables in files of other libraries: HDF5 in its many layouts, Arrow, Parquet and NumPy."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import h5py
import numpy as np
import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet
import pytest

from warm_ember.errors import BadFileError
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions, Source
from warm_ember.signal.series import ignore_progress, never

ROWS, INTERVAL_S = 400, 0.01
TIMES_S = np.arange(ROWS) * INTERVAL_S
CURRENT_A = np.random.default_rng(1).uniform(0.001, 0.009, ROWS)


def read(path: Path, **options: object) -> tuple[np.ndarray, Source]:
    source = open_source(path, ImportOptions(**options))  # type: ignore[arg-type]
    return np.concatenate([piece.current for piece in source.pieces(never, ignore_progress)]), source


def columns(file: h5py.File, time: object = TIMES_S, current: object = CURRENT_A) -> None:
    file["time"], file["current"] = time, current
    for name, unit in (("time", "s"), ("current", "A")):
        file[name].attrs["units"] = unit


def compound(file: h5py.File) -> None:
    both = np.array(list(zip(TIMES_S, CURRENT_A * 1e3, strict=True)), [("time_s", "f8"), ("current_mA", "f4")])
    file.create_group("readout").create_dataset("table", data=both)


def single_columns(file: h5py.File) -> None:
    columns(file, TIMES_S.reshape(-1, 1), CURRENT_A.reshape(-1, 1))


def named_columns(file: h5py.File) -> None:
    file["data"] = np.column_stack([TIMES_S, CURRENT_A * 1e6])
    file["data"].attrs["columns"] = np.array(["time (s)", "current (µA)".encode()], dtype="S20")


def scaled(file: h5py.File) -> None:
    counts = np.round(CURRENT_A / 1e-9 - 5e6).astype("i4")
    columns(file, current=counts)
    file["current"].attrs.update(scale_factor=1e-9, add_offset=5e-3, _FillValue=np.int32(-(2**31)))


def since(file: h5py.File) -> None:
    columns(file)
    file["time"].attrs["units"] = "seconds since 2026-03-02 10:00:00"


def frame(file: h5py.File) -> None:
    group = file.create_group("df")
    group.attrs.update(pandas_type="frame", nblocks=2, ndim=2)
    group["axis0"], group["axis1"] = np.array([b"note", b"time_s", b"current_mA"]), np.arange(ROWS)
    group["block0_items"], group["block0_values"] = np.array([b"note"]), np.ones((ROWS, 1), "i8")
    group["block1_items"] = np.array([b"time_s", b"current_mA"])
    group["block1_values"] = np.column_stack([TIMES_S, CURRENT_A * 1e3])


def frame_table(file: h5py.File) -> None:
    data = np.zeros(ROWS, [("index", "i8"), ("values_block_0", "f8", (2,))])
    data["index"], data["values_block_0"] = np.arange(ROWS), np.column_stack([TIMES_S, CURRENT_A * 1e3])
    group = file.create_group("df")
    group.attrs["pandas_type"] = "frame_table"
    group.create_dataset("table", data=data)
    group["table"].attrs["values_block_0_kind"] = np.void(b"(lp0\nS'time_s'\np1\naS'current_mA'\np2\na.")


@pytest.mark.parametrize(
    "write", [compound, single_columns, named_columns, scaled, since, frame, frame_table], ids=lambda one: one.__name__
)
def test_hdf5_however_it_is_arranged(tmp_path: Path, write: Callable[[h5py.File], None]) -> None:
    with h5py.File(tmp_path / "a.h5", "w") as file:
        write(file)
    current, source = read(tmp_path / "a.h5")
    assert current == pytest.approx(CURRENT_A, rel=1e-5, abs=1e-9)
    assert source.interval_s == pytest.approx(INTERVAL_S)
    assert source.start_utc == ("2026-03-02T10:00:00+00:00" if write is since else "")


def test_what_stands_for_missing_is_missing(tmp_path: Path) -> None:
    with h5py.File(tmp_path / "a.h5", "w") as file:
        columns(file, current=np.where(np.arange(ROWS) == 7, -999.0, CURRENT_A))
        file["current"].attrs["_FillValue"] = -999.0
    current, _ = read(tmp_path / "a.h5")
    assert np.flatnonzero(np.isnan(current)).tolist() == [7]


def arrow(**more: object) -> pa.Table:
    return pa.table({"time_s": TIMES_S, "current_mA": CURRENT_A * 1e3, **more})


def test_columns_of_lists_and_text_beside_good_ones_are_left_out_and_named(tmp_path: Path) -> None:
    table = arrow(note=["a"] * ROWS, wave=[[1, 2]] * ROWS, ok=[True, False] * (ROWS // 2))
    pa.parquet.write_table(table, tmp_path / "a.parquet")
    pa.feather.write_feather(table, tmp_path / "a.feather")
    for name in ("a.parquet", "a.feather"):
        current, source = read(tmp_path / name)
        assert current == pytest.approx(CURRENT_A, rel=1e-6)
        assert source.line_names == ("ok",)
        assert any("note, wave" in note for note in source.notes)


@pytest.mark.parametrize("kind", [pa.timestamp("ms"), pa.timestamp("us", "UTC"), pa.duration("ms")], ids=str)
def test_time_stamps_of_any_unit(tmp_path: Path, kind: pa.DataType) -> None:
    counts = pa.array((TIMES_S * (1e6 if "us" in str(kind) else 1e3)).round().astype("i8")).cast(kind)
    table = pa.table({"when": counts, "current (A)": CURRENT_A})
    pa.parquet.write_table(table, tmp_path / "a.parquet")
    current, source = read(tmp_path / "a.parquet")
    assert current == pytest.approx(CURRENT_A, rel=1e-6)
    assert source.interval_s == pytest.approx(INTERVAL_S)


def test_text_where_numbers_should_be_is_refused(tmp_path: Path) -> None:
    pa.parquet.write_table(pa.table({"time_s": [str(t) for t in TIMES_S], "I (A)": CURRENT_A}), tmp_path / "a.parquet")
    with pytest.raises(BadFileError, match="no time column"):
        read(tmp_path / "a.parquet")
    with pytest.raises(BadFileError, match="holds no numbers"):
        read(tmp_path / "a.parquet", time_column="time_s")


@pytest.mark.parametrize("unit", ["ms", "us", "ns"])
def test_numpy_time_stamps_count_in_their_own_unit(tmp_path: Path, unit: str) -> None:
    counts = (TIMES_S * {"ms": 1e3, "us": 1e6, "ns": 1e9}[unit]).round().astype("i8")
    first = np.datetime64("2026-03-02T10:00:00", unit)
    table = np.zeros(ROWS, [("time", f"datetime64[{unit}]"), ("current (A)", "f8"), ("note", "U4")])
    table["time"], table["current (A)"] = first + counts.astype(f"timedelta64[{unit}]"), CURRENT_A
    np.save(tmp_path / "a.npy", table)
    current, source = read(tmp_path / "a.npy")
    assert current == pytest.approx(CURRENT_A, rel=1e-6)
    assert source.interval_s == pytest.approx(INTERVAL_S)
    assert source.start_utc == "2026-03-02T10:00:00+00:00"


def test_numpy_in_fortran_order(tmp_path: Path) -> None:
    np.save(tmp_path / "a.npy", np.asfortranarray(np.column_stack([TIMES_S, CURRENT_A])))
    assert read(tmp_path / "a.npy")[0] == pytest.approx(CURRENT_A, rel=1e-6)


@pytest.mark.parametrize("write", [pa.parquet.write_table, pa.feather.write_feather])
def test_of_two_currents_none_is_guessed(tmp_path: Path, write: Callable[..., None]) -> None:
    path = tmp_path / ("a.parquet" if write is pa.parquet.write_table else "a.feather")
    write(pa.table({"time_s": TIMES_S, "ch1 current (A)": CURRENT_A, "ch2 current (A)": CURRENT_A}), path)
    with pytest.raises(BadFileError, match="several columns may be the current"):
        read(path)
    assert read(path, current_column="ch2 current (A)")[0] == pytest.approx(CURRENT_A, rel=1e-6)
