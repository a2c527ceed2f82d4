"""Two runs beside each other, and what of their difference is larger than chance."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

from warm_ember.library.grades import Graded, graded
from warm_ember.library.record import Record
from warm_ember.model.figure import Figure, Grade
from warm_ember.units import HOUR_S

if TYPE_CHECKING:
    from warm_ember.attribution.kinds import Kind
    from warm_ember.session.tuning_results import Comparison as FoundComparison
    from warm_ember.tuning.claims import ClaimResult
    from warm_ember.tuning.difference import Difference


class Change(Graded, frozen=True, kw_only=True):
    """A current before and after, their difference with its 90 % interval, and whether that is more than chance."""

    before_a: float
    after_a: float
    change_a: float
    low_a: float | None
    high_a: float | None
    change_a_low: float | None
    change_a_high: float | None
    real: bool


class NamedChange(Change, frozen=True, kw_only=True):
    """The change of a state, a wake source or an activity."""

    name: str


class Lives(Record, frozen=True, kw_only=True):
    """The life in hours before and after."""

    before: float
    after: float


class KindSide(Graded, frozen=True, kw_only=True):
    """A kind of wakes in one of the two runs."""

    count: int
    period_s: float | None
    charge_c_mean: float
    added_a: float


class ChangedKind(Record, frozen=True, kw_only=True):
    """What became of a kind of wakes; None where a run does not have it."""

    kind: str
    before: KindSide | None
    after: KindSide | None
    words: str


class Confounder(Record, frozen=True, kw_only=True):
    """What else differs between the two runs."""

    what: str
    before: str
    after: str


class Claim(Record, frozen=True, kw_only=True):
    """A claim, how it was understood, and what the evidence says of it."""

    text: str
    understood: str
    outcome: str
    words: str


class Comparison(Record, frozen=True, kw_only=True):
    """Two runs compared; its rows are the states."""

    ROWS: ClassVar[str] = "states"
    KEY: ClassVar[str] = "name"
    OPTIONAL: ClassVar[frozenset[str]] = frozenset({"claim"})

    before: str
    after: str
    changed: str
    mean_a: Change
    life_h: Lives
    states: tuple[NamedChange, ...]
    sources: tuple[NamedChange, ...]
    activities: tuple[NamedChange, ...]
    kinds: tuple[ChangedKind, ...]
    confounders: tuple[Confounder, ...]
    claim: Claim | None = None


def comparison_of(found: FoundComparison, claim: str = "", judged: ClaimResult | None = None) -> Comparison:
    """Return a comparison as an answer, with a claim that was checked by it."""
    before_s, after_s = found.lives_s
    return Comparison(
        before=found.before,
        after=found.after,
        changed=found.changed,
        mean_a=Change(**_values(found.average)),
        life_h=Lives(before=before_s / HOUR_S, after=after_s / HOUR_S),
        states=_named(found.states),
        sources=_named(found.sources),
        activities=_named(found.activities),
        kinds=tuple(
            ChangedKind(kind=one.label, before=_side(one.before), after=_side(one.after), words=one.words)
            for one in found.kinds
        ),
        confounders=tuple(Confounder(what=one.what, before=one.before, after=one.after) for one in found.confounders),
        claim=None if judged is None else _claim_of(claim, judged),
    )


def _claim_of(text: str, judged: ClaimResult) -> Claim:
    return Claim(text=text, understood=judged.claim.words, outcome=judged.outcome.value, words=judged.words)


def _named(found: tuple[Difference, ...]) -> tuple[NamedChange, ...]:
    return tuple(NamedChange(name=one.name, **_values(one)) for one in found)


def _values(one: Difference) -> dict[str, Any]:
    return {
        "before_a": one.before_a,
        "after_a": one.after_a,
        "change_a": one.change_a,
        "low_a": one.low_a,
        "high_a": one.high_a,
        "change_a_low": one.low_a,
        "change_a_high": one.high_a,
        "real": one.is_real,
        **graded(Figure(None, grade=Grade.BOUNDED if one.is_bounded else Grade.MEASURED, bound=one.bound)),
    }


def _side(kind: Kind | None) -> KindSide | None:
    if kind is None:
        return None
    return KindSide(
        count=kind.count,
        period_s=kind.recurrence.period_s,
        charge_c_mean=kind.charge.value,
        added_a=kind.added_a,
    )
