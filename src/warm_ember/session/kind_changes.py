"""What became of kinds of wakes from one run to another: which came, went or changed, in words."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.attribution.kinds import Kind, Kinds
from warm_ember.session.kind_words import how_it_comes
from warm_ember.units import percent_text, quantity_text

_SAME_PERIOD = 0.002


@dataclass(frozen=True)
class KindChange:
    """What became of a kind.

    Parameters
    ----------
    label
        What it is called.
    before, after
        What it was and is; None where it is not there.
    words
        What changed, as a sentence; empty where nothing did.
    """

    label: str
    before: Kind | None
    after: Kind | None
    words: str


def kind_changes(before: Kinds, after: Kinds) -> tuple[KindChange, ...]:
    """Return what became of each kind: those of the first run in their order, then those that are new."""
    old, new = ({kind.letter: kind for kind in kinds.kinds} for kinds in (before, after))
    found = []
    for letter in dict.fromkeys((*old, *new)):
        one, other = old.get(letter), new.get(letter)
        label = (other or one or before.kinds[0]).label
        if one is None and other is not None:
            words = f"{label} is new: it comes {how_it_comes(other, after)} and takes {_charge(other)} each time."
        elif other is None and one is not None:
            words = f"{label} is gone: it came {how_it_comes(one, before)} and took {_charge(one)} each time."
        else:
            words = _changed(label, one, other, before, after) if one is not None and other is not None else ""
        found.append(KindChange(label, one, other, words))
    return tuple(found)


def _charge(kind: Kind) -> str:
    return str(quantity_text(kind.charge.value, "C"))


def _changed(label: str, one: Kind, other: Kind, before: Kinds, after: Kinds) -> str:
    """Return what changed of a kind beyond what chance makes of it."""
    parts = []
    difference = other.charge.less(one.charge).interval()
    if difference is not None and not difference[0] <= 0 <= difference[1] and one.charge.value:
        share = other.charge.value / one.charge.value - 1
        sign = "+" if share > 0 else "−"
        parts.append(f"takes {_charge(other)} each time, {sign}{percent_text(abs(share))}")
    was, now = how_it_comes(one, before), how_it_comes(other, after)
    if _comes_otherwise(one, other):
        parts.append(f"comes {now}, and came {was}")
    return f"{label} {'; '.join(parts)}." if parts else ""


def _comes_otherwise(one: Kind, other: Kind) -> bool:
    mine, its = one.recurrence, other.recurrence
    if mine.period_s is not None and its.period_s is not None:
        return abs(its.period_s / mine.period_s - 1) > _SAME_PERIOD
    if mine.manner is not its.manner:
        return one.count > 1 and other.count > 1
    return mine.rate_high_hz < its.rate_low_hz or its.rate_high_hz < mine.rate_low_hz
