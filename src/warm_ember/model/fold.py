"""How the cycles of a repeating activity are laid on top of each other."""

from __future__ import annotations

from enum import StrEnum

import msgspec


class AlignBy(StrEnum):
    """What the cycles are aligned on."""

    WAKE = "wake"
    STATE = "state"
    LINE = "line"
    THRESHOLD = "threshold"
    PERIOD = "period"


class FoldPlan(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What to fold in one capture, and how.

    Parameters
    ----------
    capture
        The capture's name.
    by
        What the cycles are aligned on.
    what
        The wake source, state or line; empty for all wakes.
    rising
        Rising or falling edge of a line or threshold.
    threshold_a
        For alignment on a threshold; None finds one.
    period_s
        For a fixed period; None finds it by autocorrelation.
    before_s
        How much to show before the alignment.
    length_s
        Length of a cycle; None takes what lies between most starts.
    leaves_out_odd
        Whether cycles whose charge stands apart are left out of all figures.
    edges_s
        Inner edges of the occurrence's steps, seconds from the alignment; None finds them.
    names
        Names of the steps, by their place.
    """

    capture: str
    by: AlignBy
    what: str = ""
    rising: bool = True
    threshold_a: float | None = None
    period_s: float | None = None
    before_s: float = 0.0
    length_s: float | None = None
    leaves_out_odd: bool = False
    edges_s: tuple[float, ...] | None = None
    names: tuple[str, ...] = ()
