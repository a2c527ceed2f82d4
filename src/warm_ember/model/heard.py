"""What was heard of the target while it was recorded."""

from __future__ import annotations

import msgspec


class Heard(msgspec.Struct, frozen=True):
    """A line of the console and what it says, with both of its times.

    Parameters
    ----------
    received_s
        When its end came, from the recording's first sample on; negative before.
    event, name
        What it says, as of an `warm_ember.model.capture.Event`.
    target_s
        The time that the target wrote before it, in the target's clock; None without.
    """

    received_s: float
    event: str
    name: str = ""
    target_s: float | None = None
