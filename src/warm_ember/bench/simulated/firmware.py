"""The trail counter post: its parts, and its firmware from the first light to the target.

``r1`` waits in a loop; ``r2`` sleeps but the 512 Hz tick runs; ``r3`` has the tick off, and the battery's sense divider
is left on between readings; ``r4`` switches it off, and the modem idles because the network granted other timers than
requested; ``r5`` has the timers renegotiated, LED and FRAM gated and counts batched.
"""

from __future__ import annotations

import math
from collections.abc import Generator
from dataclasses import dataclass, field

import numpy as np

from warm_ember.bench.simulated.kernel import Board, Process, Scheduler, SimulatedPart
from warm_ember.bench.simulated.tunable import Tunable, command_words
from warm_ember.model.capture import Event

LINES = ("RTC_IRQ", "PIR_OUT", "TX_ON", "MODEM_EN", "SYNC")

PARTS = {
    part.name: part
    for part in (
        SimulatedPart("rowan", {"run": 3.1e-3, "adc": 4.0e-3, "idle": 0.95e-3, "deep": 1.6e-6, "off": 0.42e-6}),
        SimulatedPart("thrush", {"on": 5.2e-6}),
        SimulatedPart("dipper", {"watch": 2.1e-6}),
        SimulatedPart("sedge", {"standby": 9e-6, "off": 0.1e-6, "write": 2.2e-3}),
        SimulatedPart(
            "plover",
            {
                "saving": 3.4e-6,
                "idle": 9.2e-3,
                "paging": 42e-3,
                "search": 66e-3,
                "receive": 88e-3,
                "transmit": 172e-3,
            },
        ),
        SimulatedPart("led", {"off": 0.0, "on": 2.8e-3}),
        SimulatedPart("linnet", {"off": 0.0, "measuring": 0.71e-3}),
    )
}
DEBUG_BRIDGE_A = 310e-6
REPORT_EACH_S = 6 * 3600.0
REQUESTED_ACTIVE_S = 16.0
RESTART_S = 38e-3
"""How long the core restarts, as the converter runs, after its memory was off."""

REQUESTED = 'AT+CPSMS=1,,,"00100110","00001000"'
"""A periodic update every 6 h, and 16 s of active time."""


@dataclass(frozen=True)
class Firmware:
    """One build and how the board was set up with it.

    Parameters
    ----------
    name, title, changed
        For the ladder of runs.
    sleeps
        Whether it sleeps between events instead of waiting in a loop.
    tick
        Whether the 512 Hz system tick runs in sleep.
    divider_left_on
        Whether the battery's sense divider stays on between readings.
    bridge
        Whether the debug serial bridge is attached.
    modem_tail_s
        How long the modem stays idle after a report before it saves power.
    led
        Whether the status LED is lit while counting.
    memory_gated
        Whether the FRAM is unpowered between writes.
    counts_per_write
        How many counts go into one write.
    """

    name: str
    title: str
    changed: str
    sleeps: bool = True
    tick: bool = False
    divider_left_on: bool = False
    bridge: bool = False
    modem_tail_s: float = 180.0
    led: bool = True
    memory_gated: bool = False
    counts_per_write: int = 1

    @property
    def number(self) -> int:
        """Its number, from 1."""
        return int(self.name[1:])

    @property
    def granted(self) -> str:
        """What the modem says was granted: what was requested once the timers are renegotiated."""
        as_requested = self.modem_tail_s <= REQUESTED_ACTIVE_S
        active, periodic = ("00001000", "00100110") if as_requested else ("00100011", "00100001")
        return f'+CEREG: 5,1,"1A2B","01C3D5E7",9,,,"{active}","{periodic}"'

    @property
    def rest_state(self) -> str:
        """What the firmware calls its time between events."""
        return "Deep sleep" if self.sleeps else "Busy wait"


FIRMWARE = (
    Firmware("r1", "run 1: first light", "waits in a loop", sleeps=False, divider_left_on=True, bridge=True),
    Firmware("r2", "run 2: sleeps", "sleep call, bridge off", tick=True, divider_left_on=True),
    Firmware("r3", "run 3: tick off", "512 Hz tick stopped", divider_left_on=True),
    Firmware("r4", "run 4: divider off", "divider off when unread"),
    Firmware(
        "r5", "run 5: timers, gating", "timers, LED, FRAM, batches",
        modem_tail_s=REQUESTED_ACTIVE_S, led=False, memory_gated=True, counts_per_write=8,
    ),
)  # fmt: skip


@dataclass
class Log:
    """What the firmware writes down, in true time, and the lines it drives."""

    events: list[Event] = field(default_factory=list)
    levels: list[tuple[float, str, bool]] = field(default_factory=list)

    def write(self, time_s: float, event: str, name: str, value: str = "") -> None:
        """Add an event."""
        self.events.append(Event(time_s, event, name, value))

    def line(self, time_s: float, name: str, *, high: bool) -> None:
        """Set a digital line."""
        self.levels.append((time_s, name, high))


