"""A limit of a channel's band: what of a channel is left when nothing that is shorter is shown."""

from __future__ import annotations

import msgspec

CURRENT = "current"
VOLTAGE = "voltage"


class BandLimit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A limit of the band of one channel of one capture.

    Parameters
    ----------
    capture
        The capture's name.
    channel
        `CURRENT`, `VOLTAGE`, or the name of a further channel.
    shortest_s
        Nothing shorter is told.
    places_states
        Whether rules by current look at this instead of the current as it was measured.
    """

    capture: str
    channel: str
    shortest_s: float
    places_states: bool = False
