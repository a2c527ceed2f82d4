"""What a state should draw by the sum of the parts that should be on, and whether that holds for a capture."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

import msgspec

from warm_ember.model.capture import CaptureInfo
from warm_ember.model.parts import Part, PartMode, PartOn
from warm_ember.model.plan import PartTo
from warm_ember.model.project import ExpectedValue, Project
from warm_ember.units import quantity_text

_NEAR_V = 0.05
_NEAR_C = 3.0
_CONDITION = re.compile(r"([-+−]?\d+(?:[.,]\d+)?)\s*(V|°C)(?![A-Za-z])")


@dataclass(frozen=True, eq=False)
class Resolved:
    """An expected value as it holds with the parts there are.

    Parameters
    ----------
    value
        With the sum of its parts as its current, where it has parts.
    modes
        The modes it was summed from.
    missing
        Parts or modes that nobody knows; they are left out of the sum.
    """

    value: ExpectedValue
    modes: tuple[tuple[PartOn, PartMode], ...] = ()
    missing: tuple[PartOn, ...] = ()


def resolve(value: ExpectedValue, library: Iterable[Part]) -> Resolved:
    """Sum an expected value's parts; one without parts stays as it was typed.

    Notes
    -----
    The tolerances of the parts add up: what is typical of one sheet is typical of all of them, so they do not average
    out. A value without a condition of its own holds under those of its parts.
    """
    if not value.parts:
        return Resolved(value)
    known = {part.name: part for part in library}
    modes, missing = [], []
    for one in value.parts:
        mode = known[one.part].mode(one.mode) if one.part in known else None
        if mode is None:
            missing.append(one)
        else:
            modes.append((one, mode))
    sum_a = sum(mode.current_a for _, mode in modes)
    spread_a = sum(abs(mode.current_a) * mode.tolerance for _, mode in modes)
    conditions = dict.fromkeys(mode.condition for _, mode in modes if mode.condition)
    summed = msgspec.structs.replace(
        value,
        current_a=sum_a,
        tolerance=spread_a / abs(sum_a) if sum_a else value.tolerance,
        condition=value.condition or ", ".join(conditions),
        source=value.source or "sum of the parts",
    )
    return Resolved(summed, tuple(modes), tuple(missing))


def expected_in(project: Project, run: str) -> tuple[ExpectedValue, ...]:
    """Return what states should draw in a run, summed: parts that changes up to that run put into other modes are."""
    names = [one.name for one in project.runs]
    done = set(names[: names.index(run) + 1]) if run in names else set()
    known = {part.name: part for part in project.parts}
    values = project.expected
    for effect in (e for change in project.plan.changes if change.proved_by in done for e in change.effects):
        if isinstance(effect, PartTo):
            values = tuple(_with_part(value, effect, known) for value in values)
    return tuple(resolve(value, project.parts).value for value in values)


def _with_part(value: ExpectedValue, effect: PartTo, known: dict[str, Part]) -> ExpectedValue:
    part = known.get(effect.part)
    mode = part.mode(effect.mode) if part is not None else None
    if mode is None or part is None or effect.state not in ("", value.state):
        return value

    def moved(one: PartOn) -> PartOn:
        before = part.mode(one.mode) if one.part == effect.part else None
        if before is None or not effect.moves(before.name, before.current_a, mode.current_a):
            return one
        return PartOn(effect.part, effect.mode)

    return msgspec.structs.replace(value, parts=tuple(moved(one) for one in value.parts))


def mismatches(condition: str, info: CaptureInfo) -> tuple[str, ...]:
    """Return which conditions of an expected value the capture did not meet; what either does not know is left out."""
    found = []
    known = {"V": (info.supply_v, _NEAR_V), "°C": (info.temperature_c, _NEAR_C)}
    for number, unit in _CONDITION.findall(condition):
        had, near = known[unit]
        wanted = float(number.replace(",", ".").replace("−", "-"))
        if had is not None and abs(had - wanted) > near:
            found.append(f"holds at {_plain(wanted, unit)}, measured at {_plain(had, unit)}")
    return tuple(dict.fromkeys(found))


def _plain(value: float, unit: str) -> str:
    return str(quantity_text(value, "V")) if unit == "V" else f"{value:g} °C"
