"""What was chosen for one file is kept for all that have the same header."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats import reading
from warm_ember.formats.source import ImportOptions

HEADER = ("time", "ch1", "ch2")


def written(tmp_path: Path, name: str) -> Path:
    path = tmp_path / name
    path.write_text(",".join(HEADER) + "\n" + "".join(f"{k / 10:.1f},{k % 3},{2 + k % 2}\n" for k in range(100)))
    return path


def test_a_reading_is_kept_and_given_by_its_name(tmp_path: Path, command) -> None:
    chosen = reading.reading_of(HEADER, ImportOptions(current_column="3", unit="uA"))
    assert chosen is not None
    assert chosen.options == {"current_column": "ch2", "unit": "uA"}
    assert reading.keep("night log", chosen) == "night log"
    file = written(tmp_path, "a.csv")
    assert command("import", tmp_path / "p", file)[0] == 2
    assert command("import", tmp_path / "p", file, "--reading", "night log")[0] == 0
    mean_a = json.loads(command("states", tmp_path / "p", "a", "--json")[1])["mean_a"]
    assert mean_a == pytest.approx(2.5e-6)
    # What is said by itself goes before what the reading says.
    assert command("import", tmp_path / "p", file, "--name", "b", "--reading", "night log", "--unit", "mA")[0] == 0
    assert json.loads(command("states", tmp_path / "p", "b", "--json")[1])["mean_a"] == pytest.approx(2.5e-3)


def test_one_header_has_one_reading(tmp_path: Path) -> None:
    for unit in ("mA", "nA"):
        chosen = reading.reading_of(HEADER, ImportOptions(current_column="ch1", unit=unit))
        assert chosen is not None
        assert reading.keep(f"as {unit}", chosen) == "as mA"
    found = reading.named_for(HEADER)
    assert found is not None
    assert (found[0], found[1].options["unit"]) == ("as mA", "nA")
    assert reading.named_for(("time", "ch1")) is None
    assert reading.reading_of(HEADER, ImportOptions()) is None


@pytest.mark.parametrize("name", ["", "../x", ".hidden", "a/b", "x" * 200])
def test_a_name_that_is_no_files_name_is_refused(name: str) -> None:
    chosen = reading.reading_of(HEADER, ImportOptions(unit="mA"))
    assert chosen is not None
    with pytest.raises(BadArgumentError, match="a reading needs a name"):
        reading.keep(name, chosen)
    with pytest.raises(BadArgumentError, match="there is no reading"):
        reading.load(name)


@pytest.mark.parametrize("content", ["{", '{"header": [], "options": {"colour": 1}}', '{"header": ["a"]}'])
def test_a_damaged_reading_is_told(content: str) -> None:
    reading.folder().mkdir(parents=True)
    (reading.folder() / "bad.json").write_text(content)
    with pytest.raises(BadFileError, match="expected a reading"):
        reading.load("bad")
