"""The reading of one stretch."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.grades import Graded, graded

if TYPE_CHECKING:
    from warm_ember.model.figure import Figure
    from warm_ember.signal.stretch import StretchReading


class Stretch(Graded, frozen=True, kw_only=True):
    """One stretch, snapped to samples; ``mean_a`` is charge over the time that was measured.

    ``cycles`` and ``cycle_s`` are there where whole cycles were asked for.
    """

    OPTIONAL: ClassVar[frozenset[str]] = frozenset({"cycles", "cycle_s"})

    from_s: float
    to_s: float
    coverage: float
    mean_a: float | None
    mean_a_low: float | None
    mean_a_high: float | None
    min_a: float | None
    max_a: float | None
    charge_c: float
    energy_j: float | None
    cycles: int | None = None
    cycle_s: float | None = None


def stretch_of(reading: StretchReading, mean: Figure, cycles: int | None = None) -> Stretch:
    """Return a reading as an answer."""
    return Stretch(
        from_s=reading.from_s,
        to_s=reading.to_s,
        coverage=reading.coverage,
        mean_a=reading.mean_a,
        mean_a_low=mean.low,
        mean_a_high=mean.high,
        min_a=reading.min_a,
        max_a=reading.max_a,
        charge_c=reading.charge_c,
        energy_j=reading.energy_j,
        cycles=cycles,
        cycle_s=None if cycles is None else (reading.to_s - reading.from_s) / cycles,
        **graded(mean),
    )
