"""An instrument at its address: opened anew when its link is lost, and switched off whatever happens to the program."""

from __future__ import annotations

from warm_ember.bench.instrument import Instrument
from warm_ember.bench.keeper import Keeper
from warm_ember.bench.link import Link
from warm_ember.bench.opening import open_source
from warm_ember.bench.source import Source
from warm_ember.errors import InstrumentError
from warm_ember.signal.series import ShouldStop, never

_SAFE_S = 0.8


class InstrumentConnection:
    """An instrument's address and the instrument there, which may have to be opened anew.

    Parameters
    ----------
    resource
        Its address.
    timeout_s
        How long it may say nothing.
    guard_v
        No voltage above this is sent.

    Raises
    ------
    InstrumentError
        If nobody answers there.
    """

    def __init__(self, resource: str, *, timeout_s: float = 5.0, guard_v: float | None = None) -> None:
        self.resource, self.timeout_s, self.guard_v = resource, timeout_s, guard_v
        self.instrument: Source = open_source(resource, timeout_s=timeout_s, guard_v=guard_v)
        self._keeper: Keeper | None = None

    def reopen(self, should_stop: ShouldStop = never) -> None:
        """Open the link anew and make sure that the same instrument is there.

        Raises
        ------
        InstrumentError
            If it is not.
        """
        identity = self.instrument.identity
        self.instrument.close()
        found = open_source(self.resource, timeout_s=self.timeout_s, guard_v=self.guard_v, should_stop=should_stop)
        if found.identity != identity:
            found.close()
            raise InstrumentError(self.resource, f"another instrument answers now: {found.identity}")
        self.instrument = found

    def watch(self) -> None:
        """Have the output switched off even if this program is killed, from now until it is off or is to stay on."""
        if self._keeper is None and self.instrument.off_messages:
            self._keeper = Keeper(self.resource, self.instrument.off_messages)

    def unwatch(self) -> None:
        """Leave the output as it is from now on."""
        if self._keeper is not None:
            self._keeper.release()
            self._keeper = None

    def make_safe(self) -> bool:
        """Switch the output off, over a new link when the old one is lost; answer whether that worked."""
        is_off = self.instrument.make_safe()
        if not is_off:
            self.instrument.close()
            is_off = self._is_off_over_new_link()
        self.unwatch()
        return is_off

    def _is_off_over_new_link(self) -> bool:
        if not isinstance(self.instrument, Instrument):
            return False
        try:
            link = Link(self.resource, timeout_s=_SAFE_S)
        except InstrumentError:
            return False
        try:
            for message in self.instrument.off_messages:
                link.write(message)
            link.query(self.instrument.commands.error, within_s=_SAFE_S)
        except InstrumentError:
            return False
        finally:
            link.close()
        return True

    def close(self) -> None:
        """Hang up."""
        self.instrument.close()
