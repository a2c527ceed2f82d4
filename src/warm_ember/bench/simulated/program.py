"""What the simulated post's core executes: its functions as an ELF file, and its trace stream.

Written from the standards alone, so that the readers are tested against something that knows nothing of them.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.capture import Event

TRACE_CLOCK_HZ = 375e3
SAMPLE_EACH_S = 1e-3
_CODE_AT = 0x0800_0200
_SLEEPS = -1

SOURCES: dict[str, dict[str, int]] = {
    "app/count.c": {"pir_filter": 412, "count_add": 96, "adc_wait_ready": 58},
    "app/report.c": {"report_encode": 734, "report_send": 268},
    "app/store.c": {"fram_write_block": 320, "fram_wait_ready": 44},
    "drivers/modem.c": {"modem_wait_reply": 76, "modem_write": 188, "modem_parse": 902},
    "drivers/rtc.c": {"rtc_interrupt": 148},
    "main.c": {"poll_all": 216, "main": 520},
}
"""Source files, their functions, and each function's size in bytes."""

_EXECUTES: dict[str, dict[str, float]] = {
    "Busy wait": {"poll_all": 0.9, "main": 0.1},
    "Idle wait": {"rtc_interrupt": 1.0},
    "Count": {"adc_wait_ready": 0.62, "pir_filter": 0.3, "count_add": 0.08},
    "Log write": {"fram_wait_ready": 0.7, "fram_write_block": 0.3},
    "Transmit": {
        "modem_wait_reply": 0.72, "modem_parse": 0.11, "modem_write": 0.09, "report_encode": 0.05, "report_send": 0.03
    },
    "Modem idle": {"rtc_interrupt": 1.0},
}  # fmt: skip
_AWAKE_S = {"Idle wait": 1.5e-3, "Modem idle": 1.5e-3, "Deep sleep": 0.0}


@dataclass(frozen=True, eq=False)
class ProgramRun:
    """What was executed: moments, and the function at each (its number in `functions`, -1 asleep)."""

    times_s: Floats
    function: Indices


def functions() -> tuple[tuple[str, str, int, int], ...]:
    """Return each function's file, name, address and size."""
    found, at = [], _CODE_AT
    for file, names in SOURCES.items():
        for name, size in names.items():
            found.append((file, name, at, size))
            at += size + -size % 4
    return tuple(found)


def execute(events: Iterable[Event], duration_s: float, seed: int) -> ProgramRun:
    """Choose what is executed at each sample.

    Parameters
    ----------
    events
        The log in true time.
    duration_s
        Length of the run.
    seed
        Same seed, same run.
    """
    random = np.random.default_rng([seed, 3])
    names = [name for _, name, _, _ in functions()]
    times_s = np.arange(SAMPLE_EACH_S, duration_s, SAMPLE_EACH_S)
    function = np.full(len(times_s), _SLEEPS, dtype=np.int64)
    entered = [event for event in events if event.event == "state"]
    starts = np.array([event.time_s for event in entered])
    state = np.searchsorted(starts, times_s, side="right") - 1
    since_s = times_s - starts[np.maximum(state, 0)]
    for name, shares in _EXECUTES.items():
        mine = np.array([event.name == name for event in entered])
        here = (state >= 0) & mine[np.maximum(state, 0)] & (since_s < _AWAKE_S.get(name, np.inf))
        chosen = random.choice([names.index(one) for one in shares], int(here.sum()), p=list(shares.values()))
        function[here] = chosen
    return ProgramRun(times_s, function)


def trace_stream(run: ProgramRun) -> bytes:
    """Return the stream: a synchronisation packet each second, each sample with its time stamp."""
    known = functions()
    random = np.random.default_rng(4)
    ticks = np.rint(run.times_s * TRACE_CLOCK_HZ).astype(np.int64)
    deltas = np.diff(ticks, prepend=0)
    each_second = max(1, round(1 / SAMPLE_EACH_S))
    sync = b"\0" * 5 + b"\x80"
    stream = bytearray()
    for index, (number, delta) in enumerate(zip(run.function.tolist(), deltas.tolist(), strict=True)):
        if index % each_second == 0:
            stream += sync
        if number == _SLEEPS:
            stream += b"\x15\x00"
        else:
            _, _, address, size = known[number]
            stream += b"\x17" + struct.pack("<I", address + 2 * int(random.integers(0, size // 2)))
        stream += _local_time(delta)
    return bytes(stream)


def _local_time(delta: int) -> bytes:
    if 1 <= delta <= 6:
        return bytes([delta << 4])
    payload = [delta & 0x7F]
    while delta := delta >> 7:
        payload[-1] |= 0x80
        payload.append(delta & 0x7F)
    return bytes([0xC0, *payload])


def elf_file() -> bytes:
    """Return a 32-bit little-endian Arm ELF file with a symbol table and no code."""
    strings, symbols = bytearray(b"\0"), bytearray(16)
    local = 1
    for file, names in SOURCES.items():
        symbols += _symbol(strings, file, 0, 0, kind=4, section=0xFFF1)  # a file symbol is absolute
        local += 1
        for _, name, address, size in (one for one in functions() if one[0] == file and one[1] in names):
            symbols += _symbol(strings, name, address | 1, size, kind=2, section=1)
            local += 1
    titles = b"\0.text\0.symtab\0.strtab\0.shstrtab\0"
    header_size, entry = 52, 40
    at_symbols = header_size
    at_strings = at_symbols + len(symbols)
    at_names = at_strings + len(strings)
    at_sections = at_names + len(titles) + -(at_names + len(titles)) % 4
    code = sum(size + -size % 4 for _, _, _, size in functions())
    sections = b"".join(
        struct.pack("<10I", *fields)
        for fields in (
            (0,) * 10,
            (titles.index(b".text"), 8, 6, _CODE_AT, at_symbols, code, 0, 0, 4, 0),
            (titles.index(b".symtab"), 2, 0, 0, at_symbols, len(symbols), 3, local, 4, 16),
            (titles.index(b".strtab"), 3, 0, 0, at_strings, len(strings), 0, 0, 1, 0),
            (titles.index(b".shstrtab"), 3, 0, 0, at_names, len(titles), 0, 0, 1, 0),
        )
    )
    identity = b"\x7fELF" + bytes([1, 1, 1]) + bytes(9)
    header = identity + struct.pack(
        "<HHIIIIIHHHHHH", 2, 40, 1, _CODE_AT | 1, 0, at_sections, 0x0500_0000, header_size, 0, 0, entry, 5, 4
    )
    body = bytes(symbols) + bytes(strings) + titles
    return header + body + bytes(at_sections - header_size - len(body)) + sections


def _symbol(strings: bytearray, name: str, value: int, size: int, *, kind: int, section: int) -> bytes:
    at = len(strings)
    strings += name.encode() + b"\0"
    return struct.pack("<IIIBBH", at, value, size, kind, 0, section)
