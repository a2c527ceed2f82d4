"""What is exported says the same as the program does, and comes back by import."""

import msgspec
import numpy as np
import pyarrow as pa
import pytest
from pyarrow import csv, parquet

from warm_ember.model.bench import Attached, Bench, BenchSettings, Recipe, SwitchOutput, Take
from warm_ember.report.contents import PAGE_TABLES
from warm_ember.report.export import export
from warm_ember.session.session import Session


def table(path) -> pa.Table:
    return csv.read_csv(path) if path.suffix == ".csv" else parquet.read_table(path)


@pytest.mark.parametrize("ending", ["csv", "parquet", "h5"])
def test_a_capture_goes_out_and_comes_back(demo_copy, tmp_path, command, ending: str) -> None:
    path = tmp_path / f"r4.{ending}"
    extra = () if ending == "h5" else ("--from", "60", "--to", "75")
    assert command("export", demo_copy, "r4", "capture", "-o", path, *extra)[0] == 0
    assert command("import", tmp_path / "back", path)[0] == 0
    with Session.open(demo_copy) as session, Session.open(tmp_path / "back") as back:
        old, new = session.capture("r4"), back.capture("r4")
        shift = 0.0 if ending == "h5" else 60.0
        for begin in (60.0, 63.3):
            ours, theirs = old.reading(begin, begin + 4), new.reading(begin - shift, begin - shift + 4)
            assert theirs.charge_c == pytest.approx(ours.charge_c, rel=1e-12)
            assert theirs.energy_j == pytest.approx(ours.energy_j, rel=1e-6)
        assert new.lines.names == old.lines.names


def test_missing_samples_stay_missing(tmp_path, command) -> None:
    values = np.array([1e-3, np.nan, 3e-3, 4e-3] * 50, dtype="<f4")
    values.tofile(tmp_path / "a.f32")
    command("import", tmp_path / "p", tmp_path / "a.f32", "--rate", "1000")
    for ending in ("csv", "parquet"):
        assert command("export", tmp_path / "p", "a", "capture", "-o", tmp_path / f"out.{ending}")[0] == 0
        assert table(tmp_path / f"out.{ending}")["current_a"].null_count == 50


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_tables_hold_what_the_program_shows(demo_copy, tmp_path, command, ending: str) -> None:
    made = {}
    for what in ("brackets", "ledger", "fold", "cycles", "findings"):
        path = tmp_path / f"{what}.{ending}"
        assert command("export", demo_copy, "r4", what, "-o", path)[0] == 0
        made[what] = table(path)
    with Session.open(demo_copy) as session:
        ledger = session.results.ledger(session.project, "r4")
        capture = session.capture("r4")
        bracket = session.project.brackets_of("r4")[1]
        assert made["ledger"]["charge_c"].to_pylist() == pytest.approx([row.charge_c for row in ledger.all_rows])
        assert made["brackets"]["charge_c"][1].as_py() == pytest.approx(
            capture.reading(bracket.from_s, bracket.to_s).charge_c
        )
    assert made["cycles"].num_rows > 3
    mean = np.array(made["fold"]["mean_a"])
    lengths = np.array(made["fold"]["to_s"]) - np.array(made["fold"]["from_s"])
    assert (mean * lengths).sum() == pytest.approx(np.mean(made["cycles"]["charge_c"]), rel=1e-6)


def test_folds_by_every_alignment(demo_copy, tmp_path, command) -> None:
    out = tmp_path / "f.csv"
    for options in (
        ("--align", "state", "--of", "Count"),
        ("--align", "line", "--of", "RTC_IRQ", "--length", "0.5", "--before", "0.1"),
        ("--align", "line", "--of", "RTC_IRQ", "--falling"),
        ("--threshold", "0.001", "--length", "0.2"),
        ("--period", "1.0"),
        ("--align", "wake"),
    ):
        assert command("export", demo_copy, "r4", "fold", "-o", out, *options)[0] == 0, options
        assert table(out).num_rows > 50


