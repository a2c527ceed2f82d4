"""The ledger: where the charge goes, by state."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from warm_ember.library.grades import Graded, graded
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.attribution.ledger import Ledger, LedgerRow
    from warm_ember.attribution.window import Window as FoundWindow


class Window(Record, frozen=True, kw_only=True):
    """A part of a capture, how many whole cycles it holds, and what is not in it, in words."""

    from_s: float
    to_s: float
    cycles: int | None = None
    cycle_s: float | None = None
    left_out: tuple[str, ...] = ()


class WholeCycles(Window, frozen=True, kw_only=True):
    """The part of a capture that is whole cycles, and its mean."""

    mean_a: float | None


class State(Graded, frozen=True, kw_only=True):
    """One state of a run; ``expected_a`` is what was entered for it, ``verdict`` how that compares."""

    name: str
    entries: int
    dwell_s: float
    time_share: float
    mean_a: float | None
    mean_a_low: float | None
    mean_a_high: float | None
    charge_c: float
    charge_share: float
    energy_j: float | None
    expected_a: float | None
    verdict: str


class States(Graded, frozen=True, kw_only=True):
    """The ledger of one run; its rows are the states, and with what is unplaced they make its charge."""

    ROWS: ClassVar[str] = "states"
    KEY: ClassVar[str] = "name"

    capture: str
    duration_s: float
    mean_a: float | None
    mean_a_low: float | None
    mean_a_high: float | None
    charge_c: float
    energy_j: float | None
    unplaced_share: float
    states: tuple[State, ...]
    window: Window
    whole_cycles: WholeCycles | None


def window_of(window: FoundWindow) -> Window:
    """Return a window as an answer."""
    return Window(
        from_s=window.from_s,
        to_s=window.to_s,
        cycles=window.cycles,
        cycle_s=window.cycle_s,
        left_out=window.left_out,
    )


def states_of(ledger: Ledger, cycles: FoundWindow, cycles_mean_a: float | None) -> States:
    """Return a ledger as an answer; with the whole cycles of the capture where it holds more than these."""
    low, high = ledger.interval or (None, None)
    part = window_of(cycles)
    is_part = cycles.cycles is not None or bool(cycles.left_out)
    return States(
        capture=ledger.capture,
        duration_s=ledger.duration_s,
        mean_a=ledger.mean_a,
        mean_a_low=low,
        mean_a_high=high,
        charge_c=ledger.charge_c,
        energy_j=ledger.energy_j,
        unplaced_share=ledger.unplaced_share,
        states=tuple(map(_state_of, ledger.rows)),
        window=Window(from_s=0.0, to_s=ledger.duration_s),
        whole_cycles=WholeCycles(mean_a=cycles_mean_a, **_fields(part)) if is_part else None,
        **graded(ledger.mean),
    )


def _fields(window: Window) -> dict[str, Any]:
    return {name: getattr(window, name) for name in window.__struct_fields__}


def _state_of(row: LedgerRow) -> State:
    return State(
        name=row.name,
        entries=row.entries,
        dwell_s=row.dwell_s,
        time_share=row.time_share,
        mean_a=row.mean.value,
        mean_a_low=row.mean.low,
        mean_a_high=row.mean.high,
        charge_c=row.charge_c,
        charge_share=row.charge_share,
        energy_j=row.energy_j,
        expected_a=row.expected.current_a if row.expected is not None else None,
        verdict=row.verdict.value,
        **graded(row.mean),
    )
