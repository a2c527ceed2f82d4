"""Devices for the calibration: processes whose truth is known, and captures of them.

They have nothing in common with the simulated target of the bench: what is calibrated is not made with what it is
calibrated by.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from accuracy_wakes import Recording
from scipy.signal import lfilter

from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.project import TypedClock
from warm_ember.signal.series import ArraySeries

SLEEP_A, WORK_A, RADIO_A = 5e-6, 4e-3, 20e-3


SAME_CLOCK = TypedClock("simulated", 0.0, 0.0)
"""The log's clock, where finding it is not what is measured."""


@dataclass(frozen=True)
class Stay:
    """One stretch of time in one state, at one current."""

    state: str
    from_s: float
    to_s: float
    current_a: float
    source: str = ""


def capture_of(
    stays: list[Stay],
    length_s: float,
    rate_hz: float,
    random: np.random.Generator,
    *,
    noise_a: float = 2e-8,
    settles_s: float = 0.0,
) -> Recording:
    """Sample what flows: each sample is the mean over its time; between the stays the device sleeps.

    Parameters
    ----------
    stays
        In order, not overlapping.
    length_s, rate_hz
        Length of the capture and its sampling rate.
    random
        For the reading's noise.
    noise_a
        Its standard deviation.
    settles_s
        Time constant with which the instrument follows.
    """
    samples = round(length_s * rate_hz)
    charge = np.zeros(samples + 1)  # running charge above sleep, at sample edges
    edges_s = np.arange(samples + 1) / rate_hz
    for one in stays:
        charge += (one.current_a - SLEEP_A) * (np.clip(edges_s, one.from_s, one.to_s) - one.from_s)
    current = SLEEP_A + np.diff(charge) * rate_hz
    if settles_s:
        left = np.exp(-1 / rate_hz / settles_s)
        current, _ = lfilter([1 - left], [1, -left], current, zi=[left * SLEEP_A])
    current = current + noise_a * random.standard_normal(samples)
    return Recording(ArraySeries(current.astype(np.float32), 1 / rate_hz), _log(stays), None, _info(rate_hz))


def quick_capture(
    stays: list[Stay], length_s: float, rate_hz: float, random: np.random.Generator, *, noise_a: float = 2e-8
) -> Recording:
    """Sample stays whose ends lie on samples; the same as `capture_of`, in no time for many of them."""
    samples = round(length_s * rate_hz)
    current = np.full(samples, SLEEP_A)
    for one in stays:
        current[round(one.from_s * rate_hz) : round(one.to_s * rate_hz)] = one.current_a
    current += noise_a * random.standard_normal(samples)
    return Recording(ArraySeries(current.astype(np.float32), 1 / rate_hz), _log(stays), None, _info(rate_hz))


def _info(rate_hz: float) -> CaptureInfo:
    return CaptureInfo(1 / rate_hz, supply_v=3.0)


def _log(stays: list[Stay]) -> tuple[Event, ...]:
    events = [Event(0.0, "state", "Sleep"), Event(0.0, "sleep", "deep")]
    last_s = -1.0
    for one in stays:
        if one.from_s > last_s and one.source:
            events.append(Event(one.from_s, "wake", one.source))
        events.append(Event(one.from_s, "state", one.state))
        last_s = one.to_s
    ends = {one.to_s for one in stays} - {one.from_s for one in stays}
    events += [event for end_s in ends for event in (Event(end_s, "state", "Sleep"), Event(end_s, "sleep", "deep"))]
    return tuple(sorted(events, key=lambda event: event.time_s))


@dataclass(frozen=True)
class Device:
    """A device that a timer wakes, and at times something else.

    Parameters
    ----------
    height, length
        Relative standard deviations of the current and of the time of a timer's wake.
    radio_each_s
        Mean time between messages that come by chance; 0 for none.
    heavy_share, heavy_times
        How many messages take how many times as long.
    rare_each_s, rare_c
        Mean time between heavy happenings that come by chance, and their charge; 0 for none.
    period_s
        The timer's.
    scale
        By what all currents above sleep are multiplied.
    """

    height: float = 0.3
    length: float = 0.0
    radio_each_s: float = 0.0
    heavy_share: float = 0.0
    heavy_times: float = 1.0
    rare_each_s: float = 0.0
    rare_c: float = 0.0
    period_s: float = 10.0
    scale: float = 1.0
    work_s: float = 0.1
    radio_s: float = 0.2

    @property
    def mean_a(self) -> float:
        """The process's mean current."""
        found = SLEEP_A + self.work_s / self.period_s * (self.scale * WORK_A - SLEEP_A)
        if self.radio_each_s:
            longer = 1 + self.heavy_share * (self.heavy_times - 1)
            found += self.radio_s * longer / self.radio_each_s * (self.scale * RADIO_A - SLEEP_A)
        return found + (self.scale * self.rare_c / self.rare_each_s if self.rare_each_s else 0.0)

    def live(self, length_s: float, rate_hz: float, random: np.random.Generator) -> list[Stay]:
        """Return what it does in a while; what would overlap comes later, by as much."""
        begins = [(t, "timer") for t in np.arange(random.uniform(0.2, self.period_s), length_s, self.period_s).tolist()]
        for each_s, name in ((self.radio_each_s, "radio"), (self.rare_each_s, "rare")):
            if each_s:
                count = random.poisson(length_s / each_s)
                begins += [(t, name) for t in random.uniform(0, length_s, count).tolist()]
        stays: list[Stay] = []
        free_s = 0.1
        for at_s, name in sorted(begins):
            # On samples, with a sample of sleep before.
            from_s = max(round(at_s * rate_hz), round(free_s * rate_hz) + 2) / rate_hz
            current_a, lasts_s, state = self._one(name, random)
            to_s = max(round((from_s + lasts_s) * rate_hz), round(from_s * rate_hz) + 1) / rate_hz
            if to_s >= length_s - 2 / rate_hz:
                break
            stays.append(Stay(state, from_s, to_s, current_a, name))
            free_s = to_s
        return stays

    def _one(self, name: str, random: np.random.Generator) -> tuple[float, float, str]:
        if name == "timer":
            sigma = np.sqrt(np.log1p(self.length**2))
            lasts_s = self.work_s * float(np.exp(sigma * random.standard_normal() - sigma**2 / 2))
            return self.scale * WORK_A * max(1 + self.height * random.standard_normal(), 0.05), lasts_s, "Work"
        if name == "radio":
            times = self.heavy_times if random.random() < self.heavy_share else 1.0
            return self.scale * RADIO_A, self.radio_s * times, "Radio"
        return self.scale * RADIO_A, self.rare_c / RADIO_A, "Rare"
