"""What measures the simulated target without sweeps: a meter that is asked for each reading, a board that prints."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator

import numpy as np

from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.instrument import SimulatedInstrument
from warm_ember.bench.simulated.played import PlayedBattery
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.bench.simulated.sweep import Sweep, SweepStart
from warm_ember.bench.simulated.target import Target

METER_IDENTITY = "Warm Ember,Simulated meter,0,1"
APERTURE_S = 0.02
OVER_RANGE = "9.9E+37"
_RATE_HZ = 1000.0
_TICK_S = 0.002
_EVERY = 37
"""Of so many lines or readings one goes wrong."""


class _Watched:
    """The current as it goes on, averaged; only what is asked for is kept.

    Parameters
    ----------
    instrument
        What measures it.
    sampler
        Makes a sampler as the target is powered now.
    """

    def __init__(self, instrument: SimulatedInstrument, sampler: Callable[[], Sampler]) -> None:
        self._sweep = Sweep(instrument.target, sampler, _RATE_HZ, float("inf"), SweepStart())
        self._waiting = np.empty(0, dtype=np.float32)

    def follow_power(self) -> None:
        """Go on after the target was powered or not."""
        self._sweep.follow_power()

    def take(self) -> np.ndarray:
        """Return what came since the last time, a sample each millisecond."""
        self._sweep.skip_unwanted({"current"})
        return self._sweep.fetch("current", 1 << 22)

    def means(self, samples: int) -> np.ndarray:
        """Return the means of so many samples in a row, as far as they came."""
        self._waiting = np.concatenate((self._waiting, self.take()))
        whole = len(self._waiting) // samples
        found: np.ndarray = self._waiting[: whole * samples].reshape(whole, samples).mean(axis=1)
        self._waiting = self._waiting[whole * samples :]
        return found


class SimulatedMeter(SimulatedInstrument):
    """A source with a meter that answers one reading at a time, each the mean over `APERTURE_S`; it knows no sweeps."""

    identity = METER_IDENTITY

    def __init__(self, target: Target, battery: PlayedBattery | None = None, *, fault: Fault | None = None) -> None:
        self._fault = fault or Fault()
        self._watched: _Watched | None = None
        super().__init__(target, battery)

    def _add_sense(self) -> None:
        on = self.interpreter.on
        on("SENSe:CURRent[:DC]:RANGe[:UPPer]", self._set_range)
        on("SENSe:CURRent[:DC]:RANGe:AUTO", self._set_auto_range)
        on("READ[:CURRent][:DC]?", lambda _: self._read())
        on("MEASure[:SCALar]:CURRent[:DC]?", lambda _: self._read())

    def _add_trigger(self) -> None:
        """Add nothing: it waits for no trigger."""

    def _follow_power(self) -> None:
        super()._follow_power()
        if self._watched is not None:
            self._watched.follow_power()

    def _read(self) -> str:
        if self._watched is None:
            self._watched = _Watched(self, lambda: self.sampler(_RATE_HZ))
        self._fault.blocks += 1
        since = self._fault.blocks - self._fault.after
        is_odd = since > 0 and since % _EVERY == 1
        if is_odd and self._fault.mode is FaultMode.LATE:
            time.sleep(self._fault.delay_s)
        self._watched.take()  # a reading begins when it is asked for
        found = np.empty(0, dtype=np.float32)
        while len(found) < APERTURE_S * _RATE_HZ:
            time.sleep(_TICK_S)
            found = np.concatenate((found, self._watched.take()))
        if is_odd and self._fault.mode is FaultMode.OVERRANGE:
            return OVER_RANGE
        return f"{float(found.mean()):.6E}"


class PrintingBoard:
    """A sense board on the rail that prints its readings as lines, each with its own time.

    Parameters
    ----------
    instrument
        What powers the rail.
    rate_hz
        Lines a second.
    fault
        What it does wrong on purpose.
    """

    def __init__(self, instrument: SimulatedInstrument, rate_hz: float, fault: Fault) -> None:
        self._samples = max(round(_RATE_HZ / rate_hz), 1)
        self._watched = _Watched(instrument, lambda: instrument.sampler(_RATE_HZ))
        self._fault, self._lines, self._began_at = fault, 0, 0
        instrument.on_power = self._watched.follow_power

    def lines(self) -> Iterator[bytes]:
        """Yield the lines that are due."""
        for mean_a in self._watched.means(self._samples).tolist():
            self._lines += 1
            restarts = self._fault.mode is FaultMode.RESTART_CLOCK and self._lines == self._fault.after * _EVERY
            self._began_at = self._lines if restarts else self._began_at
            at_ms = (self._lines - self._began_at) * self._samples * 1e3 / _RATE_HZ
            is_odd = not self._lines % _EVERY
            if is_odd and self._fault.mode is FaultMode.LOST_LINES:
                continue
            over = is_odd and self._fault.mode is FaultMode.OVERRANGE
            line = f"{at_ms:.0f} ms, {'OL' if over else f'{mean_a * 1e6:.3f}'} uA\r\n".encode()
            yield line[: len(line) // 2] + b"\r\n" if is_odd and self._fault.mode is FaultMode.HALF_LINES else line
