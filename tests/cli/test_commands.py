"""The command line, as other programs use it."""

import json
import subprocess
import sys
import tomllib
from pathlib import Path

import h5py
import numpy as np
import pytest

from shared_results import SharedResults
from warm_ember.session.session import Session

GRADED = ("grade", "bound")
STATES_KEYS = {
    "capture", "duration_s", "mean_a", "mean_a_low", "mean_a_high", "charge_c", "energy_j", "unplaced_share", "states",
    *GRADED, "window", "whole_cycles",
}  # fmt: skip
STATE_KEYS = {
    "name", "entries", "dwell_s", "time_share", "mean_a", "mean_a_low", "mean_a_high", "charge_c", "charge_share",
    "energy_j", "expected_a", "verdict", *GRADED,
}  # fmt: skip
LIFE_KEYS = {
    "mean_a", "life_h", "life_h_p10", "life_h_p50", "life_h_p90", "limit", "used_capacity_c", "target_h", "budget_a",
    *GRADED, "weakest",
}  # fmt: skip


@pytest.fixture
def ramp_file(tmp_path: Path) -> Path:
    path = tmp_path / "ramp.f32"
    np.arange(1000, dtype="<f4").tofile(path)
    return path


def test_states_has_exactly_the_keys_of_the_contract(demo_path: Path, command) -> None:
    code, out, err = command("states", demo_path, "r4", "--json")
    assert (code, err) == (0, "")
    states = json.loads(out)
    assert set(states) == STATES_KEYS
    assert all(set(state) == STATE_KEYS for state in states["states"])
    often = [state for state in states["states"] if state["entries"] > 1]
    assert all(state["mean_a_low"] <= state["mean_a"] <= state["mean_a_high"] for state in often)
    # Of what was entered once nothing is known of how it scatters.
    assert all(state["mean_a_low"] is None for state in states["states"] if state["entries"] == 1)
    assert sum(state["charge_c"] for state in states["states"]) == pytest.approx(states["charge_c"])
    assert {state["verdict"] for state in states["states"]} == {"ok", "above"}


def test_wakes_have_exactly_the_keys_of_the_contract(demo_path: Path, command) -> None:
    code, out, _ = command("wakes", demo_path, "r5", "--json")
    found = json.loads(out)
    assert code == 0
    whole = [
        "floor_a",
        "floor_a_low",
        "floor_a_high",
        "charge_c",
        "awake_charge_c",
        "sleep_charge_c",
        "ends_charge_c",
        "coverage",
        *GRADED,
    ]
    assert set(found) == {"capture", "wakes", "rate_per_h", *whole, "sources", "idle", "aligned"}
    ends = [f"{name}_{end}" for name in ("charge_c_mean", "added_a") for end in ("low", "high")]
    keys = ["source", "count", "rate_per_h", "awake_s_mean", "charge_c_mean", "added_a", *ends, *GRADED]
    assert all(set(row) == set(keys) for row in found["sources"])
    idle = ["mode", "count", "time_s", "too_shallow", "too_deep", "lost_a", "mean_a", "judged", *GRADED]
    assert all(list(row) == idle for row in found["idle"])
    parts = ("awake_charge_c", "sleep_charge_c", "ends_charge_c")
    assert sum(found[part] for part in parts) == pytest.approx(found["charge_c"], rel=1e-9)
    assert found["wakes"] == sum(row["count"] for row in found["sources"])
    assert found["rate_per_h"] == pytest.approx(found["wakes"] * 12)
    assert {row["source"] for row in found["sources"]} == {"rtc", "pir", "alarm"}
    moved = json.loads(command("wakes", demo_path, "r5", "--json", "--slack", "rtc=2")[1])
    assert moved["aligned"]["rate_per_h"] < found["aligned"]["rate_per_h"]
    assert moved["aligned"]["saved_a"] > 0
    assert "rtc" in command("wakes", demo_path, "r5")[1]
    code, _, error = command("wakes", demo_path, "r5", "--slack", "rtc")
    assert (code, error.count("\n")) == (2, 1)


