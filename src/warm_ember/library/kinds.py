"""Wakes sorted into kinds from the current alone."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.grades import Graded, measured, reach
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.attribution.kinds import Kind as FoundKind
    from warm_ember.attribution.kinds import Kinds as FoundKinds
    from warm_ember.attribution.wake_ledger import WakeLedger
    from warm_ember.model.figure import Bound


class Kind(Graded, frozen=True, kw_only=True):
    """A set of wakes alike in length, charge and course.

    ``how`` says how it comes; ``period_s`` and ``jitter_s`` are None when no timer fits, ``follows`` and ``delay_s``
    where it comes behind no other kind.
    """

    kind: str
    count: int
    rate_per_h: float
    how: str
    period_s: float | None
    jitter_s: float | None
    drift_ppm: float | None
    timers_s: tuple[float, ...]
    follows: str | None
    delay_s: float | None
    awake_s_mean: float
    charge_c_mean: float
    charge_c_low: float | None
    charge_c_high: float | None
    peak_a: float
    levels_a: tuple[float, ...]
    added_a: float


class Stay(Record, frozen=True, kw_only=True):
    """A time that is longer than any wake, with a level of its own and what it adds to the average."""

    from_s: float
    to_s: float
    level_a: float
    added_a: float


class Kinds(Graded, frozen=True, kw_only=True):
    """The kinds of one run; the floor and all that is added are the mean."""

    ROWS: ClassVar[str] = "kinds"
    KEY: ClassVar[str] = "kind"

    capture: str
    floor_a: float
    floor_a_low: float | None
    floor_a_high: float | None
    mean_a: float
    kinds: tuple[Kind, ...]
    mixed: int
    unsorted: int
    unsorted_a: float
    stays: tuple[Stay, ...]


def kinds_of(capture: str, found: FoundKinds, ledger: WakeLedger) -> Kinds:
    """Return the kinds of a run as an answer."""
    bounds = {row.source: row.bound for row in ledger.sources}
    low, high = found.floor.interval() or (None, None)
    return Kinds(
        capture=capture,
        floor_a=found.floor.value,
        floor_a_low=low,
        floor_a_high=high,
        mean_a=found.mean_a,
        kinds=tuple(_kind_of(found, kind, bounds.get(kind.label)) for kind in found.kinds),
        mixed=len(found.mixed),
        unsorted=len(found.unsorted),
        unsorted_a=found.unsorted_a,
        stays=tuple(
            Stay(
                from_s=stay.first * found.interval_s,
                to_s=stay.last * found.interval_s,
                level_a=stay.level_a,
                added_a=stay.added_a,
            )
            for stay in found.stays
        ),
        **measured(ledger.bound),
    )


def _kind_of(found: FoundKinds, kind: FoundKind, bound: Bound | None) -> Kind:
    how = kind.recurrence
    labels = {one.number: one.label for one in found.kinds}
    low, high = reach(kind.charge, bound)
    return Kind(
        kind=kind.label,
        count=kind.count,
        rate_per_h=kind.count / found.duration_s * 3600 if found.duration_s else 0.0,
        how=how.manner.value,
        period_s=how.period_s,
        jitter_s=how.jitter_s,
        drift_ppm=how.timers[0].drift * 1e6 if len(how.timers) == 1 else None,
        timers_s=tuple(timer.period_s for timer in how.timers),
        follows=labels.get(how.behind),
        delay_s=how.delay_s if how.behind in labels else None,
        awake_s_mean=kind.awake_s,
        charge_c_mean=kind.charge.value,
        charge_c_low=low,
        charge_c_high=high,
        peak_a=kind.peak_a,
        levels_a=tuple(kind.levels_a),
        added_a=kind.added_a,
        **measured(bound),
    )
