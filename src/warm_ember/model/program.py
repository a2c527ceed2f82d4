"""What the core was executing: samples of its program counter, and the functions at their addresses."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
import numpy as np

from warm_ember.model.arrays import Addresses, Floats

ASLEEP = 0xFFFF_FFFF_FFFF_FFFF
"""Stands for the address of a sample that found the core asleep."""


class Function(msgspec.Struct, frozen=True, order=True, forbid_unknown_fields=True):
    """A function of the firmware.

    Parameters
    ----------
    address, size
        Where its code lies, in bytes.
    name
        As in the source.
    file
        The source file it came from; empty when that is not known.
    """

    address: int
    size: int
    name: str
    file: str = ""


@dataclass(frozen=True, eq=False)
class ProgramTrace:
    """Periodic samples of the program counter.

    Parameters
    ----------
    times_s
        Rising, in capture time, shape ``(samples,)``.
    addresses
        Where the core was, `ASLEEP` when it slept, shape ``(samples,)``.
    functions
        By rising address; empty without symbols.
    """

    times_s: Floats
    addresses: Addresses
    functions: tuple[Function, ...] = ()

    @property
    def samples(self) -> int:
        """Number of samples."""
        return len(self.times_s)

    @property
    def period_s(self) -> float:
        """Usual time from one sample to the next; 0 with fewer than two."""
        return float(np.median(np.diff(self.times_s))) if self.samples > 1 else 0.0
