"""Expected values from parts, and the files they come from."""

from __future__ import annotations

from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.attribution.expected import mismatches, resolve
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.parts import Part, PartLibrary, PartMode, PartOn, parts_text, read_parts
from warm_ember.model.project import ExpectedValue
from warm_ember.store.parts_file import read_parts_file, shipped_parts

LIBRARY = shipped_parts().parts
EVERY = [PartOn(part.name, mode.name) for part in LIBRARY for mode in part.modes]


@given(st.lists(st.sampled_from(EVERY), min_size=1, max_size=6))
def test_a_sum_is_its_parts_and_its_text_reads_back(parts) -> None:
    assert read_parts(parts_text(parts).upper(), LIBRARY) == tuple(parts)
    found = resolve(ExpectedValue("Sleep", 1.0, parts=tuple(parts)), LIBRARY)
    currents = {(part.name, mode.name): mode.current_a for part in LIBRARY for mode in part.modes}
    assert found.value.current_a == pytest.approx(sum(currents[one.part, one.mode] for one in parts))
    assert found.value.tolerance == pytest.approx(0.2)
    assert found.missing == ()


def test_a_part_that_nobody_knows_is_left_out_and_named() -> None:
    found = resolve(ExpectedValue("Sleep", parts=(PartOn("Thrush", "on"), PartOn("Heron", "on"))), LIBRARY)
    assert found.missing == (PartOn("Heron", "on"),)
    assert found.value.current_a == 5.2e-6
    with pytest.raises(BadArgumentError, match="no part is called 'Heron on'; there are: Rowan, Thrush"):
        read_parts("Thrush on + Heron on", LIBRARY)
    with pytest.raises(BadArgumentError, match="none yet: add a file of parts"):
        read_parts("Thrush on", ())


def test_a_typed_value_stays_as_it_is() -> None:
    value = ExpectedValue("Sleep", 2e-6, 0.1, "3.0 V", "bench note")
    assert resolve(value, LIBRARY).value is value


@pytest.mark.parametrize(
    ("condition", "told"),
    [
        ("3.0 V, 21 °C, 24 MHz", ()),
        ("3,3 V", ("holds at 3.30 V, measured at 3.00 V",)),
        ("−10 °C", ("holds at -10 °C, measured at 21 °C",)),
        ("23 dBm, 12 Vpp", ()),
    ],
)
def test_conditions_are_held_against_the_capture(condition: str, told: tuple[str, ...]) -> None:
    assert mismatches(condition, CaptureInfo(1e-3, supply_v=3.0, temperature_c=21.0)) == told
    assert mismatches(condition, CaptureInfo(1e-3)) == ()


def test_a_file_of_parts_is_read_back(tmp_path: Path) -> None:
    path = tmp_path / "parts.json"
    path.write_bytes(msgspec.json.encode(shipped_parts()))
    assert read_parts_file(path) == shipped_parts()


@pytest.mark.parametrize(
    ("content", "told"),
    [
        (b"{", "this is no file of parts"),
        (b'{"parts": [], "format": 9}', "format 9 is newer than 1"),
        (b'{"parts": [{"name": "A", "modes": []}]}', "A needs modes"),
        (b'{"parts": [{"name": "A", "modes": [{"name": "on", "current_a": "much"}]}]}', "this is no file of parts"),
        (b'{"parts": [{"name": "A", "modes": [{"name": "on", "current_a": 1, "tolerance": -1}]}]}', "A on needs"),
        (b'{"parts": [{"name": "A+B", "modes": [{"name": "on", "current_a": 1}]}]}', "without"),
    ],
)
def test_what_is_wrong_with_a_file_of_parts_is_told(tmp_path: Path, content: bytes, told: str) -> None:
    path = tmp_path / "parts.json"
    path.write_bytes(content)
    with pytest.raises(BadFileError, match=told) as raised:
        read_parts_file(path)
    assert str(path) in raised.value.one_line


def test_the_same_name_twice_is_refused(tmp_path: Path) -> None:
    twice = Part("A", (PartMode("on", 1.0), PartMode("on", 2.0)))
    path = tmp_path / "parts.json"
    path.write_bytes(msgspec.json.encode(PartLibrary((twice,))))
    with pytest.raises(BadFileError, match="a name of its own"):
        read_parts_file(path)
