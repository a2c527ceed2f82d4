"""What the device draws over its life: a base and what is added to it again and again."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

from warm_ember.model.battery import Battery, Climate, Points, SupplyStage
from warm_ember.model.figure import Bound, Figure, Grade

_MATTERS = 0.01
TYPED_SPREAD = 0.05
"""Relative standard deviation of a figure that was typed."""
ONCE_SPREAD = 0.4
"""Relative standard deviation that is assumed of charges of which only one was measured."""


@dataclass(frozen=True)
class ActivityCost:
    """What one activity costs and how often it comes.

    Parameters
    ----------
    charge_c
        Charge of one occurrence. With a duration it is all that flows in that time; without one it is what
        comes on top of the base.
    duration_s
        Length of one occurrence.
    peak_a
        Highest current in it.
    rate_hz
        Occurrences per second, on average.
    charge_spread, rate_spread
        Relative standard deviation of what one knows of the two.
    grade, origin
        Where the charge comes from.
    hours, months
        24 weights over the day and 12 over the year; empty for even.
    state_charges_c
        Where the charge is measured: its part and its time by state, ``{state: (charge_c, duration_s)}``.
    is_random
        Whether occurrences come independently of each other (Poisson).
    peak_s
        How long the peak lasts; None for as long as the charge allows.
    pulses
        Where the current was measured: time constant in s against the highest current that is left behind a
        resistance and a capacitance with that constant, A; empty where it was not.
    measured_hz
        Occurrences per second in the capture itself; None where it does not say.
    charge_freedom, charge_skew
        Degrees of freedom that the charge's spread was estimated with, infinite where it was not; and the third moment
        of its relative error.
    bound
        On which side of the true charge it is known to lie; None for a value.
    measured_times
        How many occurrences the charge was measured of; 0 where it was not measured one by one.
    times_here
        How often it occurs in the capture that it was measured in; 0 where that is another one.
    lowest_c, highest_c
        The cheapest and the dearest occurrence; None where they were not measured one by one.
    unseen_for_s
        How long it was looked for and never seen, so that its rate is what chance leaves open; None for others.
    """

    name: str
    charge_c: float
    duration_s: float
    peak_a: float
    rate_hz: float
    charge_spread: float
    rate_spread: float
    grade: Grade
    origin: str
    hours: tuple[float, ...]
    state_charges_c: dict[str, tuple[float, float]]
    months: tuple[float, ...] = ()
    is_random: bool = False
    peak_s: float | None = None
    pulses: Points = ()
    measured_hz: float | None = None
    charge_freedom: float = math.inf
    charge_skew: float = 0.0
    measured_times: int = 0
    times_here: int = 0
    bound: Bound | None = None
    lowest_c: float | None = None
    highest_c: float | None = None
    unseen_for_s: float | None = None

    @property
    def assumption(self) -> str:
        """What is assumed of its charge, as a sentence; empty where that was typed, or measured more than once."""
        if self.measured_times != 1:
            return ""
        return f"{self.name} was measured once: a spread of {100 * ONCE_SPREAD:.0f} % is assumed"

    def added_a(self, base_a: float) -> float:
        """Return what it adds to an average current that is the base otherwise."""
        return self.rate_hz * (self.charge_c - base_a * self.duration_s)

    @property
    def mean_a(self) -> float | None:
        """Mean current while it lasts; None without a duration."""
        return self.charge_c / self.duration_s if self.duration_s > 0 else None


@dataclass(frozen=True)
class BasePart:
    """What a state is of the base, outside all activities.

    Parameters
    ----------
    state
        The state.
    charge_share, time_share
        Of the base's charge and of its time.
    """

    state: str
    charge_share: float
    time_share: float


@dataclass(frozen=True)
class Load:
    """The load over the device's life.

    Parameters
    ----------
    base
        Current between the activities, A.
    base_name
        What that time is called.
    costs
        The activities.
    missing
        Names of activities that the capture at hand does not show.
    base_parts
        The states that the base is made of, the largest charge first.
    base_spread, base_freedom
        Relative standard deviation of what one knows of the base, and the degrees of freedom that it was estimated
        with; infinite where it was not.
    """

    base: Figure
    base_name: str
    costs: tuple[ActivityCost, ...]
    missing: tuple[str, ...] = ()
    base_parts: tuple[BasePart, ...] = ()
    base_spread: float = TYPED_SPREAD
    base_freedom: float = math.inf

    @property
    def base_a(self) -> float:
        """The base current, 0 when nothing was measured; the highest that it may be where only that is known."""
        if self.base.bound in (Bound.BELOW, Bound.AT_MOST) and self.base.high is not None:
            return self.base.high
        return self.base.value or 0.0

    @property
    def base_bound(self) -> Bound | None:
        """On which side of the true base it lies: of what is below something the highest that it may be counts."""
        return Bound.AT_MOST if self.base.bound is Bound.BELOW else self.base.bound

    @property
    def mean_a(self) -> float:
        """Average current: ``base + sum(rate * (charge - base * duration))``."""
        return self.base_a + sum(cost.added_a(self.base_a) for cost in self.costs)

    @property
    def bound(self) -> Bound | None:
        """On which side of the true average the mean is known to lie; None where what is bounded hardly matters."""
        parts = [(self.base.bound, self.base_a), *((cost.bound, cost.added_a(self.base_a)) for cost in self.costs)]
        sides = {
            Bound.AT_LEAST if bound is Bound.AT_LEAST else Bound.AT_MOST
            for bound, added_a in parts
            if bound is not None and abs(added_a) > _MATTERS * abs(self.mean_a)
        }
        # What was cut off may be any amount, so it decides where there is both.
        return Bound.AT_LEAST if Bound.AT_LEAST in sides else next(iter(sides), None)

    @property
    def peak_a(self) -> float:
        """The highest current of any activity."""
        return max((cost.peak_a for cost in self.costs), default=0.0)


@dataclass(frozen=True)
class LifeModel:
    """A load, what feeds it, and the year that both live in."""

    load: Load
    battery: Battery
    supply: SupplyStage = field(default_factory=SupplyStage)
    climate: Climate = field(default_factory=Climate)
