"""What the measurement itself adds, and is taken out again: each with its reason."""

from __future__ import annotations

import msgspec

from warm_ember.units import quantity_text


class Scaling(msgspec.Struct, frozen=True, tag="scaling", tag_field="kind", forbid_unknown_fields=True):
    """Shunt or amplifier other than was assumed: ``i = (i_read - offset_a) * factor``."""

    factor: float
    offset_a: float
    reason: str

    @property
    def sentence(self) -> str:
        """What was done, and why."""
        offset = f"less an offset of {quantity_text(self.offset_a, 'A')}, " if self.offset_a else ""
        return f"{offset}times {self.factor:.6g}: {self.reason}"


class KnownLoad(msgspec.Struct, frozen=True, tag="load", tag_field="kind", forbid_unknown_fields=True):
    """A current that something beside the target draws: a debugger, a serial line, a capacitor's leakage."""

    current_a: float
    reason: str

    @property
    def sentence(self) -> str:
        """What was done, and why."""
        return f"{quantity_text(self.current_a, 'A')} subtracted: {self.reason}"


class InputResistance(msgspec.Struct, frozen=True, tag="resistance", tag_field="kind", forbid_unknown_fields=True):
    """A resistance across the target: a meter's input or a probe takes ``v / ohm``."""

    ohm: float
    reason: str

    @property
    def sentence(self) -> str:
        """What was done, and why."""
        return f"voltage over {quantity_text(self.ohm, 'Ω')} subtracted: {self.reason}"


class Burden(msgspec.Struct, frozen=True, tag="burden", tag_field="kind", forbid_unknown_fields=True):
    """A resistance in series: the target sees ``v - i * ohm``."""

    ohm: float
    reason: str

    @property
    def sentence(self) -> str:
        """What was done, and why."""
        return f"voltage less the current times {quantity_text(self.ohm, 'Ω')}: {self.reason}"


Correction = Scaling | KnownLoad | InputResistance | Burden
