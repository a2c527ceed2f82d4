"""What attribution needs of a capture, wherever it lies."""

from __future__ import annotations

from typing import Protocol

from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.signal.bits import LineSeries
from warm_ember.signal.series import Series


class Recording(Protocol):
    """A capture's channels, log and conditions."""

    @property
    def name(self) -> str:
        """The capture's name."""
        ...

    @property
    def info(self) -> CaptureInfo:
        """Identity and conditions."""
        ...

    @property
    def current(self) -> Series:
        """Current, A."""
        ...

    @property
    def power(self) -> Series | None:
        """Power, W, where there is a voltage channel."""
        ...

    @property
    def lines(self) -> LineSeries | None:
        """Digital lines."""
        ...

    @property
    def events(self) -> tuple[Event, ...]:
        """The target's log in its own clock."""
        ...
