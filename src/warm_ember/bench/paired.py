"""Two instruments as one source: each by its own clock, joined while they record."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import replace

import msgspec
import numpy as np

from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.instrument import Instrument
from warm_ember.bench.pair_clock import PairClock
from warm_ember.bench.reading_block import ReadingBlock
from warm_ember.bench.source import Source
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.arrays import Samples
from warm_ember.model.bench import BenchSettings, SecondGives, Trigger
from warm_ember.signal.joining import Ranges, join_samples
from warm_ember.signal.series import ShouldStop

log = logging.getLogger(__name__)

_PATIENCE_S = 2.0
_POLL_S = 0.01
_AT_SOURCE = "voltage at the source"
_FINE, _COARSE, _OTHER = "finer range", "coarser range", "another current"


class PairedSource:
    """Two instruments as one: what the recorder asks goes to the first, and what the second measures comes along.

    The second one is read by a thread of its own. Where it says nothing for two seconds its channel is missing, and so
    it stays when it is lost: what the first one records goes on.

    Parameters
    ----------
    first
        Gives the time axis, the lines and the power.
    second
        Measures something beside. It is left in the range that it is in, and is never told to switch anything.
    gives
        What it is there for: `SecondGives.VOLTAGE`, `SecondGives.RANGE` or `SecondGives.CURRENT`.
    """

    def __init__(self, first: Source, second: Source, gives: SecondGives) -> None:
        self._first, self._second, self._gives = first, second, gives
        if isinstance(second, Instrument):
            second.commands = msgspec.structs.replace(second.commands, range_auto="")
        self._thread: threading.Thread | None = None
        self._end = threading.Event()
        self._queue: deque[Samples] = deque()
        self._fault: InstrumentError | None = None
        self._told_fault = False
        self._clock: PairClock | None = None
        self._forget()

    def _forget(self) -> None:
        self._waiting: deque[tuple[float, ReadingBlock]] = deque()
        self._held: Samples = np.empty(0, dtype=np.float32)
        self._held_from = self._given = 0

    @property
    def identity(self) -> str:
        """Who both are."""
        return f"{self._first.identity}; {self._gives.value}: {self._second.identity}"

    @property
    def description(self) -> InstrumentDescription:
        """How the first is spoken to."""
        return self._first.description

    @property
    def is_waited_with(self) -> bool:
        """Whether something else was done since both were opened."""
        return self._first.is_waited_with

    @is_waited_with.setter
    def is_waited_with(self, waited: bool) -> None:
        self._first.is_waited_with = self._second.is_waited_with = waited

    @property
    def should_stop(self) -> ShouldStop:
        """Polled while either is waited for."""
        return self._first.should_stop

    @should_stop.setter
    def should_stop(self, should_stop: ShouldStop) -> None:
        self._first.should_stop = self._second.should_stop = should_stop

    @property
    def began_s(self) -> float | None:
        """The moment of the first one's first sample."""
        return self._first.began_s

    @property
    def reading_interval_s(self) -> float | None:
        """How long it is from one reading of the first to the next."""
        return self._first.reading_interval_s

    @property
    def is_in_step(self) -> bool:
        """Whether all answers of the first have come whole."""
        return self._first.is_in_step

    @property
    def has_ended(self) -> bool:
        """Whether nothing comes of the first any more."""
        return self._first.has_ended and not self._waiting

    @property
    def senses(self) -> tuple[str, ...]:
        """What both measure."""
        found = self._first.senses
        return (*found, "voltage") if self._gives is SecondGives.VOLTAGE and "voltage" not in found else found

    @property
    def aux_units(self) -> dict[str, str]:
        """Further channels of the first, and what the second adds."""
        found = dict(self._first.aux_units)
        if self._gives is SecondGives.VOLTAGE and "voltage" in self._first.senses:
            found[_AT_SOURCE] = "V"
        elif self._gives is SecondGives.RANGE:
            found |= {_FINE: "A", _COARSE: "A"}
        elif self._gives is SecondGives.CURRENT:
            found[_OTHER] = "A"
        return found

    @property
    def line_names(self) -> tuple[str, ...]:
        """Digital lines of the first."""
        return self._first.line_names

    @property
    def off_messages(self) -> tuple[str, ...]:
        """What switches the first one's output off; the second never switched anything on."""
        return self._first.off_messages

    @property
    def news(self) -> tuple[str, ...]:
        """What happened to either."""
        told = list(self._first.news)
        if self._fault is not None and not self._told_fault:
            self._told_fault = True
            told.append(f"{self._gives.value} lost")
        return tuple(told)

    @property
    def remarks(self) -> tuple[str, ...]:
        """What is to be known of both, and how well one lies on the other."""
        told = [*self._first.remarks, *(f"{self._gives.value}: {words}" for words in self._second.remarks)]
        if self._clock is not None:
            told.append(f"{self._gives.value} of {self._second.identity} {self._clock.words}")
        if self._fault is not None:
            told.append(f"{self._gives.value} lost: {self._fault.one_line}")
        return tuple(told)

    def fitted(self, settings: BenchSettings) -> BenchSettings:
        """Return settings as the first can keep them."""
        return self._first.fitted(settings)

    def _beside(self, settings: BenchSettings) -> BenchSettings:
        """Return what the second is set to: it measures all the time, by an interval that it can keep."""
        alone = msgspec.structs.replace(
            settings, voltage_v=None, limit_a=None, range_a=None, duration_s=None, trigger=Trigger()
        )
        return self._second.fitted(alone)

    def check(self, settings: BenchSettings) -> None:
        """Check settings before anything is sent.

        Raises
        ------
        BadArgumentError
            If one is impossible for either, or two ranges are to be joined and the finer is not said.
        """
        self._first.check(settings)
        if self._gives is SecondGives.RANGE and settings.range_a is None:
            raise BadArgumentError("two ranges are joined at the end of the finer one: say which range the first is in")
        if self._gives is SecondGives.VOLTAGE and self._channel is None:
            raise BadArgumentError(f"{self._second.description.name} measures no voltage")

    def reset(self) -> None:
        """Bring the first into the state that it has after being switched on; the second stays as it is set up."""
        self._first.reset()
        self._second.forget_errors()

    def forget_errors(self) -> None:
        """Empty both error queues."""
        self._first.forget_errors()
        self._second.forget_errors()

    def set_source(self, settings: BenchSettings) -> None:
        """Set voltage and current limit of the first."""
        self._first.set_source(settings)

    def set_sweep(self, settings: BenchSettings, points: int | None) -> None:
        """Set range, interval and length of both; the second goes on without end."""
        self._first.set_sweep(settings, points)
        self._interval_s, self._range_a = settings.interval_s, settings.range_a
        beside = self._beside(settings)
        self._second_interval_s = beside.interval_s
        known = self._second.description
        self._second.set_sweep(beside, None if known.endless_points else known.max_points or 1 << 30)

    def switch(self, *, on: bool) -> None:
        """Switch the first one's output."""
        self._first.switch(on=on)

    def start(self) -> None:
        """Begin with both: the second first, so that it misses nothing."""
        self._end_thread()
        self._forget()
        self._queue.clear()
        if self._fault is None:
            self._second_told = _told(self._second.start)
            self._end.clear()
            self._thread = threading.Thread(target=self._read_second, name="second instrument")
            self._thread.start()
        self._first.is_waited_with = True  # what it printed before the second began has nothing beside it
        self._first_told = _told(self._first.start)
        self._clock = None

    def _read_second(self) -> None:
        """Fetch what the second measured, until told to end; this thread alone speaks with it then."""
        while not self._end.is_set():
            try:
                values = self._values_of(self._second.fetch())
            except InstrumentError as error:
                log.warning("the second instrument is lost: %s", error)
                self._fault = error
                return
            if len(values):
                self._queue.append(values)
            else:
                self._end.wait(_POLL_S)

    @property
    def _channel(self) -> str | None:
        """Which of the second one's channels is wanted; None where it has none of the kind."""
        if self._gives is not SecondGives.VOLTAGE:
            return "current"
        return "voltage" if "voltage" in self._second.senses else None

    def _values_of(self, block: ReadingBlock) -> Samples:
        wanted = block.voltage if self._gives is SecondGives.VOLTAGE else block.current
        return np.empty(0, dtype=np.float32) if wanted is None else wanted

    def stop(self) -> None:
        """End both."""
        self._first.stop()
        self._end_thread()
        if self._fault is None and self._second.is_in_step:
            self._second.stop()

    def _end_thread(self) -> None:
        self._end.set()
        if self._thread is not None:
            self._thread.join()
            self._thread = None

    def fetch(self) -> ReadingBlock:
        """Return what came of the first, as far as it is known what the second measured at the same time.

        Raises
        ------
        InstrumentError
            If the first fails.
        """
        came = self._first.fetch()
        if len(came.current) or came.readings is not None:
            self._waiting.append((time.monotonic(), came))
        if self._clock is None and self._waiting:
            self._clock = self._begun()
        ready = list(self._ready())
        while self._waiting and not ready and not self.should_stop():
            time.sleep(_POLL_S)
            ready = list(self._ready())
        return ReadingBlock.joined(ready) if ready else replace(came.first(0), readings=None)

    def _ready(self) -> Iterator[ReadingBlock]:
        """Yield what the second has caught up with, or what waited long enough for it."""
        while self._queue:
            self._held = np.concatenate((self._held, self._queue.popleft()))
        now_s = time.monotonic()
        while self._waiting:
            came_s, block = self._waiting[0]
            count = len(block.current)
            known = min(max(self._caught_up - self._given, 0), count)
            if self._fault is not None or now_s - came_s > _PATIENCE_S:
                known = count
            if known < count:
                if not known:
                    return
                self._waiting[0] = (came_s, block.after(known))
                block = block.first(known)
            else:
                self._waiting.popleft()
            yield self._with_second(block)
            self._given += known

    @property
    def _caught_up(self) -> int:
        """How many samples of the first the second has caught up with."""
        if self._clock is None:
            return 0
        end_s = (self._held_from + len(self._held)) * self._second_interval_s + self._clock.apart_s
        return int(end_s / self._interval_s - 0.5)

    def _begun(self) -> PairClock:
        """Return how much later the second began than the first, and how well that is known."""
        begun = [
            told if source.began_s is None else (source.began_s, self._interval_s / 2)
            for source, told in ((self._first, self._first_told), (self._second, self._second_told))
        ]
        (first_s, first_known_s), (second_s, second_known_s) = begun
        readings_s = (one.reading_interval_s or 0.0 for one in (self._first, self._second))
        slowest_s = max(self._second_interval_s, *readings_s)
        known_s = max(first_known_s + second_known_s, slowest_s / 2)
        one_circuit = self._gives is not SecondGives.CURRENT
        return PairClock(self._interval_s, second_s - first_s, known_s, slowest_s=slowest_s, share_changes=one_circuit)

    def _with_second(self, block: ReadingBlock) -> ReadingBlock:
        """Put what the second measured beside the next block of the first."""
        beside = self._at_the_same_time(len(block.current))
        if self._clock is not None and self._fault is None:
            self._clock.add(block.current, beside)
        if self._gives is SecondGives.VOLTAGE:
            own = {} if block.voltage is None else {_AT_SOURCE: block.voltage}
            return replace(block, voltage=beside, aux={**block.aux, **own})
        if self._gives is SecondGives.CURRENT:
            return replace(block, aux={**block.aux, _OTHER: beside})
        assert self._range_a is not None
        joined = join_samples(block.current, beside, Ranges(self._range_a, 0.0, 0.0)).current
        return replace(block, current=joined, aux={**block.aux, _FINE: block.current, _COARSE: beside})

    def _at_the_same_time(self, count: int) -> Samples:
        """Return what the second measured at the moments of the next samples of the first, shape ``(count,)``."""
        found = np.full(count, np.nan, dtype=np.float32)
        if self._clock is None or not count:
            return found
        moments_s = (np.arange(self._given, self._given + count) + 0.5) * self._interval_s - self._clock.apart_s
        places = np.floor(moments_s / self._second_interval_s).astype(np.int64) - self._held_from
        inside = (places >= 0) & (places < len(self._held))
        found[inside] = self._held[places[inside]]
        # What may still be asked for when the clocks turn out to lie otherwise is kept.
        spent = int(np.clip(places[-1] - round(_PATIENCE_S / self._second_interval_s), 0, len(self._held)))
        self._held, self._held_from = self._held[spent:], self._held_from + spent
        return found

    def make_safe(self, *, within_s: float = 0.8) -> bool:
        """Stop both and switch the first one's output off; answer whether that one took the commands."""
        is_off = self._first.make_safe(within_s=within_s)
        self._end_thread()
        if self._fault is None:
            self._second.stop()
        return is_off

    def close(self) -> None:
        """Hang up on both."""
        self._end_thread()
        self._second.close()
        self._first.close()


def _told(start: Callable[[], None]) -> tuple[float, float]:
    """Tell an instrument to begin, and return when that was and how well it is known, s."""
    before_s = time.monotonic()
    start()
    after_s = time.monotonic()
    return (before_s + after_s) / 2, (after_s - before_s) / 2
