"""What lanes need of a run, finished or still being recorded."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from warm_ember.model.capture import CaptureInfo
from warm_ember.model.placement import Placement
from warm_ember.signal.band_limit import BandLimited
from warm_ember.signal.bits import LineSeries
from warm_ember.signal.series import Series


class ShownCapture(Protocol):
    """The channels of a capture."""

    @property
    def info(self) -> CaptureInfo:
        """Identity and conditions."""
        ...

    @property
    def duration_s(self) -> float:
        """Length so far."""
        ...

    @property
    def current(self) -> Series:
        """Current, A."""
        ...

    @property
    def voltage(self) -> Series | None:
        """Voltage, V."""
        ...

    @property
    def power(self) -> Series | None:
        """Power, W."""
        ...

    @property
    def lines(self) -> LineSeries | None:
        """Digital lines."""
        ...

    @property
    def aux(self) -> Mapping[str, tuple[Series, str]]:
        """Auxiliary channels with their units."""
        ...


class LaneData(Protocol):
    """A run in the lanes."""

    @property
    def capture(self) -> ShownCapture:
        """Its capture."""
        ...

    @property
    def current_span_a(self) -> tuple[float, float]:
        """The lowest current above zero that lasts and the highest, A."""
        ...

    @property
    def limited(self) -> Mapping[str, BandLimited]:
        """Channels that are shown with their band limited, by name."""
        ...

    @property
    def placement(self) -> Placement:
        """Its states."""
        ...

    @property
    def state_means(self) -> tuple[tuple[str, float | None], ...]:
        """Each state with its mean current, A."""
        ...
