"""A claim, typed in words, held against the evidence: supported, refuted, or open, with the interval.

half the charge · a third less current · twice the life · 30 % less · 1.5 times the life
Deep sleep is below 5 µA · the average is at most 200 µA · the life is at least 36 months
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from enum import StrEnum

from warm_ember.errors import BadArgumentError
from warm_ember.model.estimate import Estimate, quotient
from warm_ember.units import (
    MONTH_S,
    format_trimmed,
    interval_numbers,
    interval_text,
    months_text,
    parse_duration,
    parse_quantity,
    percent_text,
    quantity_text,
)

_TELLS_ZERO = 1e-12


class Outcome(StrEnum):
    """What the evidence says of a claim."""

    SUPPORTED = "supported"
    REFUTED = "refuted"
    OPEN = "open"


@dataclass(frozen=True)
class ClaimedValue:
    """A value with the ends of its 90 % interval; infinite where nothing is known of the spread."""

    value: float
    low: float
    high: float


@dataclass(frozen=True)
class Claim:
    """A claim as it is understood.

    Parameters
    ----------
    about
        ``charge``, ``power``, ``life``, or the name of a state.
    is_ratio
        Whether it is about the second over the first, and not about the second alone.
    at_least
        Whether more fulfils it, or less.
    limit
        A ratio, A, W, or s.
    """

    about: str
    is_ratio: bool
    at_least: bool
    limit: float

    @property
    def words(self) -> str:
        """What was understood, in words."""
        subjects = {CHARGE: "the average current", POWER: "the average power", LIFE: "the life"}
        subject = subjects.get(self.about, f"the mean current of {self.about}")
        bound = "at least" if self.at_least else "at most"
        if self.is_ratio:
            return f"{subject} after is {bound} {format_trimmed(self.limit)} times that before"
        limit = months_text(self.limit) if self.about == LIFE else quantity_text(self.limit, unit_of(self))
        return f"{subject} is {bound} {limit}"


@dataclass(frozen=True)
class ClaimResult:
    """A claim with what the evidence supports."""

    claim: Claim
    found: ClaimedValue
    outcome: Outcome
    words: str


_UNKNOWN_SPREAD = "seen too seldom to know its spread"
CHARGE, POWER, LIFE = "charge", "power", "life"
_CHARGES = ("charge", "current", "average", "consumption")
_POWERS = ("power", "energy")
_NUMBER = r"\d+(?:[.,]\d+)?"
_LIVES = ("life", "lifetime", "battery life", "runtime", "months")
_PARTS = {"half": 1 / 2, "third": 1 / 3, "quarter": 1 / 4, "fifth": 1 / 5, "tenth": 1 / 10}
_TIMES = {"twice": 2.0, "double": 2.0, "three times": 3.0, "triple": 3.0, "four times": 4.0, "ten times": 10.0}
_BOUND = re.compile(
    r"(?:the\s+)?(?P<about>.+?)\s+(?:is|are|stays|lasts|draws|takes)?\s*"
    r"(?P<how>below|under|less than|at most|no more than|<=|<|≤|above|over|more than|at least|no less than|>=|>|≥)\s*"
    r"(?P<limit>[\d.,].*)$",
    re.IGNORECASE,
)
_LESS = re.compile(rf"(?P<share>{_NUMBER})\s*%\s*(?P<way>less|more|lower|higher|longer|shorter|of)\b\s*(?P<about>.*)")
_FACTOR = re.compile(rf"(?P<factor>{_NUMBER})\s*(?:times|x|×)\s*(?:as much|as long|more)?\s*(?P<about>.*)")
_HELP = "expected “half the charge”, “twice the life”, “30 % less current”, or “Deep sleep is below 5 µA”"


def read_claim(text: str, states: tuple[str, ...] = ()) -> Claim:
    """Understand a claim.

    Parameters
    ----------
    text
        What was typed.
    states
        The states that it may be about.

    Raises
    ------
    BadArgumentError
        If it cannot be understood.
    """
    words = " ".join(text.replace("“", "").replace("”", "").split())
    bound = _BOUND.fullmatch(words)
    if bound is not None:
        about = _about(bound["about"], states)
        at_least = bound["how"].casefold() in ("above", "over", "more than", "at least", "no less than", ">=", ">", "≥")
        return Claim(about, is_ratio=False, at_least=at_least, limit=_limit(bound["limit"], about))
    lowered = words.casefold()
    less = _LESS.match(lowered)
    if less is not None:
        share = _number(less["share"]) / 100
        about = _about(less["about"] or "charge", states)
        way = less["way"]
        if way == "of":
            return Claim(about, is_ratio=True, at_least=about == LIFE, limit=share)
        more = way in ("more", "higher", "longer")
        if not more and share > 1:
            raise BadArgumentError(f"{text!r}: nothing can be less by more than 100 %; {_HELP}")
        return Claim(about, is_ratio=True, at_least=more, limit=1 + share if more else 1 - share)
    for name, part in _PARTS.items():
        if (found := re.match(rf"(?:an?\s+|one\s+)?{name}\s+(less\s+)?(?:of\s+)?(.*)", lowered)) is not None:
            about = _about(found[2] or "charge", states)
            return Claim(about, is_ratio=True, at_least=False, limit=1 - part if found[1] else part)
    for name, factor in _TIMES.items():
        if (found := re.match(rf"{name}\s+(?:of\s+)?(.*)", lowered)) is not None:
            return Claim(_about(found[1] or "life", states), is_ratio=True, at_least=True, limit=factor)
    times = _FACTOR.match(lowered)
    if times is not None:
        about, factor = _about(times["about"] or "life", states), _number(times["factor"])
        return Claim(about, is_ratio=True, at_least=factor >= 1, limit=factor)
    raise BadArgumentError(f"{text!r} is no claim that can be checked; {_HELP}")


def unit_of(claim: Claim) -> str:
    """Return the unit of a claim's bound."""
    return {LIFE: "s", POWER: "W"}.get(claim.about, "A")


