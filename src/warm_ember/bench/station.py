"""An instrument at its address: opened anew when its link is lost, and switched off whatever happens to the program."""

from __future__ import annotations

from warm_ember.bench.keeper import Keeper
from warm_ember.bench.link import Link
from warm_ember.bench.opening import open_source
from warm_ember.bench.paired import PairedSource
from warm_ember.bench.source import Source
from warm_ember.errors import InstrumentError
from warm_ember.model.bench import SecondGives, SecondInstrument
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
    second
        An instrument beside it, joined to it as one source.

    Raises
    ------
    InstrumentError
        If nobody answers there.
    """

    def __init__(
        self,
        resource: str,
        *,
        timeout_s: float = 5.0,
        guard_v: float | None = None,
        second: SecondInstrument | None = None,
    ) -> None:
        self.resource, self.timeout_s, self.guard_v, self._second = resource, timeout_s, guard_v, second
        self.instrument: Source = self._open(never)
        self._keeper: Keeper | None = None

    def _open(self, should_stop: ShouldStop) -> Source:
        first = open_source(self.resource, timeout_s=self.timeout_s, guard_v=self.guard_v, should_stop=should_stop)
        if self._second is None or not self._second.resource:
            return first
        try:
            return PairedSource(first, self._open_second(self._second, should_stop), self._second.gives)
        except BaseException:
            first.close()
            raise

    def _open_second(self, second: SecondInstrument, should_stop: ShouldStop) -> Source:
        reads_volts = second.gives is SecondGives.VOLTAGE
        return open_source(second.resource, timeout_s=self.timeout_s, should_stop=should_stop, reads_volts=reads_volts)

    def reopen(self, should_stop: ShouldStop = never) -> None:
        """Open the link anew and make sure that the same instrument is there.

        Raises
        ------
        InstrumentError
            If it is not.
        """
        identity = self.instrument.identity
        self.instrument.close()
        found = self._open(should_stop)
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
        commands = self.instrument.description.commands
        if not self.instrument.off_messages:
            return False
        try:
            link = Link(self.resource, timeout_s=_SAFE_S)
        except InstrumentError:
            return False
        try:
            for message in self.instrument.off_messages:
                link.write(message)
            link.query(commands.error, within_s=_SAFE_S)
        except InstrumentError:
            return False
        finally:
            link.close()
        return True

    def close(self) -> None:
        """Hang up."""
        self.instrument.close()
