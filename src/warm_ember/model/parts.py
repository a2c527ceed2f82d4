"""Parts and what they draw in each of their modes: what an expected value is summed from."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

import msgspec

from warm_ember.errors import BadArgumentError


class Power(StrEnum):
    """How far a part is on in a mode."""

    ON = "on"
    GATED = "gated"
    RETAINED = "retained"
    OFF = "off"


class Group(StrEnum):
    """What kind of thing a part is in the shutdown matrix."""

    PART = "part"
    CLOCK = "clock"
    MEMORY = "memory"
    REGULATOR = "regulator"
    DOMAIN = "domain"


class PartMode(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One mode of a part.

    Parameters
    ----------
    name
        What the data sheet calls it.
    current_a
        Typical current, A.
    tolerance
        Largest deviation as a share of it.
    condition
        When it holds: supply voltage, temperature, clock; as ``"3.0 V, 25 °C, 24 MHz"``.
    source
        Who says so.
    power
        How far it is on.
    settle_s, switch_c
        Time and charge that it takes to come back from this mode.
    accuracy
        What is lost in it as a share: of a clock, 20e-6 for 20 ppm; 0 for nothing.
    """

    name: str
    current_a: float
    tolerance: float = 0.2
    condition: str = ""
    source: str = ""
    power: Power = Power.ON
    settle_s: float = 0.0
    switch_c: float = 0.0
    accuracy: float = 0.0


class Part(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part of the device: a chip, or a clock, memory, regulator or domain of one."""

    name: str
    modes: tuple[PartMode, ...]
    kind: str = ""
    group: Group = Group.PART

    def mode(self, name: str) -> PartMode | None:
        """Return a mode, or None."""
        return next((mode for mode in self.modes if mode.name == name), None)


class PartOn(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part in one of its modes."""

    part: str
    mode: str


class PartIn(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part in any of some modes; in any that is not off when none is named."""

    part: str
    modes: tuple[str, ...] = ()


class PowerRule(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a part needs, or must not meet, while it is in some modes.

    Parameters
    ----------
    when
        The part that the rule is about.
    needs, excludes
        What must be on as well, and what must not.
    why
        In words.
    """

    when: PartIn
    needs: tuple[PartIn, ...] = ()
    excludes: tuple[PartIn, ...] = ()
    why: str = ""


class PartLibrary(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A file of parts, and of what they need of each other."""

    parts: tuple[Part, ...]
    rules: tuple[PowerRule, ...] = ()
    format: int = 1
    note: str = ""


def parts_text(parts: Iterable[PartOn]) -> str:
    """Write parts as `read_parts` reads them."""
    return " + ".join(f"{one.part} {one.mode}" for one in parts)


def read_parts(text: str, library: Iterable[Part]) -> tuple[PartOn, ...]:
    """Read ``"Rowan deep sleep + Thrush on"``; case does not matter.

    Raises
    ------
    BadArgumentError
        If a part or its mode is not known; the message says which there are.
    """
    parts = tuple(library)
    every = [PartOn(part.name, mode.name) for part in parts for mode in part.modes]
    named = {parts_text((one,)).casefold(): one for one in every}
    found = []
    for item in filter(None, (item.strip() for item in text.split("+"))):
        known = named.get(" ".join(item.split()).casefold())
        if known is None:
            part = next((part for part in parts if item.casefold().startswith(part.name.casefold())), None)
            if part is not None:
                raise BadArgumentError(
                    f"{part.name} has the modes {', '.join(mode.name for mode in part.modes)}: {item!r}"
                )
            there_are = ", ".join(part.name for part in parts) or "none yet: add a file of parts"
            raise BadArgumentError(f"no part is called {item!r}; there are: {there_are}")
        found.append(known)
    return tuple(found)
