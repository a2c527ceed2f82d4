"""What a device must keep to: limits that an automated build compares each run with."""

from __future__ import annotations

import msgspec


class AverageLimits(msgspec.Struct, frozen=True):
    """Limits of the average current.

    Parameters
    ----------
    of
        ``"life"`` for the average over the device's life, ``"capture"`` for the capture's own mean.
    max_a
        The most it may be, A.
    """

    of: str = "life"
    max_a: float | None = None


class LifeLimits(msgspec.Struct, frozen=True):
    """Limits of the battery's life.

    Parameters
    ----------
    min_months
        How long it has to last.
    chance
        How likely that has to be.
    """

    min_months: float | None = None
    chance: float = 0.95


class StateLimits(msgspec.Struct, frozen=True):
    """Limits of one state: mean current in A, charge in C, share of the charge, time in it in s, entries."""

    max_mean_a: float | None = None
    max_charge_c: float | None = None
    max_share: float | None = None
    min_dwell_s: float | None = None
    max_dwell_s: float | None = None
    max_entries: float | None = None


class SourceLimits(msgspec.Struct, frozen=True):
    """Limits of one source of wakes: charge of a wake in C, wakes an hour, time awake in s, what it adds in A."""

    max_charge_c: float | None = None
    max_rate_per_h: float | None = None
    max_awake_s: float | None = None
    max_added_a: float | None = None


class FindingLimits(msgspec.Struct, frozen=True):
    """Which kinds of findings there must be none of, ``"*"`` for any, and what one may cost at most, A."""

    forbid: tuple[str, ...] = ()
    max_cost_a: float | None = None


class MeasurementShares(msgspec.Struct, frozen=True):
    """How much of the samples may be missing, and of the charge unplaced, as shares."""

    max_missing: float | None = None
    max_unplaced: float | None = None


class BaselineLimits(msgspec.Struct, frozen=True):
    """By which share average, states and sources may take more than in another run."""

    max_worse: float | None = None


class GateLimits(msgspec.Struct, frozen=True):
    """All that a run is compared with.

    Parameters
    ----------
    format
        Version of the file.
    strict
        Whether what is undecided counts as failed.
    average, life, findings, measurement, baseline
        Limits of these.
    states, sources
        Limits by name.
    """

    format: int = 1
    strict: bool = False
    average: AverageLimits = AverageLimits()
    life: LifeLimits = LifeLimits()
    states: dict[str, StateLimits] = msgspec.field(default_factory=dict)
    sources: dict[str, SourceLimits] = msgspec.field(default_factory=dict)
    findings: FindingLimits = FindingLimits()
    measurement: MeasurementShares = MeasurementShares()
    baseline: BaselineLimits = BaselineLimits()
