"""Linux kernel trace text, as the tracefs file ``trace`` gives it: which CPU idled when, and what woke it.

A line is ``task-pid [cpu] flags seconds.fraction: event: fields``. Lines are taken apart many at a time: only what
caused a wake is ever decoded by itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from warm_ember.errors import BadFileError, Cancelled
from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.capture import Event
from warm_ember.signal.series import ShouldStop, never
from warm_ember.units import counted

CPU = "cpu="
_CHUNK = 1 << 23
_TIME_DIGITS = 19
_AWAKE = (4294967295, -1)
_UNKNOWN = b"unknown"
_SHOWN_LINES = 5
_TICKS = (b"tick_sched_timer", b"tick_nohz_handler", b"TIMER")

IDLE, IRQ, HRTIMER, TIMER, SOFTIRQ, WAKEUP, SWITCH = range(7)
_EVENTS = {
    b"cpu_idle:": IDLE,
    b"irq_handler_entry:": IRQ,
    b"hrtimer_expire_entry:": HRTIMER,
    b"timer_expire_entry:": TIMER,
    b"softirq_entry:": SOFTIRQ,
    b"sched_wakeup:": WAKEUP,
    b"sched_switch:": SWITCH,
}
_FIELDS = {
    IDLE: (b"", b"", b""),
    IRQ: (b"irq:", b"name=", b""),
    HRTIMER: (b"hrtimer:", b"function=", b" "),
    TIMER: (b"timer:", b"function=", b" "),
    SOFTIRQ: (b"softirq:", b"action=", b"]"),
    WAKEUP: (b"task:", b"comm=", b" pid="),
    SWITCH: (b"task:", b"next_comm=", b" next_pid="),
}
"""What a source is called after, what stands before its name in a line, and what after it."""
_NEVER = np.iinfo(np.int64).max


@dataclass(frozen=True)
class KernelTrace:
    """What a trace tells of idling.

    Parameters
    ----------
    events
        ``wake`` by source, and ``sleep`` into an idle state, each with its CPU as the value; in the kernel's clock.
    cpus
        The CPUs that idled.
    first_s, last_s
        Times of the first and the last line.
    notes
        What was skipped and assumed, one sentence each.
    """

    events: tuple[Event, ...]
    cpus: tuple[int, ...]
    first_s: float
    last_s: float
    notes: tuple[str, ...]


def is_kernel_trace(head: bytes) -> bool:
    """Return whether a file that begins so is kernel trace text."""
    named = rb"\]\s+(?:\S+\s+)?\d+\.\d+: (cpu_idle|sched_switch|sched_wakeup|irq_handler_entry):\s"
    return head.startswith(b"# tracer:") or bool(re.search(named, head))


def read_kernel_trace(path: Path, names: tuple[str, ...] = (), should_stop: ShouldStop = never) -> KernelTrace:
    """Read a trace in a stream.

    Parameters
    ----------
    path
        The file.
    names
        Names of the idle states, by number; those beyond are called ``state N``.
    should_stop
        Polled between pieces.

    Raises
    ------
    BadFileError
        If it cannot be read, or tells of no idling.
    Cancelled
        If `should_stop` answered yes.
    """
    reading = _Reading(names)
    try:
        for lines, first_line in _pieces(path, should_stop):
            reading.take(lines, first_line)
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    if not reading.slept:
        raise BadFileError(
            path,
            "expected kernel trace text with cpu_idle events, found none",
            remedy="record with the events power:cpu_idle, irq, timer and sched enabled",
        )
    return reading.finished()


def _pieces(path: Path, should_stop: ShouldStop) -> Iterator[tuple[bytes, int]]:
    """Yield whole lines, many at a time, and the number of the first."""
    number, rest = 1, b""
    with path.open("rb") as file:
        while block := file.read(_CHUNK):
            if should_stop():
                raise Cancelled("stopped")
            block = rest + block
            end = block.rfind(b"\n") + 1
            rest = block[end:]
            if end:
                yield block[:end], number
                number += block.count(b"\n", 0, end)
        if rest:
            yield rest + b"\n", number


@dataclass(frozen=True, eq=False)
class _Lines:
    """Lines with an event, as columns."""

    text: bytes
    time_s: Floats
    cpu: Indices
    kind: Indices
    begin: Indices
    end: Indices


@dataclass
class _Stay:
    """A stay of a CPU in an idle state whose end is still to be read: the first line of each kind after it."""

    woken_s: float | None = None
    first: dict[int, bytes] = field(default_factory=dict)
    order: list[int] = field(default_factory=list)

    def take(self, kind: int, time_s: float, fields: bytes) -> None:
        """Take the first line of a kind."""
        if kind == IDLE:
            self.woken_s = time_s if self.woken_s is None else self.woken_s
        elif kind not in self.first:
            self.first[kind] = fields
            self.order.append(kind)

    def source(self) -> bytes:
        """Return the cause."""
        rows = np.full((1, len(_EVENTS)), _NEVER)
        rows[0, self.order] = np.arange(len(self.order))
        return _causes(rows, lambda kind, chosen: [_names(kind, self.first[kind], [0], [-1])[0] for _ in chosen])[0]


def _causes(rows: Indices, names_of: Callable[[int, Indices], list[bytes]]) -> list[bytes]:
    """Return what woke a CPU from each of some stays in idle.

    Parameters
    ----------
    rows
        The first row of each kind in each stay, `_NEVER` where there is none, shape ``(stays, kinds)``.
    names_of
        Gives the names in rows of one kind.

    Notes
    -----
    What came first, but the function that a timer's interrupt ran goes before that, and a timer that the tick ran
    before the tick. What comes after a task was chosen is its work.
    """
    rows = rows.copy()
    rows[:, IDLE] = _NEVER
    rows[rows > rows[:, SWITCH][:, None]] = _NEVER
    chosen = np.argmin(rows, axis=1)
    function = np.where(rows[:, HRTIMER] < rows[:, TIMER], HRTIMER, TIMER)
    with_function = np.minimum(rows[:, HRTIMER], rows[:, TIMER]) < _NEVER
    by_irq = np.flatnonzero((chosen == IRQ) & with_function)
    names = names_of(IRQ, rows[by_irq, IRQ])
    is_timer = {name: b"timer" in name.lower() for name in set(names)}
    by_timer = by_irq[np.array([is_timer[name] for name in names], dtype=bool)]
    chosen[by_timer] = function[by_timer]
    for kind in (HRTIMER, SOFTIRQ):
        at = np.flatnonzero((chosen == kind) & (rows[:, TIMER] < _NEVER))
        ran = [name in _TICKS for name in names_of(kind, rows[at, kind])]
        chosen[at[np.array(ran, dtype=bool)]] = TIMER
    found = [_UNKNOWN] * len(rows)
    known = rows[np.arange(len(rows)), chosen] < _NEVER
    for kind in np.unique(chosen[known]).tolist():
        at, prefix = np.flatnonzero(known & (chosen == kind)), _FIELDS[kind][0]
        for index, name in zip(at.tolist(), names_of(kind, rows[at, kind]), strict=True):
            if name:
                found[index] = prefix + name
    return found


def _names(kind: int, text: bytes, starts: list[int], ends: list[int]) -> list[bytes]:
    """Return the names in the fields of lines of one kind, between what stands before a name and after it."""
    _, before, after = _FIELDS[kind]
    skip, found = len(before), []
    for start, end in zip(starts, ends, strict=True):
        stop = len(text) if end < 0 else end
        begin = text.find(before, start, stop)
        if begin >= 0 and after:
            close = text.find(after, begin + skip, stop)
            stop = close if close >= 0 else stop
        found.append(text[begin + skip : stop].strip() if begin >= 0 else b"")
    return found


@dataclass
class _Reading:
    """A trace that is being read."""

    names: tuple[str, ...]
    stays: dict[int, _Stay] = field(default_factory=dict)
    woken: list[tuple[float, int, bytes]] = field(default_factory=list)
    slept: list[tuple[float, int, int]] = field(default_factory=list)
    first_s: float | None = None
    last_s: float = -np.inf
    skipped: list[int] = field(default_factory=list)
    skipped_count: int = 0
    steps_back: int = 0

    def take(self, text: bytes, first_line: int) -> None:
        """Take some lines."""
        lines = self._split(text, first_line)
        if not len(lines.time_s):
            return
        if self.first_s is None:
            self.first_s = float(lines.time_s[0])
        self.steps_back += int((np.diff(np.append(self.last_s, lines.time_s)) < 0).sum())
        self.last_s = float(lines.time_s[-1])
        for cpu in np.unique(lines.cpu).tolist():
            self._follow(lines, np.flatnonzero(lines.cpu == cpu), cpu)

    def _split(self, text: bytes, first_line: int) -> _Lines:
        """Take lines apart by their brackets and colons."""
        buffer = np.frombuffer(text, dtype=np.uint8)
        ends = np.flatnonzero(buffer == 10)
        starts = np.append(0, ends[:-1] + 1)
        is_event = (buffer[starts] != ord("#")) & (ends > starts)
        if first_line == 1 and text.startswith(b"cpus="):  # so a front end's text begins
            is_event[0] = False
        starts, ends, numbers = starts[is_event], ends[is_event], np.flatnonzero(is_event) + first_line
        cpu, after = _cpus(buffer, starts, ends)
        colon = _next_of(np.flatnonzero(buffer == ord(":")), after, ends)
        before = buffer[np.maximum(colon - 1, 0)]
        sound = (cpu >= 0) & (colon < ends) & (before >= 48) & (before <= 57)
        kind = np.where(sound, _kinds(buffer, np.where(sound, colon + 2, 0)), -1)
        kept = np.flatnonzero(kind >= 0)
        time_s, has_time = _times(buffer, after[kept], colon[kept])
        sound[kept[~has_time]] = False
        kept, time_s = kept[has_time], time_s[has_time]
        self.skipped_count += int((~sound).sum())
        self.skipped += numbers[~sound][: max(_SHOWN_LINES - len(self.skipped), 0)].tolist()
        return _Lines(text, time_s, cpu[kept], kind[kept], colon[kept] + 2, ends[kept])

    def _follow(self, lines: _Lines, mine: Indices, cpu: int) -> None:
        """Follow one CPU through its idling."""
        kind, state, time_s = lines.kind[mine], _idle_states(lines, mine), lines.time_s[mine]
        enters = (kind == IDLE) & ~np.isin(state, _AWAKE)
        stay, stays = np.cumsum(enters), int(enters.sum())
        # The first row of each kind in each stay is all that its cause can be told from; stay 0 began before.
        rows = np.full((stays + 1, len(_EVENTS)), _NEVER)
        backwards = np.flatnonzero(~enters)[::-1]
        rows[stay[backwards], kind[backwards]] = backwards  # the one that is written last stays

        text, begins, ends = lines.text, lines.begin[mine], lines.end[mine]

        def names_of(of: int, chosen: Indices) -> list[bytes]:
            return _names(of, text, begins[chosen].tolist(), ends[chosen].tolist())

        def take(open_stay: _Stay, of: int) -> None:
            found = rows[of][rows[of] < _NEVER]
            for row in np.sort(found).tolist():
                open_stay.take(int(kind[row]), float(time_s[row]), text[begins[row] : ends[row]])

        if cpu in self.stays:
            take(self.stays[cpu], 0)
        entries = np.flatnonzero(enters)
        if not stays:
            return
        self._settle(cpu)
        at_entry = zip(time_s[entries].tolist(), state[entries].tolist(), strict=True)
        self.slept += [(entered_s, cpu, number) for entered_s, number in at_entry]
        whole = np.flatnonzero(rows[1:-1, IDLE] < _NEVER) + 1
        woken_s = time_s[rows[whole, IDLE]].tolist()
        causes = _causes(rows[whole], names_of)
        self.woken += [(at_s, cpu, cause) for at_s, cause in zip(woken_s, causes, strict=True)]
        self.stays[cpu] = _Stay()
        take(self.stays[cpu], stays)

    def _settle(self, cpu: int) -> None:
        """Write down the wake that ended a CPU's last stay in idle."""
        stay = self.stays.pop(cpu, None)
        if stay is not None and stay.woken_s is not None:
            self.woken.append((stay.woken_s, cpu, stay.source()))

    def finished(self) -> KernelTrace:
        """Return what was read."""
        for cpu in tuple(self.stays):
            self._settle(cpu)
        names = {source: source.decode("utf-8", "replace") for source in {source for _, _, source in self.woken}}
        marks = {cpu: f"{CPU}{cpu}" for cpu in {cpu for _, cpu, _ in self.slept}}
        events = [Event(time_s, "wake", names[source], marks[cpu]) for time_s, cpu, source in self.woken]
        states = {state: self._name(state) for state in {state for _, _, state in self.slept}}
        events += [Event(time_s, "sleep", states[state], marks[cpu]) for time_s, cpu, state in self.slept]
        order = np.argsort([event.time_s for event in events], kind="stable").tolist()
        notes = []
        if self.skipped_count:
            shown = ", ".join(map(str, self.skipped))
            more = " and so on" if self.skipped_count > len(self.skipped) else ""
            notes.append(f"{counted(self.skipped_count, 'line')} of the trace skipped, as no events: {shown}{more}")
        if self.steps_back:
            notes.append(
                f"the trace's clock steps back {counted(self.steps_back, 'time')}: its lines are taken by their times"
            )
        return KernelTrace(
            tuple(events[index] for index in order),
            tuple(sorted({cpu for _, cpu, _ in self.slept})),
            self.first_s or 0.0,
            self.last_s,
            tuple(notes),
        )

    def _name(self, state: int) -> str:
        return self.names[state] if 0 <= state < len(self.names) else f"state {state}"


