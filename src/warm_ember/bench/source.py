"""What readings come from, whatever it is: what the recorder and a recipe ask of it."""

from __future__ import annotations

from typing import Protocol

from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.model.bench import BenchSettings
from warm_ember.signal.series import ShouldStop


class Source(Protocol):
    """An instrument, or something that prints."""

    should_stop: ShouldStop
    """Polled while it is waited for."""
    is_waited_with: bool
    """Whether something else was done since it was opened: what came meanwhile is not wanted then."""

    @property
    def identity(self) -> str:
        """Who it is."""
        ...

    @property
    def description(self) -> InstrumentDescription:
        """How it is spoken to."""
        ...

    @property
    def began_s(self) -> float | None:
        """The moment of the first sample by the monotonic clock; None where a sweep begins when it is told."""
        ...

    @property
    def reading_interval_s(self) -> float | None:
        """How long it is from one reading to the next, where it does not look all the time."""
        ...

    @property
    def is_in_step(self) -> bool:
        """Whether all answers that were asked for have come whole."""
        ...

    @property
    def has_ended(self) -> bool:
        """Whether nothing comes any more, without that being a fault."""
        ...

    @property
    def senses(self) -> tuple[str, ...]:
        """What it measures: ``current``, perhaps ``voltage`` and ``lines``."""
        ...

    @property
    def aux_units(self) -> dict[str, str]:
        """The units of what it measures beside current, voltage and lines, by name."""
        ...

    @property
    def line_names(self) -> tuple[str, ...]:
        """Names of its digital lines."""
        ...

    @property
    def off_messages(self) -> tuple[str, ...]:
        """What stops it and switches its output off, for somebody else to send; none where it has no output."""
        ...

    @property
    def news(self) -> tuple[str, ...]:
        """What happened since this was last asked, and belongs beside the samples."""
        ...

    @property
    def remarks(self) -> tuple[str, ...]:
        """What is to be known of a recording when it has ended."""
        ...

    def fitted(self, settings: BenchSettings) -> BenchSettings:
        """Return settings as it can keep them."""
        ...

    def check(self, settings: BenchSettings) -> None:
        """Check settings before anything is sent; `BadArgumentError` where one is impossible."""
        ...

    def reset(self) -> None:
        """Bring it into the state that it has after being switched on."""
        ...

    def forget_errors(self) -> None:
        """Empty its error queue."""
        ...

    def set_source(self, settings: BenchSettings) -> None:
        """Set voltage and current limit."""
        ...

    def set_sweep(self, settings: BenchSettings, points: int | None) -> None:
        """Set range, interval and length; None points for no end."""
        ...

    def switch(self, *, on: bool) -> None:
        """Switch the output."""
        ...

    def start(self) -> None:
        """Begin."""
        ...

    def stop(self) -> None:
        """End."""
        ...

    def fetch(self) -> ReadingBlock:
        """Return what came since the last fetch; `InstrumentError` where it fails."""
        ...

    def make_safe(self, *, within_s: float = 0.8) -> bool:
        """Stop and switch the output off, whatever happens on the way; answer whether it took the commands."""
        ...

    def close(self) -> None:
        """Hang up."""
        ...
