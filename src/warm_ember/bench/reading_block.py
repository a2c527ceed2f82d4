"""What an instrument gave since it was last asked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.arrays import Bits, Samples
from warm_ember.model.readings import Readings


@dataclass(frozen=True, eq=False)
class ReadingBlock:
    """Samples that were fetched together, each channel shape ``(n,)``; NaN is missing.

    Parameters
    ----------
    current, voltage, lines
        The channels on the capture's grid; None where the instrument has none.
    readings
        What they were made of, where an instrument does not sample evenly.
    aux
        Further channels by name.
    """

    current: Samples
    voltage: Samples | None
    lines: Bits | None
    readings: Readings | None = None
    aux: Mapping[str, Samples] = field(default_factory=dict)

    @classmethod
    def missing(cls, count: int, *, with_voltage: bool, with_lines: bool, aux: Iterable[str] = ()) -> ReadingBlock:
        """Return samples that nobody took."""
        nothing = np.full(count, np.nan, dtype=np.float32)
        lines = np.zeros(count, dtype=np.uint32) if with_lines else None
        return cls(nothing, nothing if with_voltage else None, lines, aux=dict.fromkeys(aux, nothing))

    def first(self, count: int) -> ReadingBlock:
        """Return the first samples; all readings stay."""
        voltage = self.voltage[:count] if self.voltage is not None else None
        lines = self.lines[:count] if self.lines is not None else None
        aux = {name: values[:count] for name, values in self.aux.items()}
        return ReadingBlock(self.current[:count], voltage, lines, self.readings, aux)

    @classmethod
    def joined(cls, blocks: Sequence[ReadingBlock]) -> ReadingBlock:
        """Return blocks of the same channels, one at least, as one."""
        if len(blocks) == 1:
            return blocks[0]
        some = [block.readings for block in blocks if block.readings is not None]
        first = blocks[0]
        return cls(
            np.concatenate([block.current for block in blocks]),
            _joined([block.voltage for block in blocks]),
            _joined([block.lines for block in blocks]),
            Readings.joined(some) if some else None,
            {name: np.concatenate([block.aux[name] for block in blocks]) for name in first.aux},
        )

    def after(self, count: int) -> ReadingBlock:
        """Return all but the first samples, without readings: those went with the first."""
        voltage = self.voltage[count:] if self.voltage is not None else None
        lines = self.lines[count:] if self.lines is not None else None
        aux = {name: values[count:] for name, values in self.aux.items()}
        return ReadingBlock(self.current[count:], voltage, lines, None, aux)

    @property
    def nbytes(self) -> int:
        """Memory of all channels."""
        channels = (self.current, self.voltage, self.lines, *self.aux.values())
        return sum(values.nbytes for values in channels if values is not None)


def _joined(channels: Sequence[np.ndarray | None]) -> np.ndarray | None:
    there = [values for values in channels if values is not None]
    return np.concatenate(there) if there else None