def test_life_has_exactly_the_keys_of_the_contract(demo_path: Path, command) -> None:
    code, out, _ = command("life", demo_path, "--json")
    life = json.loads(out)
    assert code == 0
    assert set(life) == LIFE_KEYS
    assert life["life_h_p10"] < life["life_h_p50"] < life["life_h_p90"]
    assert life["target_h"] == pytest.approx(36 * 730)


def test_an_activity_file_goes_before_the_project(tmp_path: Path, command) -> None:
    path = tmp_path / "a.json"
    content = {
        "battery": {"capacity_c": 3600, "self_discharge_per_year": 0.05, "reserve": 0.1},
        "base_a": 1e-5,
        "activities": [{"name": "send", "current_a": 0.1, "duration_s": 2, "interval_s": 3600, "peak_a": 0.2}],
        "target_h": 1000,
    }
    path.write_text(json.dumps(content))
    code, out, _ = command("life", tmp_path / "none", "--activities", path, "--json")
    life = json.loads(out)
    mean = 1e-5 + (0.2 - 2e-5) / 3600
    k = 0.05 / 8760
    usable_ah = 0.9
    assert code == 0
    assert life["mean_a"] == pytest.approx(mean)
    assert life["life_h"] == pytest.approx(np.log1p(k * usable_ah / mean) / k)
    assert life["budget_a"] == pytest.approx(k * usable_ah / np.expm1(k * 1000))
    assert life["limit"] == "capacity"
    content["battery"]["cell"] = {"ocv_v": [[0, 2.0], [1, 3.0]]}
    content["battery"] |= {"cutoff_v": 2.4, "resistance_ohm": 1.0}
    path.write_text(json.dumps(content))
    life = json.loads(command("life", tmp_path, "--activities", path, "--json")[1])
    assert life["limit"] == "pulse-sag"


def test_an_activity_file_may_say_more_than_it_must(tmp_path: Path, command) -> None:
    path = tmp_path / "a.json"
    burst = {"name": "send", "current_a": 0.1, "duration_s": 2, "peak_a": 0.4}
    content = {
        "battery": {"capacity_c": 3600, "cutoff_v": 2.4, "cell": {"ocv_v": [[0, 2], [1, 3]], "resistance_ohm": 2}},
        "supply": {"kind": "direct", "input_f": 0.01},
        "climate": {"months_c": [20], "start": "2027-06-01"},
        "base_a": 1e-5,
        "activities": [
            {**burst, "per_day": 24, "random": True, "months": [1] * 12, "peak_s": 0.002},
            {"name": "retry", "charge_c": 0.1, "follows": "send", "probability": 0.5, "retries": 1},
        ],
    }

    def life() -> dict[str, float]:
        path.write_text(json.dumps(content))
        code, out, _ = command("life", tmp_path, "--activities", path, "--json")
        assert code == 0
        assert set(json.loads(out)) == LIFE_KEYS
        return json.loads(out)

    mean_a = 1e-5 + (0.2 - 2e-5) / 3600 + 0.75 * 0.1 / 3600
    helped = life()
    assert helped["mean_a"] == pytest.approx(mean_a)
    del content["supply"]["input_f"]
    alone = life()
    # 2 + s - 0.8 V = 2.4 V is never met; behind the capacitor a tenth of the pulse is left.
    assert (alone["limit"], alone["life_h"]) == ("pulse-sag", 0.0)
    assert helped["life_h"] > 0.4 * 1 / mean_a
    for wrong, problem in (
        ({"climate": {"months_c": [1, 2]}}, "12 temperatures"),
        ({"activities": [{**burst, "follows": "send"}]}, "follows itself"),
        ({"activities": [{**burst, "per_day": 1, "hours": [1]}]}, "24 weights"),
        ({"supply": {"kind": "switching", "efficiency_by_load": [[0.1, 2]]}}, "efficiency_by_load"),
    ):
        path.write_text(json.dumps({**content, **wrong}))
        code, _, error = command("life", tmp_path, "--activities", path, "--json")
        assert (code, error.count("\n")) == (2, 1)
        assert problem in error


