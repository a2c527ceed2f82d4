"""Parts entered in place: a line, a table as it was pasted, and what comes of them."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.parts import Part, PartMode, PartOn, Power
from warm_ember.model.project import ExpectedValue, Project
from warm_ember.session import part_entry, plan_edits
from warm_ember.store.parts_file import read_parts_file

NAMES = st.text("abcdefgh ABC", min_size=1, max_size=12).map(lambda text: " ".join(text.split())).filter(bool)
CURRENTS = st.floats(1e-9, 1.0)
MODES = st.lists(st.tuples(NAMES, CURRENTS), min_size=1, max_size=4, unique_by=lambda one: one[0].casefold())
PARTS = st.lists(
    st.tuples(NAMES, MODES),
    min_size=1,
    max_size=4,
    unique_by=lambda one: one[0],
)  # fmt: skip


@given(NAMES, MODES)
def test_a_line_is_read_as_it_was_written(name: str, modes: list[tuple[str, float]]) -> None:
    text = f"{name}: " + ", ".join(f"{mode} {1e6 * current_a:.6g} µA" for mode, current_a in modes)
    part = part_entry.read_part_line(text)
    assert part.name == name
    assert [(mode.name, pytest.approx(mode.current_a, rel=1e-5)) for mode in part.modes] == modes


@pytest.mark.parametrize("sign", ["\t", "; ", "   "])
@pytest.mark.parametrize(
    ("head", "factor"), [("part{0}mode{0}current (µA)", 1e6), ("part{0}mode{0}I [mA]", 1e3), ("", 0)]
)
@given(parts=PARTS)
def test_a_table_is_read_row_by_row(sign: str, head: str, factor: float, parts) -> None:
    rows = [head.format(sign)] if head else []
    for name, modes in parts:
        for number, (mode, current_a) in enumerate(modes):
            current = f"{current_a * factor:.9g}" if factor else f"{1e9 * current_a:.9g} nA"
            # A part is named once where the cells tell that one is empty.
            rows.append(sign.join(("" if number and sign == "\t" else name, mode, current)))
    found = part_entry.read_parts_table("\n".join(rows))
    assert [part.name for part in found] == [name for name, _ in parts]
    for part, (_, modes) in zip(found, parts, strict=True):
        assert [(mode.name, pytest.approx(mode.current_a, rel=1e-6)) for mode in part.modes] == modes


@pytest.mark.parametrize(("text", "words"), [
    ("", "expected a part with its modes"),
    ("Rowan", "expected a part with its modes"),
    ("Rowan: run", "expected a mode and its current"),
    ("Rowan: run fast", "expected a mode and its current"),
    ("Rowan: run -3 mA", "0 or more"),
    ("Rowan: run 3 mA, run 4 mA", "two modes"),
    ("Rowan + Thrush: run 3 mA", "without “+”"),
])  # fmt: skip
def test_what_is_no_part_says_what_was_expected(text: str, words: str) -> None:
    with pytest.raises(BadArgumentError, match=words.replace("+", r"\+")):
        part_entry.read_part_line(text)


@pytest.mark.parametrize(("text", "words"), [
    ("", "no row"),
    ("Rowan\trun\tmuch", "no row"),
    ("Rowan\trun\t3 mA\nThrush\ton\t5 V", "row 2"),
    ("Rowan\trun\t3 mA\njust words", "row 2"),
    ("\trun\t3 mA", "name of a part first"),
])  # fmt: skip
def test_a_table_with_an_error_says_in_which_row(text: str, words: str) -> None:
    with pytest.raises(BadArgumentError, match=words):
        part_entry.read_parts_table(text)


def test_how_far_a_part_is_on_is_told_by_its_mode() -> None:
    part = part_entry.read_part_line("Sedge: standby 9 µA, off 0, memory retained 1 µA, gated 0.1 µA")
    assert [mode.power for mode in part.modes] == [Power.ON, Power.OFF, Power.RETAINED, Power.GATED]


def test_adding_a_part_again_keeps_what_it_had() -> None:
    first = part_entry.add_parts([part_entry.read_part_line("Rowan: run 3 mA, off 0")])(Project())
    second = part_entry.add_parts([part_entry.read_part_line("Rowan: run 3.1 mA, deep sleep 1.6 µA")])(first)
    (part,) = second.parts
    modes = {mode.name: mode.current_a for mode in part.modes}
    assert modes == pytest.approx({"run": 3.1e-3, "off": 0.0, "deep sleep": 1.6e-6})


def test_the_first_part_of_a_state_begins_what_is_expected_of_it() -> None:
    project = part_entry.add_parts([part_entry.read_part_line("Rowan: run 3 mA, off 0")])(Project())
    said = plan_edits.set_part("Rowan", "run", "level 2")(project)
    assert said.expected == (ExpectedValue("level 2", parts=(PartOn("Rowan", "run"),)),)
    assert plan_edits.set_part("Rowan", "", "level 2")(said).expected == ()
    assert plan_edits.set_part("Rowan", "", "level 3")(said) == said
    assert part_entry.drop_part("Rowan")(said) == Project()


def test_parts_are_saved_to_a_file_that_is_read_again(tmp_path: Path) -> None:
    parts = (Part("Rowan", (PartMode("run", 3.1e-3), PartMode("off", 0.0, power=Power.OFF))),)
    part_entry.save_parts(Project(name="post", parts=parts), tmp_path / "parts.json")
    assert read_parts_file(tmp_path / "parts.json").parts == parts
    with pytest.raises(BadFileError, match="cannot be written"):
        part_entry.save_parts(Project(parts=parts), tmp_path / "nowhere" / "parts.json")