class Post:
    """The post with one firmware, from the moment it gets power.

    Parameters
    ----------
    firmware
        What runs on it.
    seed
        Same seed, same life.
    report_at_s
        When it reports for the first time; then every six hours.
    quiet_from_s
        From when on nobody passes by any more.
    """

    def __init__(
        self, firmware: Firmware, seed: int, *, report_at_s: float = 60.0, quiet_from_s: float = math.inf
    ) -> None:
        self.firmware = firmware
        self.quiet_from_s = quiet_from_s
        self.random = np.random.default_rng([seed, firmware.number])
        standing_a = DEBUG_BRIDGE_A * firmware.bridge
        self.board = Board(PARTS, standing_a)
        self.log = Log()
        self.scheduler = Scheduler(self.board)
        self.report_at_s = report_at_s
        self.tunable = Tunable()
        self.reports_begun, self.is_reporting = 0, False
        self.busy = False
        self.modem_on = False
        self.counted = 0
        self.board.set(thrush="on", dipper="watch", plover="saving", led="off", sedge=self._memory_rest)
        self.board.set(linnet=self._divider_rest)
        self._rest("boot")
        self.scheduler.start(self._wake_each_second(), 0.5)
        self.scheduler.start(self._hikers(), 0.0)
        self.scheduler.start(self._reports(), self.report_at_s)
        self.scheduler.start(self._sync(), 0.25)

    def run(self, until_s: float) -> None:
        """Run up to a time."""
        self.scheduler.run(until_s)

    def command(self, words: str) -> str | None:
        """Set a value by a command, and return the answer; None where it is no such command."""
        found = command_words(self.tunable, words)
        if found is None:
            return None
        before, (self.tunable, answer) = self.tunable, found
        if self.tunable.interval != before.interval and not self.is_reporting:
            self.report_at_s = self.board.now_s + self._report_each_s / 2
            self.reports_begun += 1  # and the ones that wait for another time report no more
            self.scheduler.start(self._reports(self.reports_begun), self.report_at_s)
        return answer

    @property
    def _report_each_s(self) -> float:
        return self.tunable.interval or REPORT_EACH_S

    @property
    def _tail_s(self) -> float:
        return self.firmware.modem_tail_s if self.tunable.active is None else self.tunable.active

    @property
    def _core_rest(self) -> str:
        return (self.tunable.sleep or "deep") if self.firmware.sleeps else "run"

    @property
    def _memory_rest(self) -> str:
        return "off" if self.firmware.memory_gated else "standby"

    @property
    def _divider_rest(self) -> str:
        return "measuring" if self.firmware.divider_left_on else "off"

    def _enter(self, state: str) -> None:
        self.log.write(self.board.now_s, "state", state)

    def _rest(self, why: str = "") -> None:
        """Go back to what the firmware does between events."""
        if self.modem_on:
            self._enter("Modem idle")
        else:
            self._enter(self.firmware.rest_state)
            if self.firmware.sleeps and why != "boot":
                self.log.write(self.board.now_s, "sleep", self._core_rest)
        self.board.set(rowan=self._core_rest)

    def _wake(self, source: str) -> None:
        if self.firmware.sleeps:
            self.log.write(self.board.now_s, "wake", source)

    def _wake_each_second(self) -> Process:
        """Wake on the real-time clock, start the converter and wait for it to settle."""
        while True:
            if not self.busy:
                self.log.line(self.board.now_s, "RTC_IRQ", high=True)
                if not self.modem_on:  # only the core idles then, and the log tells of sleep
                    self._wake("rtc")
                if self.firmware.sleeps:
                    self._enter_idle_wait()
                took_s = yield from self._restart_and_convert()
                self.board.set(rowan="run")
                yield 1.5e-3
                self.log.line(self.board.now_s, "RTC_IRQ", high=False)
                if not self.firmware.sleeps:
                    self._enter_idle_wait()
                self.board.set(rowan="idle")
                settle_s = 38e-3 * (1 + 0.02 * self.random.standard_normal()) + self.tunable.writing_s
                yield settle_s
                if not self.busy:
                    self._rest()
                yield 1.0 - 1.5e-3 - settle_s - took_s
            else:
                yield 1.0

    def _restart_and_convert(self) -> Generator[float, None, float]:
        """Restart where the memory was off, run the converter as long as it averages, and return how long that took."""
        took_s = self.tunable.converting_s + (RESTART_S if self._core_rest == "off" else 0.0)
        if took_s:
            self.board.set(rowan="adc")
            yield took_s
        return took_s

    def _enter_idle_wait(self) -> None:
        if not self.modem_on:
            self._enter("Idle wait")

    def _hikers(self) -> Process:
        """Passers-by in the time before and after the report."""
        while True:
            yield 4.5 + self.random.exponential(4.5)
            quiet_to_s = self.report_at_s + 12.0 + self._tail_s
            if self.report_at_s - 4.0 < self.board.now_s < quiet_to_s:
                yield quiet_to_s - self.board.now_s
                continue
            if self.board.now_s > self.quiet_from_s:
                return
            if self.tunable.passers == "off":
                continue
            yield from self._to_half_second()
            yield from self._count()

    def _to_half_second(self) -> Process:
        """Keep clear of the wake on the second: the interrupt is taken after it."""
        phase = (self.board.now_s - 0.5) % 1.0
        yield (0.15 - phase) % 1.0

    def _count(self) -> Process:
        self.busy = True
        self.log.line(self.board.now_s, "PIR_OUT", high=True)
        self._wake("pir")
        self._enter("Count")
        if self._core_rest == "off":
            self.board.set(rowan="adc")
            yield RESTART_S
        self.board.set(rowan="adc", led="on" if self.firmware.led else "off")
        passing_s = self.random.uniform(2.0, 2.8)
        yield 0.6
        self.log.line(self.board.now_s, "PIR_OUT", high=False)
        yield passing_s - 0.6
        self.board.set(led="off")
        self.counted += 1
        if self.counted % int(self.tunable.batch or self.firmware.counts_per_write) == 0:
            self._enter("Log write")
            self.board.set(rowan="run", sedge="write")
            yield 0.31
            self.board.set(sedge=self._memory_rest)
        self._rest()
        self.busy = False

    def _reports(self, begun: int = 0) -> Process:
        """Report, and again six hours later, or when the console says; until others have begun."""
        while self.reports_begun == begun:
            self.is_reporting = True
            yield from self._report()
            self.is_reporting = False
            self.report_at_s += self._report_each_s
            yield max(self.report_at_s - self.board.now_s, 0.0)

    def _report(self) -> Process:
        """Register, transmit in bursts, then stay idle until the network's timer ends."""
        yield from self._to_half_second()
        self.busy = True
        self._wake("alarm")
        self.log.write(self.board.now_s, "log", REQUESTED)
        self._enter("Transmit")
        for line in ("MODEM_EN", "TX_ON"):
            self.log.line(self.board.now_s, line, high=True)
        self.board.set(rowan="run", plover="search", linnet="measuring")
        yield from self._pulse(0.35, 0.4e-3)
        yield 1.4
        self.board.set(linnet=self._divider_rest)
        for _ in range(3):
            yield from self._burst(60e-3)
            self.board.set(plover="search")
            yield 0.28
        for _ in range(6):
            yield from self._burst(0.7)
            self.board.set(plover="receive")
            yield 0.38
        self.log.line(self.board.now_s, "TX_ON", high=False)
        self.modem_on = True
        self.board.set(plover="idle")
        self.log.write(self.board.now_s, "log", self.firmware.granted)
        self._rest()
        self.busy = False
        yield from self._page_until(self.board.now_s + self._tail_s)
        self.modem_on = False
        self.board.set(plover="saving")
        self.log.line(self.board.now_s, "MODEM_EN", high=False)
        self._rest()

    def _page_until(self, end_s: float) -> Process:
        while self.board.now_s + 2.56 < end_s:
            yield 2.548
            self.board.set(plover="paging")
            yield 12e-3
            self.board.set(plover="idle")
        yield end_s - self.board.now_s

    def _burst(self, length_s: float) -> Process:
        """Transmit a burst whose amplifier ramps up over 6 ms and down over 2."""
        self.board.set(plover="transmit")
        full_a = PARTS["plover"].modes_a["transmit"]
        start_a = PARTS["plover"].modes_a["search"]
        self.board.add(start_a - full_a)
        for _ in range(12):
            yield 0.5e-3
            self.board.add((full_a - start_a) / 12)
        wobble_a = 4e-3 * self.random.standard_normal()
        self.board.add(wobble_a)
        yield length_s - 8e-3
        self.board.add(-wobble_a)
        for _ in range(4):
            self.board.add((start_a - full_a) / 5)
            yield 0.5e-3
        self.board.add((full_a - start_a) * 4 / 5)

    def _pulse(self, current_a: float, length_s: float) -> Process:
        """Inrush: a part's capacitors fill when its switch closes."""
        self.board.add(current_a)
        for _ in range(4):
            yield length_s / 4
            self.board.add(-current_a / 4)

    def _sync(self) -> Process:
        """Pulse the sync line and note it, so that the log's clock can be laid on the capture's."""
        while True:
            self.log.line(self.board.now_s, "SYNC", high=True)
            self.log.write(self.board.now_s, "sync", "SYNC")
            yield 1e-3
            self.log.line(self.board.now_s, "SYNC", high=False)
            yield 19.999
