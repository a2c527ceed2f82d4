"""The library: what it answers is what the commands print, as records, tables and text that is safe to show."""

from __future__ import annotations

import dataclasses
import doctest
import json
import math
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import h5py
import numpy as np
import pytest

import warm_ember
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.source import ImportOptions
from warm_ember.library.findings import Findings
from warm_ember.library.project import Project
from warm_ember.library.record import Record
from warm_ember.library.taken import ImportChoices
from warm_ember.session.importing import ImportRequest
from warm_ember.session.session import Session

DOCUMENT = Path(__file__).parents[2] / "docs" / "library.md"
HOSTILE = "<script>alert(1)</script>\x1b[31m&\u202e"


@pytest.fixture
def project(demo_session: Session) -> Project:
    return Project(demo_session)


def finite(value: Any) -> Any:
    """Return what JSON can hold of an answer."""
    if isinstance(value, dict):
        return {name: finite(one) for name, one in value.items()}
    if isinstance(value, list):
        return [finite(one) for one in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def answers(project: Project, name: str) -> dict[str, tuple[Record, tuple[str, ...]]]:
    """Return each answer with the command that prints it."""
    run = project.runs[name]
    return {
        "states": (run.states(), ("states", name)),
        "wakes": (run.wakes({"rtc": 2.0}), ("wakes", name, "--slack", "rtc=2")),
        "kinds": (run.kinds(), ("kinds", name)),
        "findings": (run.findings(), ("findings", name)),
        "stretch": (run.stretch(1.0, 20.0), ("stretch", name, "--from", "1", "--to", "20")),
        "cycles": (run.stretch(whole_cycles=True), ("stretch", name, "--whole-cycles")),
        "life": (project.life(), ("life",)),
        "compare": (project.compare("r4", name, "half the charge"),
                    ("compare", "r4", name, "--claim", "half the charge")),
    }  # fmt: skip


@pytest.mark.parametrize("name", ["r3", "r5"])
def test_a_record_is_what_the_command_prints(project: Project, command, name: str) -> None:
    for what, (answer, arguments) in answers(project, name).items():
        code, out, _ = command(arguments[0], project.path, *arguments[1:], "--json")
        assert code == 0, what
        assert json.loads(out) == finite(answer.as_json()), what


def test_every_answer_is_a_table_with_the_fields_of_its_rows(project: Project) -> None:
    for what, (answer, _) in answers(project, "r5").items():
        table = answer.table()
        rows = [row.as_json() for row in getattr(answer, answer.ROWS)] if answer.ROWS else [answer.as_json()]
        assert table.num_rows == len(rows), what
        for name in table.column_names:
            if name in (rows[0] if rows else ()):
                assert table.column(name).to_pylist() == [row[name] for row in rows], (what, name)
        plain = {name for row in rows for name, value in row.items() if isinstance(value, (float, int, str))}
        assert plain <= set(table.column_names), what


def test_a_table_without_rows_has_its_columns() -> None:
    table = Findings(capture="r1", findings=()).table()
    assert table.num_rows == 0
    assert {"kind", "from_s", "cost_a", "text"} <= set(table.column_names)


def test_hostile_names_are_text_in_a_notebook(project: Project) -> None:
    class Row(Record, frozen=True, kw_only=True):
        name: str
        mean_a: float

    class Rows(Record, frozen=True, kw_only=True):
        ROWS = "rows"
        KEY = "name"
        capture: str
        rows: tuple[Row, ...]

    shown = Rows(capture=HOSTILE, rows=(Row(name=HOSTILE, mean_a=1.2e-5),))._repr_html_()
    assert "<script>" not in shown
    assert "&lt;script&gt;" in shown
    assert "\x1b" not in shown
    assert "\u202e" not in shown
    assert "12.0\u2009µA" in shown or "12.0 µA" in shown
    assert project.runs["r5"].states()._repr_html_().count("<tr>") > 8


def test_samples_are_those_of_the_file(project: Project, tmp_path: Path) -> None:
    run = project.runs["r4"]
    copy = shutil.copy(project.path / "captures" / "r4.h5", tmp_path / "copy.h5")  # the project holds it open
    with h5py.File(copy) as file:
        stored = file["current"][:]
    assert np.array_equal(run.samples(), stored, equal_nan=True)
    assert np.array_equal(run.samples(2.0, 2.5), stored[20_000:25_000])
    assert run.duration_s == pytest.approx(len(stored) * run.sample_interval_s)


def test_what_there_is_not_is_told_with_what_there_is(project: Project) -> None:
    with pytest.raises(KeyError, match=r"'r9'.*r1, r2"):
        project.runs["r9"]
    assert "r9" not in project.runs
    assert "r3" in project.runs
    assert list(project.runs) == ["r1", "r2", "r3", "r4", "r5"]
    with pytest.raises(BadArgumentError, match=r"'Snooze'.*Deep sleep"):
        project.runs["r5"].states()["Snooze"]
    with pytest.raises(KeyError):
        project.runs["r5"].wakes()["nobody"]
    with pytest.raises(BadArgumentError, match="--from and --to"):
        project.runs["r5"].stretch(1.0)


def test_a_file_is_imported_with_what_is_known_of_it(tmp_path: Path) -> None:
    file = tmp_path / "night.csv"
    rows = "\n".join(f"{k * 1e-3:.3f},{k % 7},hello" for k in range(400))
    file.write_text(f"time (s),I,remark\n{rows}\n")
    with warm_ember.open_project(tmp_path / "own", create=True) as project:
        report = project.import_file(file, unit="mA", supply_v=3.0, name="night")
        assert (report.capture, report.samples) == ("night", 400)
        assert any("remark" in text for text in report.left_out)
        assert not any("kept as channels" in text and "remark" in text for text in report.assumed)
        reading = project.runs["night"].stretch(0.0, 0.4)
        assert reading.mean_a == pytest.approx(np.mean(np.arange(400) % 7) * 1e-3, rel=1e-6)
        assert reading.energy_j == pytest.approx(reading.charge_c * 3.0)
        with pytest.raises(BadArgumentError, match=r"'speed'.*rate_hz"):
            project.import_file(file, speed=3)  # type: ignore[call-arg]
        with pytest.raises(BadFileError):
            project.import_file(tmp_path / "gone.csv")
        kinds = project.runs["night"].take_kinds()
        assert project.session.is_saved
        assert len(project.session.project.activities) == len(kinds.kinds)


def test_all_that_may_be_said_of_a_file_may_be_said_here() -> None:
    known = {one.name for of in (ImportOptions, ImportRequest) for one in dataclasses.fields(of)}
    assert known - {"file", "options"} == set(ImportChoices.__annotations__) - {"reading"}


def test_the_library_needs_no_window() -> None:
    code = (
        "import sys, warm_ember.library.project, warm_ember.library.power, warm_ember.library.record;"
        "assert not any(name.startswith('PySide6') for name in sys.modules)"
    )
    subprocess.run([sys.executable, "-c", code], check=True)


def test_the_examples_of_the_document_are_true(demo_copy: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(demo_copy.parent)
    text = "\n".join(re.findall(r"```python\n(>>>.*?)```", DOCUMENT.read_text(encoding="utf-8"), re.DOTALL))
    examples = doctest.DocTestParser().get_doctest(text, {}, "docs/library.md", str(DOCUMENT), 0)
    told: list[str] = []
    runner = doctest.DocTestRunner(optionflags=doctest.ELLIPSIS | doctest.IGNORE_EXCEPTION_DETAIL)
    found = runner.run(examples, out=told.append)
    assert found.failed == 0, "".join(told)
    assert found.attempted > 15
