"""Extended discontinuous reception: cycle and paging time window, by the kind of access.

3GPP TS 24.008, table 10.5.5.32 and its notes: a cycle code that is only for wide-band access is read as ``0010`` in
narrow-band access, and one that is only for narrow-band access as ``1101`` in wide-band access. Neither is ever encoded
for the other.
"""

from __future__ import annotations

from warm_ember.tuning.timers.coded import TimerCode

_CYCLES_S = (
    5.12, 10.24, 20.48, 40.96, 61.44, 81.92, 102.4, 122.88, 143.36, 163.84, 327.68, 655.36, 1310.72, 2621.44, 5242.88,
    10485.76,
)  # fmt: skip
_NARROW = (2, 3, 5, 9, 10, 11, 12, 13, 14, 15)
_LAST_WIDE = 13
_WINDOW_WIDE_S, _WINDOW_NARROW_S = 1.28, 2.56


def _code(number: int) -> str:
    return f"{number:04b}"


WIDE_CYCLE = TimerCode(
    "the wide-band cycle",
    {_code(number): _CYCLES_S[number] for number in range(_LAST_WIDE + 1)},
    {_code(number): _code(_LAST_WIDE) for number in range(_LAST_WIDE + 1, 16)},
)
NARROW_CYCLE = TimerCode(
    "the narrow-band cycle",
    {_code(number): _CYCLES_S[number] for number in _NARROW},
    {_code(number): _code(2) for number in range(16) if number not in _NARROW},
)
WIDE_WINDOW = TimerCode(
    "the wide-band paging window", {_code(n): round((n + 1) * _WINDOW_WIDE_S, 9) for n in range(16)}, {}
)
NARROW_WINDOW = TimerCode(
    "the narrow-band paging window", {_code(n): round((n + 1) * _WINDOW_NARROW_S, 9) for n in range(16)}, {}
)
