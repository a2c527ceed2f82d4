"""Cases of the calibration about functions: charge by samples of the program counter."""

from __future__ import annotations

import numpy as np
from accuracy_wakes import Recording

from warm_ember.attribution.functions import FunctionLedger, function_ledger
from warm_ember.attribution.placing import place
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.program import Function, ProgramTrace
from warm_ember.signal.series import ArraySeries

CODE = tuple(Function(0x1000 * (k + 1), 0x100, name, f"{name}.c") for k, name in enumerate(("low", "middle", "high")))
DRAWS_A = (1e-3, 3e-3, 20e-3)
PERIOD_S, FINE_HZ = 0.01, 20e3


def functions(lasts: float, many: int, random: np.random.Generator) -> tuple[bool | None, float, float]:
    """Hold the charge of a function against what it took; each run lasts some sampling periods."""
    samples = round(many * PERIOD_S * FINE_HZ)
    runs = max(round(many / lasts * 3), 12)
    lengths = np.maximum(random.exponential(lasts * PERIOD_S * FINE_HZ, runs), 1).astype(int)
    # Each is followed by another one, as in a loop that branches.
    which = (random.integers(0, 3) + np.cumsum(random.integers(1, 3, runs))) % 3
    ran = np.repeat(which, lengths)[:samples]
    ran = np.pad(ran, (0, samples - len(ran)), mode="edge")
    return _held(ran, int(random.integers(0, 3)), many, random)


def interrupt(many: int, random: np.random.Generator) -> tuple[bool | None, float, float]:
    """Hold the charge of a hot interrupt, in a twentieth of the time for less than a period each, against its own."""
    samples = round(many * PERIOD_S * FINE_HZ)
    ran = np.zeros(samples, dtype=np.int64)
    each = round(2 * PERIOD_S * FINE_HZ)
    begins = np.sort(random.integers(0, samples - each, max(samples // each, 1)))
    for begin in begins.tolist():
        ran[begin : begin + each // 20] = 2
    return _held(ran, 2, many, random)


def in_step(periods: float, many: int, random: np.random.Generator) -> tuple[bool, float, float]:
    """Say whether it is told that a loop takes a sampling period, or nearly, so that samples see it at one place."""
    samples = round(many * PERIOD_S * FINE_HZ)
    period = periods * PERIOD_S * FINE_HZ
    phase = ((np.arange(samples) + random.uniform(0, period)) % period) / period
    ran = np.where(phase < 0.6, 0, np.where(phase < 0.85, 1, 2))
    found, _ = _sampled(ran, many, random)
    return found.is_locked, np.nan, np.nan


def _held(ran: np.ndarray, number: int, many: int, random: np.random.Generator) -> tuple[bool | None, float, float]:
    found, current = _sampled(ran, many, random)
    inside = slice(round(found.from_s * FINE_HZ), round(found.to_s * FINE_HZ))
    true_c = float(current[inside][ran[inside] == number].sum()) / FINE_HZ
    row = next((one for one in found.rows if one.name == CODE[number].name), None)
    if row is None or np.unique(ran[inside]).size == 1:
        return None, np.nan, np.nan  # nothing is said of it, or nothing else ran
    # What the ends cut off of a sample is no error of the functions.
    cut_c = 2 * max(DRAWS_A) / FINE_HZ
    return abs(row.charge_c - true_c) <= row.charge_error_c + cut_c, row.charge_c / max(true_c, 1e-12), np.nan


def _sampled(ran: np.ndarray, many: int, random: np.random.Generator) -> tuple[FunctionLedger, np.ndarray]:
    """Return what is found of functions that ran, sample by sample of the current, and the current."""
    current = np.array(DRAWS_A)[ran] + 1e-6 * random.standard_normal(len(ran))
    times_s = (np.arange(many) + random.random()) * PERIOD_S
    at = np.minimum((times_s * FINE_HZ).astype(int), len(ran) - 1)
    addresses = np.array([CODE[k].address for k in ran[at]], dtype=np.uint64)
    recording = Recording(
        ArraySeries(current.astype(np.float32), 1 / FINE_HZ),
        (Event(0.0, "state", "Run"),),
        None,
        CaptureInfo(1 / FINE_HZ),
    )
    found = function_ledger(recording.current, ProgramTrace(times_s, addresses, CODE), place(recording))
    return found, current