@pytest.mark.parametrize("name", ["t.svg", "t.png"])
def test_a_picture_of_the_trace(demo_copy, tmp_path, command, name: str) -> None:
    assert command("export", demo_copy, "r4", "trace", "-o", tmp_path / name, "--from", "36", "--to", "86")[0] == 0
    content = (tmp_path / name).read_bytes()
    assert content[:4] == b"\x89PNG" if name.endswith("png") else b"Transmit" in content


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("nothing", "-o", "a.csv"), "cannot export"),
        (("ledger", "-o", "a.txt"), "expected a file ending"),
        (("trace", "-o", "a.csv"), "expected a picture"),
        (("trace", "-o", "a.png", "--from", "50", "--to", "10"), "--from and --to"),
        (("fold", "-o", "a.csv", "--align", "line", "--of", "nix"), "no line"),
        (("fold", "-o", "a.csv", "--period", "0"), "period"),
        (("fold", "-o", "a.csv", "--align", "state", "--of", "Count", "--length", "9999"), "no cycle lies within"),
        (("fold", "-o", "a.csv", "--align", "wake", "--length", "nan"), "needs an end"),
        (("fold", "-o", "a.csv", "--before", "-1e9"), "no cycle lies within"),
        (("capture", "-o", "a.csv", "--from", "50", "--to", "10"), "reversed"),
        (("capture", "-o", "a.parquet", "--from", "nan"), "no end"),
        (("capture", "-o", "a.csv", "--from", "400", "--to", "500"), "outside"),
        (("capture", "-o", "/nowhere/a.csv"), "cannot be written"),
        (("ledger", "-o", "/nowhere/a.parquet"), "cannot be written"),
    ],
)
def test_what_cannot_be_exported_is_said(demo_copy, tmp_path, command, monkeypatch, arguments, words: str) -> None:
    monkeypatch.chdir(tmp_path)
    before = sorted(tmp_path.iterdir())
    code, out, error = command("export", demo_copy, "r4", *arguments)
    assert (code, out) == (2, "")
    assert words in error
    assert error.count("\n") == 1
    assert sorted(tmp_path.iterdir()) == before


@pytest.mark.parametrize("what", PAGE_TABLES)
def test_every_table_of_the_pages_leaves_with_its_columns(demo_session: Session, tmp_path, what: str) -> None:
    found = {}
    for ending in ("csv", "parquet"):
        export(demo_session, "r4", what, tmp_path / f"t.{ending}")
        found[ending] = table(tmp_path / f"t.{ending}")
    assert found["csv"].column_names == found["parquet"].column_names
    assert found["csv"].num_rows == found["parquet"].num_rows
    # Of these the demo may have none.
    assert found["csv"].num_rows or what in ("corrections", "wake-plan", "odd-cycles", "recipes")
    numbers = [one.name for one in found["parquet"].schema if pa.types.is_floating(one.type)]
    ends = (
        "_a",
        "_c",
        "_s",
        "_v",
        "_hz",
        "_per_h",
        "_low",
        "_high",
        "_mean",
        "_months",
        "_degc",
        "_share",
        "_ohm",
        "factor",
    )
    assert all(name.endswith(ends) for name in numbers), numbers  # the unit is in the name


def test_entries_and_parts_of_states_add_up_to_the_ledger(demo_session: Session, tmp_path) -> None:
    made = {}
    for what in ("entries", "state-parts", "idle-stretches"):
        export(demo_session, "r4", what, tmp_path / f"{what}.parquet")
        made[what] = table(tmp_path / f"{what}.parquet").to_pylist()
    ledger = demo_session.results.ledger(demo_session.project, "r4")
    for row in ledger.rows:
        stays = [one for one in made["entries"] if one["state"] == row.name]
        assert len(stays) == row.entries
        assert sum(one["charge_c"] for one in stays) == pytest.approx(row.charge_c, rel=1e-9)
        for by in ("entry", "state before", "wake"):
            parts = [one for one in made["state-parts"] if (one["state"], one["split_by"]) == (row.name, by)]
            assert sum(one["entries"] for one in parts) == row.entries
            assert sum(one["charge_c"] for one in parts) == pytest.approx(row.charge_c, rel=1e-9)
    assert sum(one["dwell_s"] for one in made["entries"]) == pytest.approx(demo_session.capture("r4").duration_s)
    depth = demo_session.results.wake_ledger(demo_session.project, "r4").depth
    assert sum(one["lost_c"] for one in made["idle-stretches"]) == pytest.approx(float(depth.lost_c.sum()))
    assert {one["mode"] for one in made["idle-stretches"]} >= {row.mode for row in depth.rows}


