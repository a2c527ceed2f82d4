"""Who woke the device, what each wake took, and the sleep between."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.grades import Graded, graded, measured, reach

if TYPE_CHECKING:
    from warm_ember.attribution.sleep_depth import IdleRow
    from warm_ember.attribution.wake_ledger import SourceRow, WakeLedger


class Source(Graded, frozen=True, kw_only=True):
    """One wake source; its charge is above the sleep floor, None where no current was measured."""

    source: str
    count: int
    rate_per_h: float
    awake_s_mean: float
    charge_c_mean: float | None
    charge_c_mean_low: float | None
    charge_c_mean_high: float | None
    added_a: float | None
    added_a_low: float | None
    added_a_high: float | None


class Idle(Graded, frozen=True, kw_only=True):
    """How one sleep mode was used: whole stretches, how many chose it wrongly, and what that cost on average."""

    mode: str
    count: int
    time_s: float
    too_shallow: int
    too_deep: int
    lost_a: float | None
    mean_a: float | None
    judged: int


class Aligned(Graded, frozen=True, kw_only=True):
    """What is left when wakes are moved together within their slack, and the average current that this saves."""

    rate_per_h: float
    saved_a: float | None


class Wakes(Graded, frozen=True, kw_only=True):
    """The wakes of one run; its rows are the sources."""

    ROWS: ClassVar[str] = "sources"
    KEY: ClassVar[str] = "source"

    capture: str
    wakes: int
    rate_per_h: float
    floor_a: float | None
    floor_a_low: float | None
    floor_a_high: float | None
    charge_c: float | None
    awake_charge_c: float | None
    sleep_charge_c: float | None
    ends_charge_c: float | None
    coverage: float
    sources: tuple[Source, ...]
    idle: tuple[Idle, ...]
    aligned: Aligned


def wakes_of(ledger: WakeLedger) -> Wakes:
    """Return a wake ledger as an answer; charges and currents are None where no current was measured."""
    closing, has = ledger.closing, ledger.is_measured
    return Wakes(
        capture=ledger.capture,
        wakes=ledger.wakes.count,
        rate_per_h=ledger.rate_per_h,
        floor_a=ledger.floor_a if has else None,
        floor_a_low=ledger.floor.low if has else None,
        floor_a_high=ledger.floor.high if has else None,
        charge_c=closing.charge_c if has else None,
        awake_charge_c=closing.awake_c if has else None,
        sleep_charge_c=closing.asleep_c if has else None,
        ends_charge_c=closing.ends_c if has else None,
        coverage=closing.coverage,
        sources=tuple(_source_of(row, has=has) for row in ledger.sources),
        idle=tuple(_idle_of(row, ledger) for row in ledger.idle),
        aligned=Aligned(
            rate_per_h=ledger.aligned.rate_per_h,
            saved_a=ledger.aligned.saved_a if has else None,
            **measured(ledger.bound),
        ),
        **measured(ledger.bound),
    )


def _source_of(row: SourceRow, *, has: bool) -> Source:
    none: tuple[None, None] = (None, None)
    charge = reach(row.charge, row.bound) if has else none
    added = reach(row.added, row.bound) if has else none
    return Source(
        source=row.source,
        count=row.count,
        rate_per_h=row.rate_per_h,
        awake_s_mean=row.awake_s_mean,
        charge_c_mean=row.charge_c_mean if has else None,
        charge_c_mean_low=charge[0],
        charge_c_mean_high=charge[1],
        added_a=row.added_a if has else None,
        added_a_low=added[0],
        added_a_high=added[1],
        **measured(row.bound),
    )


def _idle_of(row: IdleRow, ledger: WakeLedger) -> Idle:
    has = ledger.is_measured
    return Idle(
        mode=row.mode,
        count=row.count,
        time_s=row.time_s,
        too_shallow=row.too_shallow,
        too_deep=row.too_deep,
        lost_a=row.lost_a if has else None,
        mean_a=row.mean_a if has else None,
        judged=row.judged,
        **graded(ledger.asleep(row.mean_a)),
    )
