"""Placement rules: how time is given to states.

Rules apply in order; what one has placed, a later one leaves alone. Rules by hand come before all others.
"""

from __future__ import annotations

import msgspec


class LogRule(msgspec.Struct, frozen=True, tag="log", tag_field="by", forbid_unknown_fields=True):
    """Place states from the event log's ``state`` events.

    Parameters
    ----------
    event_name
        The firmware's name of one state; empty for all of them.
    state
        What that state is called here; empty to keep the firmware's name.
    """

    event_name: str = ""
    state: str = ""


class LineRule(msgspec.Struct, frozen=True, tag="line", tag_field="by", forbid_unknown_fields=True):
    """Place a state wherever some digital lines are high and some low.

    With neither named, each combination of lines is a state named by its high lines.

    Parameters
    ----------
    state
        The state's name; empty for all combinations.
    high, low
        The lines.
    names
        Names given to combinations, by how they are called without; several may share one state.
    """

    state: str = ""
    high: tuple[str, ...] = ()
    low: tuple[str, ...] = ()
    names: dict[str, str] = {}

    @property
    def is_all(self) -> bool:
        """Whether it makes a state of each combination."""
        return not self.high and not self.low and not self.state


class BandRule(msgspec.Struct, frozen=True, tag="band", tag_field="by", forbid_unknown_fields=True):
    """Place a state wherever the current stays within a band.

    Parameters
    ----------
    state
        The state's name.
    low_a, high_a
        The band, A.
    hysteresis
        Once inside, the current may leave the band by this share of its edge.
    shortest_s
        Shorter stays do not count.
    absorb_s
        Shorter leaves, such as the pulses of a radio that is idle, do not end a stay; as `shortest_s` when None.
    """

    state: str
    low_a: float
    high_a: float
    hysteresis: float = 0.1
    shortest_s: float = 0.0
    absorb_s: float | None = None


class LevelsRule(msgspec.Struct, frozen=True, tag="levels", tag_field="by", forbid_unknown_fields=True):
    """Place states by the levels found in the current itself, named ``level 1`` (lowest) upward.

    Parameters
    ----------
    names
        Names given to levels, by level name; several levels may share one state.
    most
        At most so many levels are found, the most distinct ones.
    centres_a
        Levels that were learned, lowest first, A; found anew in each capture when empty.
    absorb_s
        Shorter stays become part of what surrounds them, as paging peaks do of a radio that is idle.
    """

    names: dict[str, str] = {}
    most: int = 14
    centres_a: tuple[float, ...] = ()
    absorb_s: float = 0.0


class KindsRule(msgspec.Struct, frozen=True, tag="kinds", tag_field="by", forbid_unknown_fields=True):
    """Place states by the kinds of wakes that the current shows: sleep, and each kind under its name.

    Parameters
    ----------
    names
        Names given to these states, by what they are called without; several may share one.
    """

    names: dict[str, str] = {}


class HandRule(msgspec.Struct, frozen=True, tag="hand", tag_field="by", forbid_unknown_fields=True):
    """Place one stretch of one capture by hand."""

    state: str
    capture: str
    from_s: float
    to_s: float


Rule = LogRule | LineRule | BandRule | LevelsRule | KindsRule | HandRule
