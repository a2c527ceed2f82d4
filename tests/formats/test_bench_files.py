"""Tables as they are written on a bench: names as they stand there, quoted numbers, stamps in nanoseconds."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pyarrow import parquet

from warm_ember.errors import BadFileError
from warm_ember.formats.columns import find_columns
from warm_ember.formats.source import ImportOptions
from warm_ember.session.session import Session

WAYS = (
    "{n} ({u})", "{n} [{u}]", "{n}({u})", "{n}/{u}", "{n} / {u}", "{n}_{u}", "{n} in {u}", "{n}_in_{u}",
    "{n}, {u}", "{n}",
)  # fmt: skip


@given(
    name=st.sampled_from(["Strom", "I", "Current", "ch1 current", "Ausgang"]),
    unit=st.sampled_from(["mA", "uA", "µA", "nA", "A"]),
    stands=st.sampled_from(WAYS[:-1]),
    wanted=st.sampled_from(WAYS),
)
def test_a_column_is_found_by_its_header_in_the_usual_ways(name: str, unit: str, stands: str, wanted: str) -> None:
    header = ["t (s)", stands.format(n=name, u=unit), "U (V)"]
    for called in (header[1], wanted.format(n=name, u=unit), wanted.format(n=name.upper(), u=unit), "2"):
        found = find_columns(Path("x.csv"), header, 3, ImportOptions(current_column=called))
        assert found.current.index == 1
        assert found.current_scale == {"A": 1.0, "mA": 1e-3, "nA": 1e-9}.get(unit, 1e-6)


def test_a_name_of_another_unit_or_of_several_columns_is_refused() -> None:
    header = ["t (s)", "I (mA)", "I (uA)"]
    chosen = find_columns(Path("x.csv"), header, 3, ImportOptions(current_column="I [µA]"))
    assert chosen.current.index == 2
    for called, words in (("I (nA)", "is no column"), ("I", "is several columns: I (mA), I (uA)")):
        with pytest.raises(BadFileError, match="I") as refused:
            find_columns(Path("x.csv"), header, 3, ImportOptions(current_column=called))
        assert words in str(refused.value)


@pytest.mark.parametrize("between_s", [0.7, 1e9])
@pytest.mark.parametrize("seed", range(3))
def test_what_is_written_on_change_keeps_its_peaks_levels_and_wakes(
    tmp_path: Path, command, seed: int, between_s: float
) -> None:
    """Rows at the edges of the current, and at most now and then between: bursts are far shorter than rows hold."""
    random = np.random.default_rng(seed)
    wakes, burst_s = 60, random.uniform(0.02, 0.2)
    begins_s = np.cumsum(random.uniform(2.0, 5.0, wakes))
    sends = random.random(wakes) < 0.1
    edges_s = np.concatenate(([0.0], begins_s, begins_s[sends] + burst_s / 2, begins_s + burst_s))
    drawn_a = np.concatenate(([5e-6], np.full(wakes, 4e-3), np.full(sends.sum(), 0.09), np.full(wakes, 5e-6)))
    order = np.argsort(edges_s)
    edges_s, drawn_a = edges_s[order], drawn_a[order]
    times_s = np.unique(np.round(np.concatenate((edges_s, np.arange(0.5, begins_s[-1], between_s))), 6))
    values_a = drawn_a[np.searchsorted(edges_s, times_s + 1e-6, side="right") - 1]
    values_a = np.round(values_a * (1 + 0.01 * random.standard_normal(len(values_a))) + 1e-7, 9)
    rows = [f"{time_s:.6f},{value_a:.9f}" for time_s, value_a in zip(times_s, values_a, strict=True)]
    (tmp_path / "a.csv").write_text("\n".join(["time_s,current_a", *rows]) + "\n")
    assert command("import", tmp_path / "p", tmp_path / "a.csv", "--supply", 3)[0] == 0
    whole = json.loads(command("stretch", tmp_path / "p", "a", "--from", 0, "--to", 1e9, "--json")[1])
    assert whole["max_a"] == pytest.approx(values_a.max(), rel=1e-6)
    assert whole["charge_c"] == pytest.approx(float((np.diff(times_s) * values_a[:-1]).sum()), rel=1e-4)
    states = json.loads(command("states", tmp_path / "p", "a", "--json")[1])["states"]
    means_a = [one["mean_a"] for one in states if one["time_share"] > 1e-4]
    for true_a in (5.1e-6, 4e-3, *([0.09] if sends.any() else [])):
        assert min(abs(mean_a / true_a - 1) for mean_a in means_a) < 0.06
    assert json.loads(command("wakes", tmp_path / "p", "a", "--json")[1])["wakes"] == pytest.approx(wakes, abs=1)


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
@pytest.mark.parametrize("decimal", [".", ","])
def test_quoted_numbers_are_numbers(tmp_path: Path, command, delimiter: str, decimal: str) -> None:
    rows = [(f"{k * 1e-3:.3f}", f"{1.5 + 0.25 * (k % 2):.3f}") for k in range(500)]
    cells = [[f'"{cell.replace(".", decimal)}"' for cell in row] for row in rows]
    text = "\n".join(delimiter.join(row) for row in [['"Zeit (s)"', '"Strom [mA]"'], *cells])
    (tmp_path / "a.csv").write_text(text + "\n", encoding="utf-8")
    code, _, err = command("import", tmp_path / "p", tmp_path / "a.csv")
    assert (code, err) == (0, "")
    found = json.loads(command("stretch", tmp_path / "p", "a", "--from", 0, "--to", 0.5, "--json")[1])
    assert found["mean_a"] == pytest.approx(1.625e-3, rel=1e-6)
    assert found["to_s"] == pytest.approx(0.5)


@given(step_ns=st.sampled_from([50, 100, 200, 250, 500, 1000, 12_345]), as_integer=st.booleans(), epoch=st.booleans())
@settings(max_examples=20)
def test_stamps_in_nanoseconds_keep_their_steps(
    tmp_path_factory: pytest.TempPathFactory, step_ns: int, as_integer: bool, epoch: bool
) -> None:
    folder = tmp_path_factory.mktemp("stamps")
    first = 1_700_000_000_123_456_789 if epoch else 0
    counts = pa.array(first + step_ns * np.arange(5000), pa.int64())
    times = counts if as_integer else counts.cast(pa.timestamp("ns"))
    current = np.where(np.arange(5000) % 2, 1e-3, 3e-3).astype(np.float32)
    names = ["time (ns)" if as_integer else "time", "current (A)"]
    parquet.write_table(pa.table([times, pa.array(current)], names=names), folder / "a.parquet")
    from warm_ember.session.importing import ImportRequest, import_file
    from warm_ember.session.new_capture import adopt

    with Session.open_or_create(folder / "p") as session:
        report = import_file(session, ImportRequest(folder / "a.parquet"))
        adopt(session, report)
        assert report.samples == 5000
        assert report.sample_interval_s == pytest.approx(step_ns * 1e-9, rel=1e-6)
        assert not any("irregular" in note or "missing" in note for note in report.notes)
        assert session.capture("a").info.first_time_s == pytest.approx(first * 1e-9)
        assert session.capture("a").whole().mean_a == pytest.approx(2e-3)
