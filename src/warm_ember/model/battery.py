"""The battery, the supply stage between it and the load, and what happens how often."""

from __future__ import annotations

from enum import StrEnum

import msgspec

from warm_ember.model.figure import Grade

Points = tuple[tuple[float, float], ...]
"""A curve: pairs with a rising first number, straight between, level beyond the ends."""


class Cell(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One cell, as far as it is known; what is left out changes nothing.

    Parameters
    ----------
    ocv_v
        State of charge (0 empty to 1 full) against the open-circuit voltage at 20 °C.
    what, origin
        What it is, and where its values come from.
    capacity_c
        Typical rated charge.
    self_discharge_per_year
        Typical share of the remaining charge lost in 8760 h at 20 °C.
    self_discharge_doubles_k
        By how much warmer it has to be for twice that loss.
    resistance_ohm
        Internal resistance of a fresh, full cell at 20 °C.
    resistance_by_charge, resistance_by_temperature
        State of charge, and °C, against the factor on it.
    resistance_growth_per_year
        Share of it that comes on top each year.
    ocv_v_per_k
        Change of the open-circuit voltage with temperature.
    capacity_by_temperature, capacity_by_load
        °C, and the cell's mean current in A, against the share of the charge that can be taken.
    shelf_years
        How long it keeps.
    """

    ocv_v: Points
    what: str = ""
    origin: str = ""
    capacity_c: float | None = None
    self_discharge_per_year: float = 0.0
    self_discharge_doubles_k: float | None = None
    resistance_ohm: float = 0.0
    resistance_by_charge: Points = ()
    resistance_by_temperature: Points = ()
    resistance_growth_per_year: float = 0.0
    ocv_v_per_k: float = 0.0
    capacity_by_temperature: Points = ()
    capacity_by_load: Points = ()
    shelf_years: float | None = None


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
        Internal resistance of one cell, fresh, full and at 20 °C; None takes the cell's.
    series, parallel
        How the cells are joined: voltage and resistance follow from it, the capacity already includes it.
    cell
        A library cell's name, a cell of one's own, or None: no voltage limit is then applied.
    grade
        Typed once the user has chosen a battery, else assumed.
    typical
        Fields that were taken from the cell's typical values and not typed.
    """

    capacity_c: float = 21600.0
    self_discharge_per_year: float = 0.0
    reserve: float = 0.0
    cutoff_v: float = 0.0
    resistance_ohm: float | None = None
    series: int = 1
    parallel: int = 1
    cell: str | Cell | None = None
    grade: Grade = Grade.ENTERED
    typical: tuple[str, ...] = ()

    def grade_of(self, field: str) -> Grade:
        """Return the grade of one of its figures."""
        return Grade.ASSUMED if field in self.typical else self.grade


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
    efficiency_by_load
        Load current in A against the efficiency of a switching stage, which then takes the place of `efficiency`;
        between its points it is straight over the logarithm of the current.
    input_f
        Capacitance across the battery, which carries short pulses.
    """

    kind: SupplyKind = SupplyKind.DIRECT
    efficiency: float = 0.9
    quiescent_a: float = 0.0
    output_v: float = 1.8
    min_v: float = 0.0
    efficiency_by_load: Points = ()
    input_f: float = 0.0


class Climate(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The year that the device lives in.

    Parameters
    ----------
    months_c
        Mean temperature of each month, January first, °C; one value for the whole year; empty for 20 °C.
    start
        First day of use, ``YYYY-MM-DD``; empty counts from the first of January.
    """

    months_c: tuple[float, ...] = ()
    start: str = ""


class Typed(msgspec.Struct, frozen=True, tag="typed", tag_field="from", forbid_unknown_fields=True):
    """An activity's cost as the user typed it; how long its peak lasts is at most what its charge allows."""

    charge_c: float
    duration_s: float = 0.0
    peak_a: float = 0.0
    peak_s: float | None = None


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


class FromWakes(msgspec.Struct, frozen=True, tag="wakes", tag_field="from", forbid_unknown_fields=True):
    """An activity's cost as the wakes by one source take it, each from the wake to the sleep after it."""

    wake_source: str


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
    interval_s, per_day, follows
        How often: at an interval, so many a day, or on each occurrence of another activity: one of the three.
    probability
        Share of the occasions on which it happens.
    retries
        How many times more it happens on one occasion, each time with that probability again.
    is_random
        Whether occurrences come independently of each other (Poisson) rather than at an interval.
    hours
        24 weights, midnight to midnight, for what happens at some hours rather than others; empty for even.
    months
        12 weights, January first, for what happens more in some seasons; empty for even.
    """

    name: str
    source: Typed | FromStates | FromWakes | FromStretch
    interval_s: float | None = None
    per_day: float | None = None
    probability: float = 1.0
    hours: tuple[float, ...] = ()
    months: tuple[float, ...] = ()
    is_random: bool = False
    follows: str = ""
    retries: int = 0

    @property
    def per_occasion(self) -> float:
        """Mean occurrences on one occasion: ``p + p^2 + ... + p^(1 + retries)``."""
        return sum(self.probability**attempt for attempt in range(1, self.retries + 2))
