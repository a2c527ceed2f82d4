"""A meter that answers one reading at a time: asked again and again, each reading at its own moment.

Between two readings nothing is known: what the samples hold there is the reading before. How long the meter looks for
a reading, and how often, is kept with the capture.
"""

from __future__ import annotations

import logging
import math
import re
import time
from itertools import pairwise

import msgspec
import numpy as np

from warm_ember.bench.instrument import Instrument
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.bench.reading_grid import ReadingGrid
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.bench import BenchSettings, TriggerSource
from warm_ember.units import quantity_text

log = logging.getLogger(__name__)

_AT_ONCE_S = 0.04
_LATE_S = 0.2
"""A busy computer asks later now and then: that says nothing of the current."""
_TRIED = 5
_ROOM = 1.1
_MISSING = 9.0e37
_NUMBER = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*([^\s,;]*)")
_AMPERES = {"": 1.0, "A": 1.0, "ADC": 1.0, "mA": 1e-3, "uA": 1e-6, "µA": 1e-6, "μA": 1e-6, "nA": 1e-9}
_VOLTS = {"": 1.0, "V": 1.0, "VDC": 1.0, "mV": 1e-3}
_OVER = re.compile(r"[+-]?\s*(?:O\.?L\.?|OVLD|OVERLOAD|OVER|OFL|NAN|INF)\b", re.IGNORECASE)