def _limit(text: str, about: str) -> float:
    if about == POWER and re.search(r"J\s*$", text):
        raise BadArgumentError(f"{text!r} is an energy, of which one has to say in what time: claim a power, in W")
    try:
        found = parse_duration(text) if about == LIFE else parse_quantity(text, "W" if about == POWER else "A")
    except ValueError:
        kind = {LIFE: "length of time such as 36 months", POWER: "power such as 5 mW"}
        wanted = kind.get(about, "current such as 5 µA")
        raise BadArgumentError(f"{text!r} is no {wanted}; {_HELP}") from None
    if not math.isfinite(found):
        raise BadArgumentError(f"{text!r} is no limit; {_HELP}")
    return found


def _number(text: str) -> float:
    return float(text.replace(",", "."))


def _about(words: str, states: tuple[str, ...]) -> str:
    plain = re.sub(r"^(the|of|its)\s+", "", words.strip().casefold()).strip(" .")
    for state in sorted(states, key=len, reverse=True):
        if plain == state.casefold() or plain in (f"current of {state.casefold()}", f"{state.casefold()} current"):
            return state
    if plain in _CHARGES or plain in {f"average {one}" for one in _CHARGES}:
        return CHARGE
    if plain in _POWERS or plain in {f"average {one}" for one in _POWERS}:
        return POWER
    if plain in _LIVES:
        return LIFE
    close = [state for state in states if plain and plain in state.casefold()]
    if len(close) == 1:
        return close[0]
    there_are = ", ".join(("charge", "power", "life", *states))
    raise BadArgumentError(f"{words!r} is nothing that was measured here; there are: {there_are}")


def check_claim(claim: Claim, before: Estimate | ClaimedValue | None, after: Estimate | ClaimedValue) -> ClaimResult:
    """Hold a claim against what was measured or predicted.

    Parameters
    ----------
    claim
        The claim.
    before, after
        What it is about in both runs; of a bound only the second counts, and may be an interval of any shape. A is
        the unit of charges and states, s of lives, W that of powers.

    Raises
    ------
    BadArgumentError
        If it compares and there is nothing to compare with.

    Notes
    -----
    A ratio is held against a limit by the sign of ``after - limit * before``, whose error is known even where the
    ratio's is not. The errors of both are taken as independent.
    """
    if not claim.is_ratio:
        found = after if isinstance(after, ClaimedValue) else _interval(after)
        return ClaimResult(claim, found, _outcome(claim, found, claim.limit), _bound_words(claim, found))
    if not isinstance(before, Estimate) or not isinstance(after, Estimate) or before.value <= _TELLS_ZERO:
        raise BadArgumentError(f"there is no {claim.about} before to compare with")
    ratio = ClaimedValue(after.value / before.value, *quotient(after, before))
    outcome = _outcome(claim, _interval(after.less(before.times(claim.limit))), 0.0)
    return ClaimResult(claim, ratio, outcome, _ratio_words(claim, ratio, outcome))


def _interval(estimate: Estimate) -> ClaimedValue:
    return ClaimedValue(estimate.value, *(estimate.interval() or (-math.inf, math.inf)))


def _outcome(claim: Claim, found: ClaimedValue, limit: float) -> Outcome:
    worst, best = (found.low, found.high) if claim.at_least else (found.high, found.low)
    sign = 1 if claim.at_least else -1
    if sign * (worst - limit) >= 0:
        return Outcome.SUPPORTED
    return Outcome.OPEN if sign * (best - limit) >= 0 else Outcome.REFUTED


def _ratio_words(claim: Claim, ratio: ClaimedValue, outcome: Outcome) -> str:
    low, high = max(ratio.low, 0.0), ratio.high
    interval = " to ".join(interval_numbers(low, high)) if math.isfinite(high) else _UNKNOWN_SPREAD
    change = percent_text(abs(ratio.value - 1))
    moved = "less" if ratio.value < 1 else "more"
    what = {CHARGE: "of the charge", POWER: "of the power", LIFE: "of the life"}.get(claim.about, f"of {claim.about}")
    ends = {
        Outcome.SUPPORTED: "as claimed",
        Outcome.REFUTED: f"not {format_trimmed(claim.limit)}",
        Outcome.OPEN: f"{format_trimmed(claim.limit)} is within what chance allows",
    }[outcome]
    return f"{format_trimmed(ratio.value)} {what} ({interval}), {change} {moved}: {ends}"


def _bound_words(claim: Claim, found: ClaimedValue) -> str:
    if claim.about == LIFE:
        ends = " to ".join(interval_numbers(found.low / MONTH_S, found.high / MONTH_S))
        return f"{months_text(found.value)} ({ends} months)"
    unit = unit_of(claim)
    if not math.isfinite(found.high - found.low):
        return f"{quantity_text(found.value, unit)} ({_UNKNOWN_SPREAD})"
    return f"{quantity_text(found.value, unit)} ({interval_text(found.low, found.high, unit)})"
