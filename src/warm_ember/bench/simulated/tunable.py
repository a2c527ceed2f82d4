"""What the simulated post's console sets: the values that a firmware engineer tries one after the other."""

from __future__ import annotations

import math
from dataclasses import dataclass, fields, replace
from typing import Any

SLEEP_MODES = ("idle", "deep", "off")
"""From the one that is left at once to the one that is left by a restart."""

_RATES = (1200, 2400, 4800, 9600, 19200, 38400, 57600, 115200, 230400, 460800, 921600)
_NOISE_COUNTS = 12.0
_LINE_BITS = 240
_SAMPLE_S = 0.25e-3


@dataclass(frozen=True)
class Tunable:
    """Values that were set since power-on; None is as the firmware has it.

    Parameters
    ----------
    interval
        Between reports, s.
    batch
        Counts that go into one write.
    oversampling
        Samples that the converter averages, each second.
    baud
        Of the serial line that a line of 24 characters is written on, each second.
    active
        How long the modem stays idle after a report, s.
    sleep
        Mode of the core between events: one of `SLEEP_MODES`.
    passers
        Whether passers-by are counted: ``on`` or ``off``, so that what is measured is not what comes by chance.
    """

    interval: float | None = None
    batch: float | None = None
    oversampling: float | None = None
    baud: float | None = None
    active: float | None = None
    sleep: str | None = None
    passers: str | None = None

    @property
    def converting_s(self) -> float:
        """How long the converter runs each second."""
        return _SAMPLE_S * (self.oversampling or 0.0)

    @property
    def writing_s(self) -> float:
        """How long the core waits for its line each second."""
        return _LINE_BITS / self.baud if self.baud else 0.0

    @property
    def error_counts(self) -> float:
        """How far a converted value scatters, in counts of the converter."""
        return _NOISE_COUNTS / math.sqrt(max(self.oversampling or 1.0, 1.0))


_WORDS = {"sleep": SLEEP_MODES, "passers": ("on", "off")}
_RANGES = {"interval": (60, 86_400), "batch": (1, 64), "oversampling": (1, 256), "active": (2, 600)}


def command_words(tunable: Tunable, words: str) -> tuple[Tunable, str] | None:
    """Return what a command sets and its answer; None where it is none of these.

    Examples
    --------
    >>> command_words(Tunable(), "interval 600")[1], command_words(Tunable(), "batch 100")[1]
    ('ok interval 600', 'err range 1 to 64')
    """
    name, _, value = words.partition(" ")
    if name == "accuracy?":
        return tunable, f"accuracy {tunable.error_counts:.3f}"
    if name not in {field.name for field in fields(Tunable)}:
        return None
    if name in _WORDS:
        if value not in _WORDS[name]:
            return tunable, f"err one of {', '.join(_WORDS[name])}"
        word: dict[str, Any] = {name: value}
        return replace(tunable, **word), f"ok {name} {value}"
    try:
        number = float(value)
    except ValueError:
        return tunable, "err number"
    if name == "baud":
        if number not in _RATES:
            return tunable, f"err one of {', '.join(map(str, _RATES))}"
    else:
        low, high = _RANGES[name]
        if not low <= number <= high or (name != "interval" and number != int(number)):
            return tunable, f"err range {low} to {high}"
    chosen: dict[str, Any] = {name: number}
    return replace(tunable, **chosen), f"ok {name} {number:g}"