class PolledMeter(Instrument):
    """An instrument that is asked for each reading; see `Instrument` for its parameters.

    Attributes
    ----------
    began_s
        The moment of the first reading, by this computer's monotonic clock; None before it.
    reads_volts
        Whether its readings are a voltage and no current.
    """

    reads_volts = False

    _grid: ReadingGrid | None = None
    _interval_s = 0.0
    _tried_s: float | None = None
    _fault: InstrumentError | None = None

    @property
    def senses(self) -> tuple[str, ...]:
        """What it measures."""
        if self.reads_volts:
            return ("voltage",)
        return ("current", "voltage") if self.commands.read_voltage else ("current",)

    @property
    def line_names(self) -> tuple[str, ...]:
        """It has no digital lines."""
        return ()

    def fitted(self, settings: BenchSettings) -> BenchSettings:
        """Return the settings with an interval that it can keep: shorter ones become its own.

        Raises
        ------
        InstrumentError
            If it answers no reading.
        """
        return msgspec.structs.replace(settings, interval_s=max(settings.interval_s, self._own_interval_s))

    @property
    def _own_interval_s(self) -> float:
        known = self.description
        if known.max_rate_hz is not None:
            return 1 / known.max_rate_hz
        if known.interval_s is not None:
            return known.interval_s[0]
        if self._tried_s is None:
            moments = [time.monotonic()]
            for _ in range(_TRIED):
                self._ask()
                moments.append(time.monotonic())
            slowest_s = max(b - a for a, b in pairwise(moments))
            self._tried_s = float(f"{_ROOM * slowest_s:.1e}")
            log.info("%s gives a reading every %g s", self.link.resource, self._tried_s)
        return self._tried_s

    def check(self, settings: BenchSettings) -> None:
        """Check settings before anything is sent; see `Instrument.check`."""
        known = self.description
        least_s = 1 / known.max_rate_hz if known.max_rate_hz else (known.interval_s or (0.0,))[0]
        super().check(msgspec.structs.replace(settings, interval_s=max(settings.interval_s, least_s)))
        if settings.trigger.source is not TriggerSource.IMMEDIATE:
            raise BadArgumentError(f"{self.description.name} answers one reading at a time: it can wait for no trigger")

    def reset(self) -> None:
        """Bring it into the state that it has after being switched on, as far as it knows how to."""
        self._find_out_about_errors()
        super().reset()

    def forget_errors(self) -> None:
        """Empty its error queue."""
        self._find_out_about_errors()
        super().forget_errors()

    def _find_out_about_errors(self) -> None:
        """Ask for no errors again where it knows no such question: then nothing comes."""
        if not self.commands.error:
            return
        try:
            self.link.query(self.commands.error, within_s=1.0)
        except InstrumentError as error:
            if not error.link_lost:
                raise
            log.info("%s tells no errors", self.link.resource)
            self.commands = msgspec.structs.replace(self.commands, error="", complete="")
            self.link.is_in_step = True

    def set_sweep(self, settings: BenchSettings, points: int | None) -> None:
        """Set range and interval; it does not count its readings."""
        if settings.range_a is not None:
            self._step(self.commands.range.format(value=settings.range_a))
        else:
            self._step(self.commands.range_auto)
        self._interval_s = self.reading_interval_s = settings.interval_s

    def start(self) -> None:
        """Begin with the readings."""
        self._step(self.commands.start)
        self._grid, self.began_s = ReadingGrid(self._interval_s, self._interval_s, late_s=_LATE_S), None
        self._fault = None
        self._due_s = time.monotonic()

    def fetch(self) -> ReadingBlock:
        """Ask for the readings that are due, and return the samples that they complete.

        Raises
        ------
        InstrumentError
            If the link is lost, or what comes is no current.
        """
        assert self._grid is not None
        if self._fault is not None:
            raise self._fault
        until_s = time.monotonic() + _AT_ONCE_S
        taken: list[tuple[float, float, float]] = []
        while not taken or self._due_s < until_s:
            wait_s = self._due_s - time.monotonic()
            if wait_s > _AT_ONCE_S:
                break
            if wait_s > 0:
                time.sleep(wait_s)
            try:
                taken.append(self._ask())
            except InstrumentError as error:
                if not taken:
                    raise
                self._fault = error  # what came before it is kept
                break
            # A reading that came late puts off none but those that it was late for.
            late = math.floor((time.monotonic() - self._due_s) / self._interval_s)
            self._due_s += max(late, 1) * self._interval_s
        found = np.array(taken, dtype=np.float64).reshape(-1, 3)
        if len(found) and self.began_s is None:
            self.began_s = float(found[0, 0])
        volts = found[:, 1] if self.reads_volts else found[:, 2] if self.commands.read_voltage else None
        return self._grid.add(found[:, 0], found[:, 1], volts)

    def _ask(self) -> tuple[float, float, float]:
        """Return the moment of a reading, the current and the voltage; NaN where there is none."""
        asked_s = time.monotonic()
        answer = self.link.query(self.commands.read)
        answered_s = time.monotonic()
        units, what = (_VOLTS, "volts") if self.reads_volts else (_AMPERES, "amperes")
        current_a = self._number(self.commands.read, answer, units, what)
        voltage_v = math.nan
        if self.commands.read_voltage and not self.reads_volts:
            told = self.link.query(self.commands.read_voltage)
            voltage_v = self._number(self.commands.read_voltage, told, _VOLTS, "volts")
        return (asked_s + answered_s) / 2, current_a, voltage_v

    def _number(self, question: str, answer: str, units: dict[str, float], what: str) -> float:
        found = _NUMBER.match(answer)
        if found is None and _OVER.match(answer.strip().strip('"')):
            return math.nan
        if found is None:
            self.raise_errors(question)
        if found is None or found[2] not in units:
            raise InstrumentError(
                self.link.resource,
                f"expected {what} after “{question}”, found “{answer[:60]}”",
                remedy=f"is it set to measure a direct {'current' if what == 'amperes' else 'voltage'}?",
            )
        value = float(found[1])
        return value * units[found[2]] if abs(value) < _MISSING else math.nan

    @property
    def remarks(self) -> tuple[str, ...]:
        """What is to be known of a recording: how often it was asked."""
        every = f"a reading every {quantity_text(self._interval_s, 's')}"
        aperture_s = self.description.aperture_s
        return (every if aperture_s is None else f"{every}, each over {quantity_text(aperture_s, 's')}",)