def test_nothing_drawn_has_a_life_without_end(tmp_path: Path, command) -> None:
    path = tmp_path / "a.json"
    path.write_text("{}")
    assert json.loads(command("life", tmp_path, "--activities", path, "--json")[1])["life_h"] is None
    assert "for ever" in command("life", tmp_path, "--activities", path)[1]


def test_the_demo_prints_what_the_window_shows(
    demo_copy: Path, command, shared_results: SharedResults, monkeypatch: pytest.MonkeyPatch
) -> None:
    open_project = Session.open
    monkeypatch.setattr(Session, "open", lambda path: shared_results.lend(open_project(path)))
    code, out, _ = command("demo", demo_copy, "--headless")
    assert code == 0
    assert "25.5 months at 275 µA on average" in out
    assert "target 36.0 months met" in out
    code, out, _ = command("demo", demo_copy, "--headless", "--json")
    runs = json.loads(out)["runs"]
    session = Session.open(demo_copy)
    for run in runs:
        assert run["life"]["life_h"] == session.run(run["capture"]).life.life_s / 3600
        assert run["states"]["charge_c"] == session.run(run["capture"]).ledger.charge_c
    session.close()


def test_import_reports_what_it_assumed(tmp_path: Path, ramp_file: Path, command) -> None:
    code, out, _ = command("import", tmp_path / "p", ramp_file, "--rate", "1000")
    assert code == 0
    assert "unit assumed: A" in out
    code, _, err = command("import", tmp_path / "p", ramp_file, "--rate", "1000")
    assert code == 2
    assert "--replace" in err
    assert command("import", tmp_path / "p", ramp_file, "--rate", "500", "--replace", "--json")[0] == 0
    out = command("stretch", tmp_path / "p", "ramp", "--from", "0", "--to", "1", "--json")[1]
    assert json.loads(out) == {
        "from_s": 0.0, "to_s": 1.0, "coverage": 1.0, "mean_a": 249.5, "mean_a_low": None, "mean_a_high": None,
        "min_a": 0.0, "max_a": 499.0,
        "charge_c": pytest.approx(249.5), "energy_j": None, "grade": "measured", "bound": None,
    }  # fmt: skip


def test_events_come_with_the_import_and_place_the_states(tmp_path: Path, ramp_file: Path, command) -> None:
    events = tmp_path / "log.csv"
    events.write_text("time_s,event,name,value\n0,state,Low,\n0.25,state,High,\n0.5,sleep,deep,\n")
    command("import", tmp_path / "p", ramp_file, "--rate", "1000", "--unit", "uA", "--events", events, "--name", "x y")
    states = json.loads(command("states", tmp_path / "p", "x y", "--json")[1])
    assert [(s["name"], s["dwell_s"]) for s in states["states"]] == [("Low", 0.25), ("High", 0.75)]
    assert states["states"][1]["charge_c"] == pytest.approx(sum(range(250, 1000)) * 1e-9, rel=1e-5)


