"""Setting a zero: what the set-up alone reads and draws, from recordings without the target."""

from __future__ import annotations

import math
import time
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import BadArgumentError, Cancelled, InstrumentError
from warm_ember.model.arrays import Samples
from warm_ember.model.bench import BenchSettings, Trigger, Zero
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.units import counted

_BATCHES = 20
_UNSTEADY = 12.0
_STEP_A = 50e-9
_POLL_S = 0.02


@dataclass(frozen=True)
class Stage:
    """One recording of the guide: what it is called, what to do before, and whether the output is on."""

    name: str
    instruction: str
    powered: bool


STAGES = (
    Stage("leads open", "Take the leads off the target and leave them open.", powered=True),
    Stage("target off", "Connect all but the target: probes, debugger, meter as they will be.", powered=True),
    Stage("tool unplugged", "Unplug the debugger and the serial bridge too, still without the target.", powered=True),
)


@dataclass(frozen=True)
class Level:
    """A mean and its standard error, A; and whether it was as steady as a set-up without a target is."""

    mean_a: float
    error_a: float
    is_steady: bool = True


def level_of(samples: Samples) -> Level:
    """Return mean and standard error of a steady reading.

    Parameters
    ----------
    samples
        Shape ``(n,)``; NaN is missing.

    Notes
    -----
    The error comes from the means of twenty batches in a row, so that slow wander counts as what it is. A reading
    whose batches differ by more than their noise explains is not steady: something works there.

    Raises
    ------
    BadArgumentError
        If fewer than twenty samples were measured.
    """
    measured = samples[~np.isnan(samples)].astype(np.float64)
    if len(measured) < _BATCHES:
        raise BadArgumentError(
            f"only {len(measured)} of {counted(len(samples), 'reading')} are numbers, {_BATCHES} needed: out of range?"
        )
    batches = np.array_split(measured, _BATCHES)
    means = np.array([batch.mean() for batch in batches])
    inside = float(np.median([batch.std() for batch in batches])) / math.sqrt(len(measured) / _BATCHES)
    is_steady = float(np.ptp(means)) <= _UNSTEADY * inside + _STEP_A
    return Level(float(measured.mean()), float(np.std(means, ddof=1)) / math.sqrt(_BATCHES), is_steady)


def zero_from(levels: dict[str, Level], *, set_utc: str = "") -> Zero:
    """Work out offset and load from the stages that were recorded.

    Parameters
    ----------
    levels
        By the name of the stage; ``"leads open"`` is needed.
    set_utc
        When.

    Raises
    ------
    KeyError
        If the leads were not open in any.

    Examples
    --------
    >>> zero = zero_from({"leads open": Level(2e-8, 1e-9), "target off": Level(1.32e-6, 1e-9)})
    >>> round(zero.load_a, 9)
    1.3e-06
    """
    offset = levels["leads open"]
    load = levels.get("target off")
    return Zero(
        offset_a=offset.mean_a,
        offset_error_a=offset.error_a,
        load_a=None if load is None else load.mean_a - offset.mean_a,
        load_error_a=0.0 if load is None else math.hypot(load.error_a, offset.error_a),
        set_utc=set_utc or datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z"),
    )


def tool_load(levels: dict[str, Level]) -> Level | None:
    """Return what the tools that were unplugged draw; None when either recording is missing."""
    with_tool, without = levels.get("target off"), levels.get("tool unplugged")
    if with_tool is None or without is None:
        return None
    return Level(with_tool.mean_a - without.mean_a, math.hypot(with_tool.error_a, without.error_a))


def read_level(
    station: InstrumentConnection,
    settings: BenchSettings,
    seconds: float = 2.0,
    *,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> Level:
    """Read a steady current with the output on, then switch it off.

    Raises
    ------
    InstrumentError
        If the instrument fails; the output is off then.
    Cancelled
        If `should_stop` answered yes.
    """
    import msgspec

    instrument = station.instrument
    settings = instrument.fitted(settings)
    points = max(_BATCHES, round(seconds / settings.interval_s))
    plain = msgspec.structs.replace(settings, trigger=Trigger(), duration_s=points * settings.interval_s)
    pieces: list[Samples] = []
    try:
        instrument.check(plain)
        instrument.should_stop = should_stop
        instrument.set_source(plain)
        station.watch()
        instrument.switch(on=True)
        instrument.set_sweep(plain, points)
        instrument.start()
        silent_from_s = time.monotonic()
        while sum(map(len, pieces)) < points:
            if should_stop():
                raise Cancelled("stopped")
            piece = instrument.fetch().current
            if len(piece):
                silent_from_s = time.monotonic()
                pieces.append(piece)
            elif time.monotonic() - silent_from_s > station.timeout_s + 10 * settings.interval_s:
                raise InstrumentError(station.resource, "no samples came", remedy="is it still recording?")
            progress(min(1.0, sum(map(len, pieces)) / points))
            time.sleep(_POLL_S)
    finally:
        station.make_safe()
    return level_of(np.concatenate(pieces))
