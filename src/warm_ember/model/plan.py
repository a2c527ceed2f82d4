"""The plan: changes to the device, what each does to its states and activities, and what it costs."""

from __future__ import annotations

import msgspec


class CurrentBy(msgspec.Struct, frozen=True, tag="current by", forbid_unknown_fields=True):
    """A state draws more or less by an amount; every state when none is named."""

    by_a: float
    state: str = ""


class CurrentTo(msgspec.Struct, frozen=True, tag="current to", forbid_unknown_fields=True):
    """A state draws another current on average."""

    state: str
    to_a: float


class LengthTo(msgspec.Struct, frozen=True, tag="length to", forbid_unknown_fields=True):
    """No stay in a state is longer than so; what is left over is spent at rest."""

    state: str
    to_s: float


class ScaleRate(msgspec.Struct, frozen=True, tag="often by", forbid_unknown_fields=True):
    """A state happens so many times as often; what is left over is spent at rest."""

    state: str
    factor: float


class ReplaceState(msgspec.Struct, frozen=True, tag="becomes", forbid_unknown_fields=True):
    """A state is called by another name from now on: what the firmware says of it changes."""

    state: str
    name: str


class PartTo(msgspec.Struct, frozen=True, tag="part to", forbid_unknown_fields=True):
    """A part goes to another mode: in a state or in every one, from a mode or from any that draws more."""

    part: str
    mode: str
    state: str = ""
    of: str = ""

    def moves(self, mode: str, from_a: float, to_a: float) -> bool:
        """Return whether it takes the part out of a mode that draws `from_a` into one that draws `to_a`."""
        return mode == self.of if self.of else bool(self.state) or from_a > to_a


class ActivityEvery(msgspec.Struct, frozen=True, tag="activity every", forbid_unknown_fields=True):
    """An activity comes with another interval."""

    activity: str
    interval_s: float


class ReduceAverage(msgspec.Struct, frozen=True, tag="saves", forbid_unknown_fields=True):
    """The average current falls by a typed amount."""

    saved_a: float


Effect = CurrentBy | CurrentTo | LengthTo | ScaleRate | ReplaceState | PartTo | ActivityEvery | ReduceAverage


class PlannedChange(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One change to the device.

    Parameters
    ----------
    name
        What is done, as one would say it.
    effects
        What it does to the run that it was planned on.
    on
        The name of that run.
    reason
        What it answers: a kind of finding, the shutdown matrix, or empty.
    effort
        How much work it is, in any unit that is the same for all changes.
    latency_s, accuracy, memory_bytes
        What it costs: reaction time that it adds, accuracy that it loses as a share, memory that it takes.
    costs
        What else it costs, in words.
    proved_by
        The run that contains it; empty while there is none.
    is_planned
        Whether it is in the plan; one that is not is kept beside it.
    """

    name: str
    effects: tuple[Effect, ...] = ()
    on: str = ""
    reason: str = ""
    effort: float = 1.0
    latency_s: float = 0.0
    accuracy: float = 0.0
    memory_bytes: float = 0.0
    costs: str = ""
    proved_by: str = ""
    is_planned: bool = msgspec.field(default=True, name="is_in")


class PlanLimits(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What all changes together may cost; None for any amount."""

    latency_s: float | None = None
    accuracy: float | None = None
    memory_bytes: float | None = None


class Plan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Changes in their order, and what they may cost together."""

    changes: tuple[PlannedChange, ...] = ()
    limits: PlanLimits = PlanLimits()
