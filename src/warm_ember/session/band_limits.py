"""Limiting the band of a run's channels: which there are, and how far each can be limited."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from warm_ember.model.band_limit import CURRENT, VOLTAGE
from warm_ember.signal.band_limit import check_shortest
from warm_ember.signal.series import Series

if TYPE_CHECKING:
    from warm_ember.store.capture import Capture


def channels_of(capture: Capture) -> Mapping[str, Series]:
    """Return the channels of a capture whose band can be limited, by name."""
    found: dict[str, Series] = {CURRENT: capture.current}
    if capture.voltage is not None:
        found[VOLTAGE] = capture.voltage
    for name, (series, _) in capture.aux.items():
        found.setdefault(name, series)
    return found


def check_limit(capture: Capture, channel: str, shortest_s: float) -> None:
    """Check how far the band of a channel is to be limited.

    Raises
    ------
    BadArgumentError
        If it cannot be limited so far.
    """
    check_shortest(channels_of(capture)[channel], shortest_s)
