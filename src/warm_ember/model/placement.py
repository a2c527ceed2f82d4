"""States on the time axis, and the clock that put them there."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from warm_ember.model.arrays import Flags, Indices
from warm_ember.model.rules import Rule

UNPLACED = -1
UNPLACED_NAME = "unplaced"
SAME_CLOCK = "same clock"
TYPED_CLOCK = "typed"
_ENOUGH, _SOME = 8, 3


@dataclass(frozen=True, eq=False)
class Alignment:
    """How the target's clock maps to the capture's: ``capture = offset_s + (1 + drift) * target``.

    Parameters
    ----------
    offset_s
        Offset at target time 0.
    drift
        Relative drift, 1e-6 for 1 ppm.
    residual_s
        Root mean square of what the map leaves over; 0 when nothing was matched.
    matched
        How many pairs it rests on.
    method
        What it rests on, in words.
    expected
        How many of the log's changes fall into the capture.
    rival_s
        By how much another map that fits as well is shifted; the map is ambiguous then.
    seen
        How many changes the current shows by itself.
    by_chance
        How many pairs chance alone would give.
    lies_outside
        Whether all that the log tells lies before or after the capture.
    """

    offset_s: float = 0.0
    drift: float = 0.0
    residual_s: float = 0.0
    matched: int = 0
    method: str = SAME_CLOCK
    expected: int = 0
    rival_s: float | None = None
    seen: int = 0
    by_chance: float = 0.0
    lies_outside: bool = False

    @property
    def is_unusable(self) -> bool:
        """Whether nothing may be placed by the log: it fits the capture in several ways, or in none."""
        return self.is_ambiguous or self.is_unconfirmed or self.lies_outside

    @property
    def is_ambiguous(self) -> bool:
        """Whether the log can be laid on the capture in several ways."""
        return self.rival_s is not None

    @property
    def confidence(self) -> float | None:
        """How sure the map is, from 0 to 1: the share of the log's changes that it explains; None when it was typed."""
        if self.method == TYPED_CLOCK:
            return None
        if self.is_ambiguous:
            return 0.0
        return self.matched / self.expected if self.expected else 0.0

    @property
    def is_confirmed(self) -> bool:
        """Whether the current shows a good part of what the log tells."""
        return self.matched > 0 and (self.method != SAME_CLOCK or self.matched >= self.expected / 4)

    @property
    def is_unconfirmed(self) -> bool:
        """Whether the current changes as often as the log does, but not when it does.

        A current that hardly changes confirms nothing and contradicts nothing: it may be that of a device whose
        firmware reports a sleep that it never enters.
        """
        if self.method != SAME_CLOCK or self.seen < self.expected / 4:
            return False
        if self.expected < _ENOUGH:
            elsewhere, missed = self.seen - self.matched, self.expected - self.matched
            return self.expected >= _SOME and self.matched <= self.expected / 4 and elsewhere >= missed / 2
        tells = self.by_chance < self.expected / 2
        surprising = self.by_chance + 3 * self.by_chance**0.5 if tells else 0.0
        return self.matched < max(self.expected / 4, surprising)

    def to_capture(self, target_s: float) -> float:
        """Map a target time to capture time."""
        return self.offset_s + (1.0 + self.drift) * target_s


@dataclass(frozen=True, eq=False)
class Placement:
    """A capture cut into intervals, each with a state.

    Parameters
    ----------
    names
        The states' names, in order of first appearance.
    edges
        Sample indices, shape ``(intervals + 1,)``, rising from 0 to the capture's length.
    state
        Index into `names` for each interval, `UNPLACED` where no rule places it, shape ``(intervals,)``.
    how
        For each state, what placed it, in words.
    alignment
        The clock map used for log events; None without a log.
    overruled
        By the place of a rule among the project's: the share of the time it matches that another rule, which goes
        before it, gives to another state.
    rules
        What placed it: the project's rules, or those that hold while it has none.
    """

    names: tuple[str, ...]
    edges: Indices
    state: Indices
    how: tuple[str, ...]
    alignment: Alignment | None = None
    overruled: dict[int, float] = field(default_factory=dict)
    rules: tuple[Rule, ...] = ()

    @property
    def intervals(self) -> int:
        """Number of intervals."""
        return len(self.state)

    def of(self, name: str) -> Flags:
        """Flag the intervals of one state, shape ``(n,)``; of one that is not there none."""
        index = self.names.index(name) if name in self.names else -2
        return np.asarray(self.state == index)
