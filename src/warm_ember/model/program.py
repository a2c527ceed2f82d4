"""What the core was executing: samples of its program counter, and the functions at their addresses."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import msgspec
import numpy as np

from warm_ember.errors import ParseError
from warm_ember.model.arrays import Addresses, Floats
from warm_ember.model.capture import text_of

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


def program_from(file: Mapping[str, Any]) -> ProgramTrace | None:
    """Return the trace that the tables of a capture file hold; None when there is none.

    Raises
    ------
    ParseError
        If the tables are not as they should be.
    """
    if "program" not in file:
        return None
    try:
        rows = file["functions"][:] if "functions" in file else ()
        functions = tuple(
            Function(int(row["address"]), int(row["size"]), text_of(row["name"]), text_of(row["file"])) for row in rows
        )
        times_s = np.asarray(file["program"]["time_s"][:], dtype=np.float64)
        addresses = np.asarray(file["program"]["address"][:], dtype=np.uint64)
    except (KeyError, TypeError, AttributeError, IndexError) as error:
        raise ParseError(f"time_s and address, and of functions address, size, name and file: {error}") from error
    if times_s.ndim != 1 or times_s.shape != addresses.shape or not (np.diff(times_s) >= 0).all():
        raise ParseError("as many addresses as rising times")
    return ProgramTrace(times_s, addresses, functions)