def _cpus(buffer: np.ndarray, starts: Indices, ends: Indices) -> tuple[Indices, Indices]:
    """Return each line's CPU, -1 where there is none, and where its bracket closes.

    A CPU has three digits at least: other brackets, as in fields and names of tasks, hold something else, and the next
    one is tried.
    """
    opens = np.append(np.flatnonzero(buffer == ord("[")), len(buffer))
    padded = np.append(buffer, np.zeros(8, dtype=np.uint8))
    cpu, after = np.full(len(starts), -1), ends.copy()
    at, left = np.searchsorted(opens, starts), np.arange(len(starts))
    while len(left):
        place = opens[np.minimum(at, len(opens) - 1)]
        inside = place < ends[left]
        left, at, place = left[inside], at[inside] + 1, place[inside]
        digits = [padded[place + offset] - np.uint8(48) for offset in (1, 2, 3, 4)]
        three = (digits[0] < 10) & (digits[1] < 10) & (digits[2] < 10)
        four = three & (digits[3] < 10) & (padded[place + 5] == 93)
        three &= padded[place + 4] == 93
        value = (digits[0].astype(np.int64) * 10 + digits[1]) * 10 + digits[2]
        value = np.where(four, value * 10 + digits[3], value)
        found = three | four
        cpu[left[found]] = value[found]
        after[left[found]] = (place + np.where(four, 6, 5))[found]
        left, at = left[~found], at[~found]
    return cpu, after