BAD = [
    (["stretch", "{demo}", "r4", "--from", "5", "--to", "1"], "reversed"),
    (["stretch", "{demo}", "r4", "--from", "900", "--to", "901"], "outside"),
    (["stretch", "{demo}", "r4", "--from", "nan", "--to", "1"], "no end"),
    (["stretch", "{demo}", "r4", "--from", "x", "--to", "1"], "--from"),
    (["stretch", "{demo}", "r4"], "--from"),
    (["stretch", "{demo}"], "NAME"),
    (["states", "{demo}", "r9"], "r9"),
    (["states", "{demo}", "../r4"], "capture name"),
    (["states", "{empty}", "r4"], "project.json"),
    (["life", "{empty}"], "project.json"),
    (["life", "{demo}", "--activities", "{empty}/none.json"], "none.json"),
    (["import", "{empty}/p", "{empty}/none.csv"], "no such file"),
    (["import", "{empty}/p", "{empty}"], "expected a file"),
    (["import", "{empty}/p", "{junk}", "--name", "a/b"], "capture name"),
    (["import", "{empty}/p", "{junk}"], "table of numbers"),
    (["import", "{empty}/p", "{junk}", "--rate", "0"], "--rate"),
    (["import", "{empty}/p", "{junk}", "--supply", "-3"], "--supply"),
    (["import", "{empty}/p", "{junk}", "--format", "f99", "--rate", "1"], "f99"),
    (["demo", "{junk}", "--headless"], "not empty"),
    (["fly", "--high"], "No such option"),
    (["nowhere"], "no such project"),
    (["--nonsense"], "nonsense"),
]


@pytest.mark.parametrize(("arguments", "problem"), BAD)
def test_bad_input_is_one_line_and_leaves_nothing(
    demo_path: Path, tmp_path: Path, command, arguments: list[str], problem: str
) -> None:
    empty = tmp_path / "empty"
    empty.mkdir()
    junk = tmp_path / "junk.txt"
    junk.write_text("dear diary\n")
    places = {"demo": demo_path, "empty": empty, "junk": junk}
    code, out, err = command(*(argument.format(**places) for argument in arguments))
    assert code == 2
    assert out == ""
    assert err.count("\n") == 1
    assert problem in err
    assert list(empty.iterdir()) == []


def test_a_broken_project_stays_as_it_is(tmp_path: Path, ramp_file: Path, command) -> None:
    (tmp_path / "p").mkdir()
    file = tmp_path / "p" / "project.json"
    file.write_text('{"format": 99}')
    for arguments in (["import", tmp_path / "p", ramp_file, "--rate", "1"], ["states", tmp_path / "p", "x"]):
        code, _, err = command(*arguments)
        assert code == 2
        assert "newer" in err
    assert file.read_text() == '{"format": 99}'
    assert [path.name for path in (tmp_path / "p").iterdir()] == ["project.json"]


def test_a_capture_changed_by_another_tool_reads_as_it_is_now(tmp_path: Path, ramp_file: Path, command) -> None:
    command("import", tmp_path / "p", ramp_file, "--rate", "1000")
    with h5py.File(tmp_path / "p" / "captures" / "ramp.h5", "r+") as file:
        file["current"][:] = 1.0
    out = command("stretch", tmp_path / "p", "ramp", "--from", "0", "--to", "1", "--json")[1]
    assert json.loads(out)["charge_c"] == pytest.approx(1.0)


