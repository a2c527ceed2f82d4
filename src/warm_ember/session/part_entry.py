"""Parts entered in place: a line for one part, or a table of a data sheet as it was pasted."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

import msgspec

from warm_ember.errors import BadArgumentError
from warm_ember.model.parts import Part, PartLibrary, PartMode, Power
from warm_ember.model.project import Edit, Project
from warm_ember.store.parts_file import write_parts_file
from warm_ember.units import parse_quantity

_QUANTITY = re.compile(r"(?P<name>.*?)[\s:=]*(?P<value>[-+]?[\d.]+(?:[eE][-+]?\d+)?\s*[pnuµmk]?A?)\s*\Z")
_CELLS = re.compile(r"\t|;|\s{2,}|,\s+")
_UNIT = re.compile(r"[\[(/]\s*(?P<unit>[pnuµm]?A)\s*[\])]?\s*\Z")
_HAS_UNIT = re.compile(r"[A-DF-Za-df-zµ]")  # an exponent is none
_EXAMPLE = "Rowan: run 3.1 mA, deep sleep 1.6 µA, off 0"


def read_part_line(text: str) -> Part:
    """Read one part with its modes: ``Rowan: run 3.1 mA, deep sleep 1.6 µA, off 0``.

    Raises
    ------
    BadArgumentError
        Saying what was expected, and what was found.

    Examples
    --------
    >>> part = read_part_line("Rowan: run 3.1 mA, deep sleep 1.6 uA")
    >>> [(mode.name, f"{mode.current_a:g}") for mode in part.modes]
    [('run', '0.0031'), ('deep sleep', '1.6e-06')]
    """
    name, colon, rest = text.partition(":")
    if not colon:
        name, _, rest = text.partition(",")
    modes = tuple(_mode(one) for one in rest.split(",") if one.strip())
    if not name.strip() or not modes:
        raise BadArgumentError(f"expected a part with its modes, such as “{_EXAMPLE}”, found “{text.strip()}”")
    return _checked(Part(_name(name), modes))


def _mode(text: str) -> PartMode:
    found = _QUANTITY.match(text.strip())
    if found is None or not found["name"].strip():
        raise BadArgumentError(f"expected a mode and its current, such as “deep sleep 1.6 µA”, found “{text.strip()}”")
    return _mode_of(found["name"], found["value"])


def _mode_of(name: str, current: str, unit: str = "A") -> PartMode:
    name = _name(name)
    try:
        current_a = (
            parse_quantity(current, "A") if _HAS_UNIT.search(current) else parse_quantity(f"{current} {unit}", "A")
        )
    except ValueError:
        raise BadArgumentError(f"{name}: expected a current such as 1.6 µA, found “{current.strip()}”") from None
    if current_a < 0:
        raise BadArgumentError(f"{name}: a current of a part is 0 or more, found “{current.strip()}”")
    words = name.casefold()
    power = next((one for one in (Power.OFF, Power.RETAINED, Power.GATED) if one.value in words), Power.ON)
    return PartMode(name, current_a, power=power, source="entered")


def _name(text: str) -> str:
    name = " ".join(text.split())
    if "+" in name:
        raise BadArgumentError(f"names of parts and modes are without “+”, which joins them: found “{name}”")
    return name


def _checked(part: Part) -> Part:
    names = [mode.name.casefold() for mode in part.modes]
    twice = next((mode.name for mode in part.modes if names.count(mode.name.casefold()) > 1), None)
    if twice is not None:
        raise BadArgumentError(f"{part.name} has two modes that are called “{twice}”")
    return part


def read_parts_table(text: str) -> tuple[Part, ...]:
    """Read a table as it was pasted: a row a mode, with the part, the mode and its current.

    A part is named once, and stands for the rows below it. The head may say in which unit the currents are.

    Raises
    ------
    BadArgumentError
        Saying in which row what was expected, and what was found.
    """
    modes: dict[str, list[PartMode]] = {}
    part, unit = "", "A"
    rows = [line for line in text.splitlines() if line.strip()]
    for number, line in enumerate(rows, 1):
        cells = [cell.strip() for cell in _CELLS.split(line.strip("\r\n"))]
        if number == 1 and not any(re.search(r"\d", cell) for cell in cells[1:]):
            head = _UNIT.search(cells[-1])
            unit = head["unit"] if head is not None else unit
            continue
        if len(cells) == 1 and ":" in line:
            one = read_part_line(line)
            modes.setdefault(one.name, []).extend(one.modes)
            continue
        if len(cells) < 3:
            raise BadArgumentError(f"row {number}: expected part, mode and current, found “{line.strip()}”")
        part = _name(cells[0]) or part
        if not part:
            raise BadArgumentError(f"row {number}: expected the name of a part first, found “{line.strip()}”")
        try:
            modes.setdefault(part, []).append(_mode_of(cells[1], cells[2], unit))
        except BadArgumentError as error:
            raise BadArgumentError(f"row {number}: {error}") from None
    if not modes:
        raise BadArgumentError("expected a table with part, mode and current, found no row of one")
    return tuple(_checked(Part(name, tuple(of))) for name, of in modes.items())


def add_parts(parts: Iterable[Part]) -> Edit:
    """Add parts; one that is known gets the modes that it has not, and new currents for those it has."""

    def edit(project: Project) -> Project:
        known = {part.name: part for part in project.parts}
        for part in parts:
            before = known.get(part.name)
            if before is None:
                known[part.name] = part
                continue
            fresh = {mode.name: mode for mode in part.modes}
            kept = tuple(fresh.pop(mode.name, mode) for mode in before.modes)
            known[part.name] = msgspec.structs.replace(before, modes=(*kept, *fresh.values()))
        return msgspec.structs.replace(project, parts=tuple(known.values()))

    return edit


def save_parts(project: Project, path: Path) -> None:
    """Write a project's parts, and what they need of each other, to an open file.

    Raises
    ------
    BadFileError
        If it cannot be written.
    """
    write_parts_file(path, PartLibrary(project.parts, project.power_rules, note=project.name))


def drop_part(name: str) -> Edit:
    """Forget a part, and where it was said to be on."""

    def edit(project: Project) -> Project:
        replace = msgspec.structs.replace
        expected = tuple(
            replace(value, parts=tuple(one for one in value.parts if one.part != name)) for value in project.expected
        )
        kept = tuple(value for value in expected if value.parts or value.current_a)
        rules = tuple(
            rule for rule in project.power_rules
            if name not in {one.part for one in (rule.when, *rule.needs, *rule.excludes)}
        )  # fmt: skip
        parts = tuple(part for part in project.parts if part.name != name)
        return replace(project, parts=parts, expected=kept, power_rules=rules)

    return edit