def _next_of(places: Indices, after: Indices, ends: Indices) -> Indices:
    """Return the first of some places after each line's start; its end where there is none."""
    at = np.searchsorted(places, after)
    return np.asarray(np.minimum(np.append(places, np.iinfo(np.int64).max)[at], ends))


def _times(buffer: np.ndarray, after: Indices, colon: Indices) -> tuple[Floats, np.ndarray]:
    """Return the numbers that end at the colons, and whether they are such: digits, a dot, and digits.

    Microseconds, as nearly all traces have them, are read without looking for the dot.
    """
    micro = (buffer[np.maximum(colon - 7, 0)] == 46) & (colon - 8 >= after)
    if not micro.all():
        return _any_times(buffer, after, colon)
    value = np.zeros(len(colon), dtype=np.int64)
    sound = np.ones(len(colon), dtype=bool)
    for back in range(6, 0, -1):
        digit = buffer[colon - back] - np.uint8(48)
        sound &= digit < 10
        value = value * 10 + digit
    scale, going = 1_000_000, sound.copy()
    for back in range(8, _TIME_DIGITS):
        at = colon - back
        digit = buffer[at] - np.uint8(48)
        going &= (digit < 10) & (at >= after)
        if not going.any():
            break
        value += np.where(going, digit.astype(np.int64) * scale, 0)
        scale *= 10
        if back == 8:
            sound &= going
    return value / 1e6, sound


