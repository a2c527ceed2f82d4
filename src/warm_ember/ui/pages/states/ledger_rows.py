"""What the rows of the ledger show, and how they are sorted."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.session.state_results import Verdict
from warm_ember.units import QuantityText, count_text, format_significant, quantity_text, uncertainty_text

if TYPE_CHECKING:
    from warm_ember.session.records import LedgerRow


CHARGE, ENERGY = "charge", "energy"


@dataclass(frozen=True)
class ShownRow:
    """What one row of the ledger shows, for the whole capture or for a mean day."""

    row: LedgerRow
    time_share: float
    charge_share: float
    entries: float
    energy_j: float | None
    energy_share: float = 0.0

    def share_by(self, by: str) -> float:
        """Return its share of the charge or of the energy."""
        return self.energy_share if by == ENERGY else self.charge_share

    @property
    def charge_text(self) -> QuantityText:
        """Its charge, scaled to a day where a day is shown."""
        row = self.row
        return quantity_text(row.charge_c / row.entries * self.entries if row.entries else 0.0, "C")

    @property
    def mean_w(self) -> float | None:
        """Mean power of the state; None without a voltage."""
        row = self.row
        if row.energy_j is None or row.mean.value is None or not row.charge_c:
            return None
        # Of what was measured, as the mean current is: a gap takes nothing from it.
        return row.energy_j / row.charge_c * row.mean.value


def verdict_words(row: LedgerRow) -> tuple[str, bool]:
    """Return the verdict in words as rich text, and whether it is a warning."""
    mean_a = row.mean.value
    if row.name == UNPLACED_NAME:
        return "**place it**", True
    if row.expected is None or mean_a is None:
        return "", False
    ratio = mean_a / row.expected.current_a if row.expected.current_a else 0.0
    if row.verdict is Verdict.ABOVE:
        return f"over by **{format_significant(ratio, 2)} ×**", True
    if row.verdict is Verdict.BELOW:
        return f"under by **{format_significant(1 / ratio, 2)} ×**" if ratio > 0 else "under", False
    return "within", False


SORTS: dict[str, Callable[[ShownRow], float]] = {
    "share of time": lambda s: s.time_share,
    "state": lambda s: 0.0,
    "share of charge": lambda s: s.charge_share,
    "share of energy": lambda s: s.energy_share,
    "entries": lambda s: s.entries,
    "mean dwell": lambda s: s.row.mean_dwell_s,
    "mean current": lambda s: s.row.mean.value or 0.0,
    "mean power": lambda s: s.mean_w or 0.0,
    "charge": lambda s: s.row.charge_c,
    "energy": lambda s: s.energy_j or 0.0,
    "verdict": lambda s: list(Verdict).index(s.row.verdict) == 1,
}


def entries_text(entries: float) -> str:
    """Write a number of entries, which in a day may be a fraction."""
    if 0 < entries < 10 and abs(entries - round(entries)) > 0.05:
        return f"{entries:.1f}"
    return count_text(entries)


def spread_text(row: LedgerRow) -> str:
    """Write half of the 90 % interval of a mean current; of what was entered once nothing is known of it."""
    mean = row.mean
    if mean.value is not None and row.entries == 1:
        return "entered once"
    if mean.value is None or mean.low is None or mean.high is None:
        return ""
    return f"± {uncertainty_text((mean.high - mean.low) / 2, 'A')}"
