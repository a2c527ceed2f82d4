"""What the set-up adds to the target's current, and what it takes from its voltage."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.model.bench import Bench

_DEFAULT_V = 3.0


@dataclass(frozen=True)
class Added:
    """What the set-up adds, A, at a voltage: all of it, and what is subtracted."""

    added_a: float
    subtracted_a: float
    voltage_v: float

    @property
    def stays_a(self) -> float:
        """What stays in the recordings."""
        return self.added_a - self.subtracted_a

    def share_of(self, current_a: float) -> float | None:
        """Return what stays as a share of a current; None for none."""
        return self.stays_a / current_a if current_a > 0 else None


def added_by(bench: Bench) -> Added:
    """Add up what hangs on the rail."""
    voltage_v = bench.settings.voltage_v or _DEFAULT_V
    present = [one for one in bench.attached if one.present]
    added_a = sum(one.draws_a(voltage_v) for one in present)
    subtracted_a = sum(one.draws_a(voltage_v) for one in present if one.subtracted)
    return Added(added_a, subtracted_a, voltage_v)


@dataclass(frozen=True)
class AtTarget:
    """The voltage that the burden leaves the target at a current, and what it loses."""

    current_a: float
    lost_v: float
    left_v: float


def at_target(bench: Bench, current_a: float, burden_ohm: float | None = None) -> AtTarget | None:
    """Return what the target gets at a current; None when the burden is not known."""
    ohm = bench.burden_ohm if bench.burden_ohm is not None else burden_ohm
    if ohm is None:
        return None
    lost_v = ohm * current_a
    return AtTarget(current_a, lost_v, (bench.settings.voltage_v or _DEFAULT_V) - lost_v)