def _any_times(buffer: np.ndarray, after: Indices, colon: Indices) -> tuple[Floats, np.ndarray]:
    """Return the numbers that end at the colons, of any number of digits, and whether they are such."""
    # All digits make one whole number, which the digits behind the dot scale: right to the last bit.
    value, scale = np.zeros(len(colon), dtype=np.int64), np.ones(len(colon), dtype=np.int64)
    fraction, whole, going = np.zeros(len(colon), dtype=np.int64), np.zeros(len(colon), dtype=np.int64), colon > after
    has_dot = np.zeros(len(colon), dtype=bool)
    for back in range(1, _TIME_DIGITS):
        at = colon - back
        going &= at >= after
        character = buffer[at]
        is_dot = going & (character == 46) & ~has_dot
        digit = going & (character >= 48) & (character <= 57)
        value += np.where(digit, (character.astype(np.int64) - 48) * scale, 0)
        scale = np.where(digit, scale * 10, scale)
        fraction += digit & ~has_dot
        whole += digit & has_dot
        has_dot |= is_dot
        going &= digit | is_dot
        if not going.any():
            break
    return value / 10.0**fraction, has_dot & (whole > 0) & (fraction > 0)


def _kinds(buffer: np.ndarray, begin: Indices) -> Indices:
    """Return which of the events each line is, -1 for others."""
    kind = np.full(len(begin), -1)
    padded = np.append(buffer, np.zeros(24, dtype=np.uint8))
    # Eight letters are one number: two of them tell these events apart from all others.
    words = np.lib.stride_tricks.sliding_window_view(padded, 8)
    first = np.ascontiguousarray(words[begin]).view(np.uint64).ravel()
    for name, number in _EVENTS.items():
        head, tail = (np.frombuffer(part, dtype=np.uint64)[0] for part in (name[:8], name[-8:]))
        mine = np.flatnonzero(first == head)
        last = np.ascontiguousarray(words[begin[mine] + len(name) - 8]).view(np.uint64).ravel()
        kind[mine[last == tail]] = number
    return kind


