"""What is wasted, and what is wrong with the measurement."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.grades import Graded
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.model.finding import Finding as FoundFinding


class Finding(Graded, frozen=True, kw_only=True):
    """One finding with its place; ``cost_a`` is None for a fault of the measurement."""

    kind: str
    from_s: float
    to_s: float
    cost_a: float | None
    confidence: float
    text: str


class Findings(Record, frozen=True, kw_only=True):
    """The findings of one run."""

    ROWS: ClassVar[str] = "findings"

    capture: str
    findings: tuple[Finding, ...]


def findings_of(capture: str, found: Iterable[FoundFinding]) -> Findings:
    """Return findings as an answer."""
    rows = (
        Finding(
            kind=one.kind.value,
            from_s=one.from_s,
            to_s=one.to_s,
            cost_a=one.cost_a,
            confidence=one.confidence,
            text=one.text,
        )
        for one in found
    )
    return Findings(capture=capture, findings=tuple(rows))
