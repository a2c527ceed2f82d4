"""The simulated target on the simulated rail: powered or not, with its console and what hangs beside it."""

from __future__ import annotations

import re
import time
from collections.abc import Callable

from warm_ember.bench.simulated.attachments import ATTACHMENTS
from warm_ember.bench.simulated.direct import clock_of, target_time_s
from warm_ember.bench.simulated.firmware import Firmware, Post
from warm_ember.model.capture import Event

LEADS = "leads"

_LINE = {"state": "state {}", "wake": "wake {}", "sleep": "sleep {}", "sync": "sync {}", "log": "{}", "mark": "mark {}"}


class BenchClock:
    """The bench's time: the wall's, or a multiple of it so that a long recording takes a short while."""

    def __init__(self, speed: float = 1.0) -> None:
        self._speed = speed
        self._began = time.monotonic()

    @property
    def now_s(self) -> float:
        """Seconds since the bench was started."""
        return (time.monotonic() - self._began) * self._speed


class Target:
    """A trail counter post on the bench's rail.

    Parameters
    ----------
    firmware
        What it runs.
    clock
        The bench's time.
    seed
        Same seed, same life after each power-on.
    report_at_s
        How long after power-on it reports for the first time.

    Attributes
    ----------
    post
        The running target; None while it has no power.
    attached
        What hangs on the rail, the target's own leads included.
    rail_v
        What the source puts on the rail now.
    on_line
        Called with each line of the console.
    """

    def __init__(self, firmware: Firmware, clock: BenchClock, *, seed: int = 1, report_at_s: float = 60.0) -> None:
        self.firmware, self.seed = firmware, seed
        self._clock, self._report_at_s = clock, report_at_s
        self.post: Post | None = None
        self.attached = frozenset({LEADS})
        self.rail_v = 0.0
        self.on_line: Callable[[str], None] = lambda _line: None
        self._powered_at_s = 0.0
        self._told = 0
        self._drift, _ = clock_of(firmware, seed)

    @property
    def time_s(self) -> float:
        """Seconds since it got power."""
        return self._clock.now_s - self._powered_at_s

    def power(self, on: bool) -> None:
        """Give it power, or take it away; its log is told up to that moment."""
        if on == (self.post is not None):
            return
        self.advance()
        self.post, self._told = None, 0
        if on:
            self._powered_at_s = self._clock.now_s
            self.post = Post(self.firmware, self.seed, report_at_s=self._report_at_s)
            self._tell(0.0, f"boot {self.firmware.name}")

    def advance(self) -> float:
        """Live on up to now, and tell what was logged meanwhile; return its time."""
        now_s = self.time_s
        if self.post is not None:
            self.post.run(now_s)
            events = self.post.log.events
            for event in events[self._told :]:
                self._tell_event(event)
            self._told = len(events)
        return now_s

    def _tell_event(self, event: Event) -> None:
        self._tell(event.time_s, _LINE[event.event].format(event.name))

    def _tell(self, time_s: float, text: str) -> None:
        self.on_line(f"[{target_time_s(time_s, 0.0, self._drift):.6f}] {text}")

    def attach(self, name: str, *, attached: bool) -> None:
        """Attach something to the rail, or remove it.

        Raises
        ------
        KeyError
            If there is nothing of that name.
        """
        if name != LEADS and name not in {one.name for one in ATTACHMENTS}:
            raise KeyError(name)
        self.attached = self.attached | {name} if attached else self.attached - {name}

    def command(self, line: str) -> None:
        """Take a line that was typed on the console, and answer."""
        now_s = self.advance()
        words = line.strip()
        if self.post is None or not words:
            return
        self._tell(now_s, self._answer(self.post, words))

    def _answer(self, post: Post, words: str) -> str:
        answer = post.command(words)
        if answer is not None:
            return answer
        tail_s = post.firmware.modem_tail_s
        if words == "version":
            return f"trail counter {post.firmware.name}"
        if words == "tail?":
            return f"tail {tail_s:g} s"
        if words == "counts?":
            return f"counts {post.counted}"
        if words.upper() == "AT+CEREG?":
            return post.firmware.granted
        if re.fullmatch(r"AT(\+CPSMS=.*)?", words, re.IGNORECASE):
            return "OK"
        if words == "help":
            return (
                "version, tail?, counts?, accuracy?, interval S, batch N, oversampling N, baud N, active S, "
                "sleep idle|deep|off, passers on|off, AT+CEREG?, AT+CPSMS=..."
            )
        return f"unknown: {words}"