def _idle_states(lines: _Lines, mine: Indices) -> Indices:
    """Return the state of lines on idling, as ``state=N cpu_id=N`` says; 0 for others."""
    state = np.zeros(len(mine), dtype=np.int64)
    buffer = np.frombuffer(lines.text, dtype=np.uint8)
    at_idle = lines.kind[mine] == IDLE
    # The name may be padded with blanks; -1 stands for no idle state where a front end reads the number as signed.
    begin = lines.begin[mine[at_idle]] + len(b"cpu_idle:")
    blanks = np.flatnonzero(buffer != ord(" "))
    begin = _next_of(blanks, begin, lines.end[mine[at_idle]]) + len(b"state=")
    is_minus = buffer[np.minimum(begin, len(buffer) - 1)] == ord("-")
    found = _whole_numbers(buffer, begin + is_minus)
    state[at_idle] = np.where(is_minus, -found, found)
    return np.asarray(state)


def _whole_numbers(buffer: np.ndarray, at: Indices) -> Indices:
    """Return the whole numbers that begin at some places."""
    value, going = np.zeros(len(at), dtype=np.int64), np.ones(len(at), dtype=bool)
    for offset in range(10):
        digit = buffer[np.minimum(at + offset, len(buffer) - 1)].astype(np.int64) - 48
        going &= (digit >= 0) & (digit <= 9)
        value = np.where(going, value * 10 + digit, value)
    return value
