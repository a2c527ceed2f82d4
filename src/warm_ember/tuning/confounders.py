"""What else differs between two runs: what might explain a change as well as the firmware does."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from warm_ember.model.capture import CaptureInfo
from warm_ember.units import duration_text, quantity_text

_NEAR, _NEAR_C, _LENGTHS = 0.01, 3.0, 2.0


@dataclass(frozen=True)
class Confounder:
    """One thing that differs.

    Parameters
    ----------
    what
        Which thing.
    before, after
        What it was in each run, in words.
    """

    what: str
    before: str
    after: str


def confounders(
    before: CaptureInfo, after: CaptureInfo, lengths_s: tuple[float, float] | None = None
) -> tuple[Confounder, ...]:
    """Name what differs between two captures beside the firmware; what either does not tell is left out.

    Parameters
    ----------
    before, after
        What the captures say of themselves.
    lengths_s
        How long they are: a far longer one holds other moments.
    """
    found = []
    for what, take in _TEXTS:
        one, other = take(before), take(after)
        if one != other and one and other:
            found.append(Confounder(what, one, other))
    # A tool that one run names and the other does not is told by its absence.
    if set(before.attached) != set(after.attached) and (before.attached or after.attached):
        found.append(Confounder("attached", _listed(before.attached), _listed(after.attached)))
    for what, unit, near, take_number in _NUMBERS:
        first, second = take_number(before), take_number(after)
        if (
            first is not None
            and second is not None
            and abs(first - second) > near * (1 if unit == "°C" else abs(first))
        ):
            found.append(Confounder(what, _number(first, unit), _number(second, unit)))
    if lengths_s is not None and min(lengths_s) > 0 and max(lengths_s) > _LENGTHS * min(lengths_s):
        found.append(Confounder("length", *(str(duration_text(one)) for one in lengths_s)))
    return tuple(found)


_TEXTS: tuple[tuple[str, Callable[[CaptureInfo], str]], ...] = (
    ("device", lambda info: info.target),
    ("board", lambda info: info.board),
    ("build options", lambda info: info.options),
    ("indicators", lambda info: info.indicators),
    ("instrument", lambda info: info.instrument),
    ("range", lambda info: info.range),
    ("corrections", lambda info: "; ".join(info.corrections)),
)
_NUMBERS: tuple[tuple[str, str, float, Callable[[CaptureInfo], float | None]], ...] = (
    ("supply", "V", _NEAR, lambda info: info.supply_v),
    ("temperature", "°C", _NEAR_C, lambda info: info.temperature_c),
    ("sample interval", "s", _NEAR, lambda info: info.sample_interval_s),
)


def _listed(names: tuple[str, ...]) -> str:
    return ", ".join(names) if names else "nothing"


def _number(value: float, unit: str) -> str:
    if unit == "s":
        return str(duration_text(value))
    return str(quantity_text(value, unit)) if unit == "V" else f"{value:g} {unit}"
