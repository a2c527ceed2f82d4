"""The battery, the supply stage between it and the load, and what happens how often."""

from __future__ import annotations

from enum import StrEnum

import msgspec

from warm_ember.model.figure import Grade


class CellCurve(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Open-circuit voltage of one cell.

    Parameters
    ----------
    ocv_v
        Pairs of state of charge (0 empty to 1 full, rising) and voltage, linear between.
    """

    ocv_v: tuple[tuple[float, float], ...]


class Battery(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A pack of equal cells.

    Parameters
    ----------
    capacity_c
        Rated charge of the whole pack.
    self_discharge_per_year
        Share of the remaining charge lost in 8760 h.
    reserve
        Share of the capacity that is not counted on.
    cutoff_v
        Voltage of the pack below which the device stops working.
    resistance_ohm
        Internal resistance of one cell; None takes the library cell's, or 0 without one.
    series, parallel
        How the cells are joined: voltage and resistance follow from it, the capacity already includes it.
    cell
        A library cell's name, a typed curve, or None: no voltage limit is then applied.
    grade
        Typed once the user has chosen a battery, else assumed.
    """

    capacity_c: float = 21600.0
    self_discharge_per_year: float = 0.0
    reserve: float = 0.0
    cutoff_v: float = 0.0
    resistance_ohm: float | None = None
    series: int = 1
    parallel: int = 1
    cell: str | CellCurve | None = None
    grade: Grade = Grade.TYPED


class SupplyKind(StrEnum):
    """What stands between battery and load."""

    DIRECT = "direct"
    LINEAR = "linear"
    SWITCHING = "switching"


class SupplyStage(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The supply stage: a linear one conserves charge, a switching one energy.

    Parameters
    ----------
    kind
        Direct, linear or switching.
    efficiency
        Of a switching stage, 0 to 1.
    quiescent_a
        What the stage itself draws from the battery.
    output_v
        The load's voltage behind a switching stage.
    min_v
        Lowest input voltage at which the stage works.
    """

    kind: SupplyKind = SupplyKind.DIRECT
    efficiency: float = 0.9
    quiescent_a: float = 0.0
    output_v: float = 1.8
    min_v: float = 0.0


class Typed(msgspec.Struct, frozen=True, tag="typed", tag_field="from", forbid_unknown_fields=True):
    """An activity's cost as the user typed it."""

    charge_c: float
    duration_s: float = 0.0
    peak_a: float = 0.0


class FromStates(msgspec.Struct, frozen=True, tag="states", tag_field="from", forbid_unknown_fields=True):
    """An activity's cost as some states take it in the capture at hand, for each entry of one of them.

    Parameters
    ----------
    states
        The states that belong to the activity.
    per
        The state whose entries count the occurrences.
    """

    states: tuple[str, ...]
    per: str


class FromStretch(msgspec.Struct, frozen=True, tag="stretch", tag_field="from", forbid_unknown_fields=True):
    """An activity's cost as one bracketed stretch of a capture took it."""

    capture: str
    from_s: float
    to_s: float


class Activity(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Something the device does again and again.

    Parameters
    ----------
    name
        Its name.
    source
        Where its cost comes from.
    interval_s, per_day
        How often: one of the two.
    probability
        Share of the occasions on which it happens.
    hours
        24 weights, midnight to midnight, for what happens at some hours rather than others; empty for even.
    """

    name: str
    source: Typed | FromStates | FromStretch
    interval_s: float | None = None
    per_day: float | None = None
    probability: float = 1.0
    hours: tuple[float, ...] = ()

    @property
    def rate_hz(self) -> float:
        """Mean occurrences per second."""
        if self.interval_s is not None:
            return self.probability / self.interval_s
        return self.probability * (self.per_day or 0.0) / 86400.0
