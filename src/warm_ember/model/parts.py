"""Parts and what they draw in each of their modes: what an expected value is summed from."""

from __future__ import annotations

import msgspec


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
    """

    name: str
    current_a: float
    tolerance: float = 0.2
    condition: str = ""
    source: str = ""


class Part(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part of the device."""

    name: str
    modes: tuple[PartMode, ...]
    kind: str = ""

    def mode(self, name: str) -> PartMode | None:
        """Return a mode, or None."""
        return next((mode for mode in self.modes if mode.name == name), None)


class PartOn(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A part in one of its modes."""

    part: str
    mode: str


class PartLibrary(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A file of parts."""

    parts: tuple[Part, ...]
    format: int = 1
    note: str = ""
