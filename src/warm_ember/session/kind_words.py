"""Kinds of wakes in words: how they come, and the model that they make."""

from __future__ import annotations

from typing import TYPE_CHECKING

from warm_ember.attribution.kinds import Kind, Kinds
from warm_ember.attribution.known_kinds import unlikeness
from warm_ember.signal.recurrence import SKIPS, Manner, Recurrence
from warm_ember.units import HOUR_S, counted, duration_text, format_trimmed, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.kind_results import KindsShown

_MOST_TERMS = 5
_NEVER_BELOW = 1e-3


def how_it_comes(kind: Kind, kinds: Kinds) -> str:
    """Return how a kind comes: ``every 60.0 s``, ``by chance, 72 an hour``, ``after kind A by 350 ms``."""
    how = kind.recurrence
    if how.manner is Manner.ONCE or kind.count < 2:
        return "once" if kind.count < 2 else _often(how)
    if how.manner is Manner.FOLLOWS:
        leader = next((one.label for one in kinds.kinds if one.number == how.behind), "another")
        return f"after {leader} by {duration_text(how.delay_s)}"
    if how.manner is Manner.TIMERS:
        return (
            f"{counted(len(how.timers), 'timer')}: {', '.join(str(duration_text(one.period_s)) for one in how.timers)}"
        )
    if how.manner is Manner.SKIPS:
        timer = how.timers[0]
        words = f"every {duration_text(timer.period_s)}"
        if timer.stopped:
            words += f", {percent_text(1 - timer.stopped / timer.slots)} of the time"
        return f"{words}, {percent_text(timer.skipped)} skipped" if timer.skipped > SKIPS else words
    return f"every {duration_text(how.timers[0].period_s)}" if how.timers else _often(how)


def _often(how: Recurrence) -> str:
    return f"by chance, {format_trimmed(how.rate_hz * HOUR_S)} an hour"


def how_exactly(kind: Kind) -> str:
    """Return how even a kind comes: its jitter and drift, or between what its rate lies; empty where nothing tells."""
    how = kind.recurrence
    if len(how.timers) == 1:
        timer = how.timers[0]
        words = [f"± {percent_text(timer.jitter_s / timer.period_s)}"] if timer.jitter_s else []
        if timer.drift:
            words.append(f"drifts by {format_trimmed(timer.drift * 1e6)} ppm")
        return ", ".join(words)
    if how.manner is Manner.CHANCE and kind.count > 1:
        low, high = (format_trimmed(rate * HOUR_S) for rate in (how.rate_low_hz, how.rate_high_hz))
        return f"{low} to {high} an hour"
    return ""


def model_sentence(kinds: Kinds) -> str:
    """Return what sleep and the kinds make together, and how well that reproduces the capture."""
    terms: list[str] = [f"Sleep {quantity_text(kinds.floor.value, 'A')}"]
    terms += [f"{kind.label} {how_it_comes(kind, kinds)}" for kind in kinds.kinds[:_MOST_TERMS]]
    if len(kinds.kinds) > _MOST_TERMS:
        terms.append(f"{counted(len(kinds.kinds) - _MOST_TERMS, 'more kind')}")
    left = len(kinds.unsorted)
    wanted_a = kinds.mean_a - left_out_a(kinds)
    off = abs(reproduced_a(kinds) / wanted_a - 1) if wanted_a else 0.0
    whole = f"the capture's {quantity_text(kinds.mean_a, 'A')}"
    without = [counted(left, "unsorted wake")] if left else []
    if kinds.stays:
        without.append(stays_words(kinds))
    of = f"{quantity_text(wanted_a, 'A')} of {whole}" if without else whole
    out = f"; {' and '.join(without)} left out" if without else ""
    return f"{' + '.join(terms)} reproduces {of} within {percent_text(max(off, _NEVER_BELOW))}{out}"


def left_out_a(kinds: Kinds) -> float:
    """Return what the model of floor and kinds leaves out of the mean, since nothing says how often it comes."""
    return kinds.unsorted_a + sum(stay.added_a for stay in kinds.stays)


def stays_words(kinds: Kinds) -> str:
    """Return what lasts longer than any wake: ``24.9 s at 9.21 mA``, ``3 stays of 40 s in all``."""
    lasts_s = [(stay.last - stay.first) * kinds.interval_s for stay in kinds.stays]
    if len(kinds.stays) == 1:
        return f"{duration_text(lasts_s[0])} at {quantity_text(kinds.stays[0].level_a, 'A')}"
    return f"{counted(len(kinds.stays), 'stay')} of {duration_text(sum(lasts_s))} in all"


def kinds_sentence(kinds: Kinds) -> str:
    """Return how much of the charge the kinds take, and sleep, as rich text."""
    if not kinds.kinds:
        return "Nothing in this capture rises from its floor often enough to be a kind of wake."
    share = sum(kind.added_a for kind in kinds.kinds) / kinds.mean_a if kinds.mean_a else 0.0
    count = len(kinds.kinds)
    many = "One kind of wakes takes" if count == 1 else f"**{count}** kinds of wakes take"
    words = (
        f"{many} {percent_text(share).rich} of the charge; sleep takes {quantity_text(kinds.floor.value, 'A').rich}."
    )
    left = len(kinds.unsorted)
    if left:
        words += " One wake is like no other." if left == 1 else f" **{left}** wakes are like no other."
    return words


def most_alike(shown: KindsShown, letter: str) -> str | None:
    """Return the letter of the kind that is most like another; None where it is the only one."""
    others = {other: like for other, like in shown.likes.items() if other != letter}
    mine = shown.likes.get(letter)
    if mine is None or not others:
        return None
    return min(others, key=lambda other: unlikeness(mine, others[other]))


def reproduced_a(kinds: Kinds) -> float:
    """Return the mean current that the floor and the kinds make, each as often as it came in the capture."""
    if not kinds.measured_s:
        return kinds.floor.value
    return kinds.floor.value + sum(kind.measured * kind.charge.value for kind in kinds.kinds) / kinds.measured_s