def test_the_program_as_a_process(demo_path: Path) -> None:
    call = [sys.executable, "-m", "warm_ember"]
    done = subprocess.run([*call, "states", demo_path, "r5"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    assert "Deep sleep" in done.stdout
    done = subprocess.run([*call, "states", demo_path, "r6"], capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith("warm-ember: ")
    assert done.stderr.count("\n") == 1


def test_commands_do_without_qt(demo_path: Path) -> None:
    script = (
        "import sys; sys.modules['PySide6'] = None; from warm_ember.cli.app import run; "
        f"code = run(['life', {str(demo_path)!r}]); window = run([{str(demo_path)!r}]); sys.exit(10 * window + code)"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False)
    assert done.returncode == 20
    assert "commands work without it" in done.stderr


@pytest.fixture
def traced(tmp_path: Path) -> tuple[Path, Path, Path]:
    """A capture of five seconds with the trace stream and the program that ran."""
    from warm_ember.bench.simulated import program
    from warm_ember.model.capture import Event

    events = (Event(0.0, "state", "Deep sleep"), Event(1.0, "state", "Count"), Event(3.0, "state", "Transmit"))
    files = tmp_path / "c.csv", tmp_path / "c.itm", tmp_path / "c.elf"
    current = np.repeat([2e-6, 7e-3, 0.127], [1000, 2000, 2000])
    files[0].write_text("time_s,current_a\n" + "".join(f"{k * 1e-3:.3f},{i}\n" for k, i in enumerate(current)))
    files[1].write_bytes(program.trace_stream(program.execute(events, 5.0, 1)))
    files[2].write_bytes(program.elf_file())
    return files


def test_functions_come_with_the_trace_and_the_program(command, tmp_path: Path, traced) -> None:
    table, stream, elf = traced
    code, out, _ = command("import", tmp_path / "p", table, "--itm", stream, "--elf", elf, "--itm-clock", 375e3)
    assert code == 0
    assert "trace clock of 375 kHz as given" in out
    # A capture that is exported and imported again has its functions still.
    assert command("export", tmp_path / "p", "c", "capture", "-o", tmp_path / "again.h5")[0] == 0
    assert command("import", tmp_path / "p", tmp_path / "again.h5")[0] == 0
    assert command("export", tmp_path / "p", "again", "functions", "-o", tmp_path / "f.csv")[0] == 0
    lines = (tmp_path / "f.csv").read_text().splitlines()
    rows = {line.split(",")[0].strip('"'): line.split(",") for line in lines[1:]}
    charge = lines[0].replace('"', "").split(",").index("charge_c")
    assert sum(float(row[charge]) for row in rows.values()) == pytest.approx(2e-6 + 14e-3 + 0.254, rel=2e-3)
    assert max(rows, key=lambda name: float(rows[name][charge])) == "modem_wait_reply"


def test_what_is_wrong_with_trace_or_program_is_told_and_the_rest_works(command, tmp_path: Path, traced) -> None:
    table, stream, elf = traced
    stream.write_bytes(stream.read_bytes()[:-1])
    elf.write_bytes(elf.read_bytes().replace(b".symtab\0", b".absent\0"))
    code, out, err = command("import", tmp_path / "p", table, "--itm", stream, "--elf", elf)
    assert (code, err) == (0, "")
    assert "is cut off" in out
    assert "has no function symbols" in out
    assert "so that the stream lasts as long as the capture" in out
    assert command("states", tmp_path / "p", "c")[0] == 0
    for extra, told in (
        (("--elf", elf), "give the stream with --itm too"),
        (("--itm", elf), "program-counter samples, found none"),
        (("--itm", stream, "--elf", table), "expected an ELF file"),
        (("--itm", stream, "--itm-clock", -1), "--itm-clock must be above 0 Hz"),
    ):
        code, _, err = command("import", tmp_path / "q", table, *extra)
        assert (code, err.count("\n")) == (2, 1)
        assert told in err
    assert not (tmp_path / "q").exists()
    code, _, err = command("export", tmp_path / "p", "c", "crossings", "-o", tmp_path / "x.parquet")
    assert (code, err) == (0, "")


def test_events_that_are_unknown_or_out_of_order_are_told_and_kept(command, tmp_path: Path, traced) -> None:
    log = tmp_path / "log.csv"
    log.write_text("time_s,event,name,value\n0,state,A,\n3,state,B,\n1,beep,loud,\n2,state,A,\n")
    code, out, _ = command("import", tmp_path / "p", traced[0], "--events", log)
    assert code == 0
    assert "log.csv, line 4: 'beep' is none of state, wake" in out
    assert "log.csv, line 4: earlier than the event before it" in out
    told = json.loads(command("states", tmp_path / "p", "c", "--json")[1])
    assert {row["name"]: row["dwell_s"] for row in told["states"]} == {"A": pytest.approx(3.0), "B": pytest.approx(2.0)}


def test_the_version_is_that_of_the_package() -> None:
    told = subprocess.run([sys.executable, "-m", "warm_ember", "--version"], capture_output=True, text=True, check=True)
    project = tomllib.loads((Path(__file__).parents[2] / "pyproject.toml").read_text())["project"]
    assert told.stdout == f"warm-ember {project['version']}\n"
    assert told.stderr == ""