def test_what_the_bench_is_set_to_leaves_as_tables(demo_session: Session, tmp_path) -> None:
    bench = Bench(
        settings=BenchSettings(voltage_v=3.0),
        attached=(Attached("divider", ohm=3e6, subtracted=True), Attached("meter", current_a=2e-7)),
        recipes=(Recipe("boot", steps=(SwitchOutput(cycle=True), Take(10.0))),),
    )
    demo_session.project = msgspec.structs.replace(demo_session.project, bench=bench)
    made = {}
    for what in ("loads", "recipes"):
        export(demo_session, "r4", what, tmp_path / f"{what}.parquet")
        made[what] = table(tmp_path / f"{what}.parquet").to_pylist()
    assert [(one["load"], one["draws_a"], one["subtracted"]) for one in made["loads"]] == [
        ("divider", pytest.approx(1e-6), True),
        ("meter", pytest.approx(2e-7), False),
    ]
    assert [(one["recipe"], one["step"], one["words"]) for one in made["recipes"]] == [
        ("boot", 1, "power off and on"),
        ("boot", 2, "record 10 s"),
    ]


def test_tables_of_the_pages_say_what_the_pages_say(demo_session: Session, tmp_path, command) -> None:
    made, session = {}, demo_session
    for what in ("sources", "runs", "comparison", "matrix", "activities"):
        export(session, "r4", what, tmp_path / f"{what}.parquet")
        made[what] = table(tmp_path / f"{what}.parquet").to_pylist()
    project, run = session.project, session.run("r4")
    wakes = session.results.wake_ledger(project, "r4")
    assert [row["added_a"] for row in made["sources"]] == [one.added_a for one in wakes.sources]
    assert [row["mean_a"] for row in made["runs"]][3] == run.load.mean_a
    compared = session.tuning.compare(project, "r3", "r4")
    assert made["comparison"][0]["change_a"] == compared.average.change_a
    assert len(made["comparison"]) == 1 + len(compared.states) + len(compared.sources) + len(compared.activities)
    matrix = session.tuning.matrix(project, "r4")
    assert len(made["matrix"]) == len(matrix.rows) * len(matrix.columns)
    drawn = sum(row["rate_hz"] * row["charge_c"] for row in made["activities"])
    assert drawn < run.load.mean_a
    assert command("export", session.folder.path, "r4", "sources", "-o", tmp_path / "s.csv") == (0, "", "")
    np.full(100, 1e-3, dtype="<f4").tofile(tmp_path / "a.f32")
    command("import", tmp_path / "one", tmp_path / "a.f32", "--rate", "1000")
    code, _, err = command("export", tmp_path / "one", "a", "comparison", "-o", tmp_path / "c.csv")
    assert (code, err.count("\n")) == (2, 1)
    assert "no run before" in err


@pytest.mark.parametrize("ending", ["svg", "png"])
def test_a_picture_is_as_wide_as_was_asked_for(demo_path, tmp_path, command, ending: str) -> None:
    path = tmp_path / f"t.{ending}"
    assert command("export", demo_path, "r5", "trace", "-o", path, "--width", "777") == (0, "", "")
    if ending == "png":
        assert int.from_bytes(path.read_bytes()[16:20], "big") == 777
    else:
        assert 'viewBox="0 0 777 ' in path.read_text(encoding="utf-8")
    code, _, err = command("export", demo_path, "r5", "trace", "-o", path, "--width", "3")
    assert code == 2
    assert "16 to 16000" in err
