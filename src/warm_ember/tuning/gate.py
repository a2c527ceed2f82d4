"""A run compared with limits: passed or failed only where its figures lie wholly on one side, beyond their noise."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

_EVEN = 0.5
_ROUNDING = 1e-9


class Outcome(StrEnum):
    """What came of a check."""

    PASS = "pass"
    FAIL = "fail"
    UNDECIDED = "undecided"


@dataclass(frozen=True)
class Measured:
    """A figure as it is compared with a limit.

    Parameters
    ----------
    value
        The value; None where nothing was measured.
    low, high
        Ends of its 90 % interval; None where it has no end on that side, or nothing is known of the spread.
    """

    value: float | None
    low: float | None = None
    high: float | None = None

    @classmethod
    def exact(cls, value: float) -> Measured:
        """Return a figure that is counted, not estimated."""
        return cls(value, value, value)


@dataclass(frozen=True)
class Check:
    """One limit with what was measured.

    Parameters
    ----------
    name
        The limit's key.
    outcome
        What came of it.
    value, low, high
        The figure with its 90 % interval, in the limit's unit.
    limit
        The limit; None where it is none in numbers.
    unit
        Unit of all of these, ``"share"`` for shares; empty for counts.
    text
        The outcome in a sentence.
    key
        Where the limit stands in the file; the same for all that one limit makes checks of.
    title
        What is compared, in words.
    is_least
        Whether the figure must not fall below the limit, not rise above it.
    """

    name: str
    outcome: Outcome
    value: float | None
    low: float | None
    high: float | None
    limit: float | None
    unit: str
    text: str
    key: tuple[str, ...] = ()
    title: str = ""
    is_least: bool = False


@dataclass(frozen=True)
class GateResult:
    """All checks of one run.

    Parameters
    ----------
    capture, baseline
        The run, and the one that it was compared with; empty for none.
    checks
        In the order of the limits' file.
    strict
        Whether what is undecided counts as failed.
    """

    capture: str
    baseline: str
    checks: tuple[Check, ...]
    strict: bool = False

    @property
    def outcome(self) -> Outcome:
        """Failed where any check did; undecided where none failed, but some are open."""
        outcomes = {check.outcome for check in self.checks}
        if Outcome.FAIL in outcomes or (self.strict and Outcome.UNDECIDED in outcomes):
            return Outcome.FAIL
        return Outcome.UNDECIDED if Outcome.UNDECIDED in outcomes else Outcome.PASS


def at_most(figure: Measured, limit: float) -> Outcome:
    """Return whether a figure keeps below a limit.

    Examples
    --------
    >>> at_most(Measured(9.0, 8.0, 10.0), 10.0), at_most(Measured(9.0, 8.0, 10.0), 7.9)
    (<Outcome.PASS: 'pass'>, <Outcome.FAIL: 'fail'>)
    >>> at_most(Measured(9.0, 8.0, 10.0), 9.5), at_most(Measured(9.0), 1000.0)
    (<Outcome.UNDECIDED: 'undecided'>, <Outcome.UNDECIDED: 'undecided'>)
    """
    if figure.high is not None and figure.high <= limit:
        return Outcome.PASS
    if figure.low is not None and figure.low > limit:
        return Outcome.FAIL
    return Outcome.UNDECIDED


def at_least(figure: Measured, limit: float) -> Outcome:
    """Return whether a figure keeps above a limit."""
    if figure.low is not None and figure.low >= limit:
        return Outcome.PASS
    if figure.high is not None and figure.high < limit:
        return Outcome.FAIL
    return Outcome.UNDECIDED


def lasts(draws: Sequence[float], limit: float, chance: float) -> Outcome:
    """Return whether a life is as likely as asked for to reach a limit; failed where it is as likely to miss it.

    Parameters
    ----------
    draws
        Lives, in the limit's unit.
    limit
        How long it has to last.
    chance
        How likely that has to be.
    """
    if not len(draws):
        return Outcome.UNDECIDED
    reach = sum(one >= limit for one in draws) / len(draws)
    if reach >= chance:
        return Outcome.PASS
    # A chance of a half or less leaves nothing undecided.
    return Outcome.FAIL if 1 - reach >= chance or chance <= _EVEN else Outcome.UNDECIDED


def lasting(draws: Sequence[float], chance: float) -> tuple[float, float]:
    """Return between which lives `lasts` leaves a limit undecided: it passes up to the first, fails beyond the last.

    Parameters
    ----------
    draws
        Lives, at least one.
    chance
        How likely a limit has to be reached; at 0.95 these are the ends of the 90 % interval.

    Examples
    --------
    >>> lasting([float(k) for k in range(1, 101)], 0.9)
    (11.0, 90.0)
    """
    rising, count = sorted(draws), len(draws)
    low = rising[min(math.floor((1 - chance) * count + _ROUNDING), count - 1)]
    if chance <= _EVEN:
        return low, low
    return low, rising[max(math.ceil(chance * count - _ROUNDING) - 1, 0)]


def relative(before: float, change: Measured) -> Measured:
    """Return a change as a share of what was there before; of nothing any change is without end."""

    def share(part: float | None) -> float | None:
        if part is None:
            return None
        if before > 0:
            return part / before
        return 0.0 if part == 0 else math.copysign(math.inf, part)

    return Measured(share(change.value), share(change.low), share(change.high))
