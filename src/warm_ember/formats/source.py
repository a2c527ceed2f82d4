"""What every reader of current gives: pieces of samples, and what it assumed to get them."""

from __future__ import annotations

import math
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

import numpy as np

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.arrays import Bits, Floats, Samples
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import ProgramTrace
from warm_ember.signal.series import Progress, ShouldStop

CURRENT_UNITS_A = {
    "A": 1.0, "mA": 1e-3, "uA": 1e-6, "µA": 1e-6, "μA": 1e-6, "nA": 1e-9, "pA": 1e-12,
}  # fmt: skip


DATE_ORDERS = ("day-first", "month-first")


@dataclass(frozen=True)
class ImportOptions:
    """What the user may say about a file; what is left None is found out and reported.

    Parameters
    ----------
    rate_hz
        Samples per second.
    unit
        Unit of the current column.
    current_column, time_column, voltage_column
        A header's name, or a number from 1.
    shunt_ohm, gain, offset_v
        The current column is a voltage across a shunt behind an amplifier:
        ``i = (v - offset) / (gain * shunt)``.
    sample_format, scale_a
        For raw binary: ``f32``, ``f64`` or ``i16``, and amperes per count.
    delimiter, decimal
        Of a delimited text.
    dates
        ``day-first`` or ``month-first`` where dates do not tell.
    gaps_hold
        In gaps of the times the last value holds instead of being missing.
    """

    rate_hz: float | None = None
    unit: str | None = None
    current_column: str | None = None
    time_column: str | None = None
    voltage_column: str | None = None
    shunt_ohm: float | None = None
    gain: float = 1.0
    offset_v: float = 0.0
    sample_format: str | None = None
    scale_a: float | None = None
    delimiter: str | None = None
    decimal: str | None = None
    dates: str | None = None
    gaps_hold: bool = False

    def __post_init__(self) -> None:
        for name, value in (
            ("--rate", self.rate_hz), ("--shunt", self.shunt_ohm), ("--scale", self.scale_a),
        ):  # fmt: skip
            if value is not None and not (0 < value < float("inf")):
                raise BadArgumentError(f"{name} must be above 0, found {value}")
        if not (self.gain != 0 and abs(self.gain) < float("inf")):
            raise BadArgumentError(f"--gain must be a number other than 0, found {self.gain}")
        if self.dates is not None and self.dates not in DATE_ORDERS:
            raise BadArgumentError(f"--dates must be one of {', '.join(DATE_ORDERS)}, found {self.dates!r}")
        if self.unit is not None and self.unit not in CURRENT_UNITS_A:
            raise BadArgumentError(f"--unit must be one of A, mA, uA, nA, found {self.unit!r}")

    @property
    def month_first(self) -> bool | None:
        """Whether dates that do not tell have the month first; None where that is not known."""
        return None if self.dates is None else self.dates == "month-first"


@dataclass(frozen=True)
class SourceBlock:
    """Consecutive samples of every channel, all of one length."""

    current: Samples
    voltage: Samples | None = None
    lines: Bits | None = None
    aux: dict[str, Samples] = field(default_factory=dict)


class Source(Protocol):
    """An opened foreign file.

    ``interval_s``, ``first_time_s``, ``start_utc`` and ``notes`` are final only after the last piece.

    Attributes
    ----------
    with_voltage, line_names, aux_units
        The channels beside the current.
    length
        How many samples there will be; None where that is not known before they are read.
    info, events, program
        What the file itself says of the capture, the target's log and the trace of its program in it; None and empty
        where it is silent.
    """

    with_voltage: bool
    line_names: tuple[str, ...]
    aux_units: dict[str, str]
    length: int | None
    info: CaptureInfo | None
    events: tuple[Event, ...]
    program: ProgramTrace | None
    start_utc: str

    @property
    def interval_s(self) -> float:
        """Sample interval."""
        ...

    @property
    def first_time_s(self) -> float:
        """The file's first time."""
        ...

    @property
    def notes(self) -> tuple[str, ...]:
        """What was assumed, filled or dropped, one sentence each."""
        ...

    def pieces(self, should_stop: ShouldStop, progress: Progress) -> Iterator[SourceBlock]:
        """Yield the samples in order."""
        ...


def as_floats(values: np.ndarray) -> Floats:
    """Return numbers of any kind and shape as float64; bits that are no number become NaN without a word of NumPy's."""
    with np.errstate(invalid="ignore"):
        return values.astype(np.float64)


def check_regular(path: Path) -> None:
    """Refuse what is no ordinary file: reading from a pipe or a device may never end.

    Raises
    ------
    BadFileError
        If there is none, or something else.
    """
    try:
        mode = path.stat().st_mode
    except FileNotFoundError:
        raise BadFileError(path, "there is no such file") from None
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if not stat.S_ISREG(mode):
        what = "a folder" if stat.S_ISDIR(mode) else "a pipe" if stat.S_ISFIFO(mode) else "something else"
        raise BadFileError(path, f"expected a file, found {what}")


def check_finite(values: Samples, path: Path, place: Callable[[int], str], *, what: str = "current") -> None:
    """Refuse samples that are infinite or too large for a capture; NaN is a missing sample and passes.

    Parameters
    ----------
    values
        The samples, shape ``(n,)``; there may be none.
    path
        The file, for the message.
    place
        Names the place of a sample, counted from the first of these.
    what
        What they are.

    Raises
    ------
    BadFileError
        Naming the first one.
    """
    # The sum is finite for finite samples and costs a tenth of looking at each.
    with np.errstate(invalid="ignore"):
        if math.isfinite(float(np.add.reduce(values, dtype=np.float64))):
            return
    infinite = np.flatnonzero(np.isinf(values))
    if len(infinite):
        where = place(int(infinite[0]))
        raise BadFileError(path, f"expected a finite {what}, found inf or a number too large", where=where)


def sample_place(first: int) -> Callable[[int], str]:
    """Return what names a sample by its number in the file, counted from `first` on."""
    return lambda place: f"sample {first + place}"


def require_rate(path: Path, options: ImportOptions) -> float:
    """Return the sample interval from ``--rate``.

    Raises
    ------
    BadFileError
        If the user gave none.
    """
    if options.rate_hz is None:
        raise BadFileError(path, "this format carries no times", remedy="give the sample rate with --rate")
    return 1.0 / options.rate_hz
