"""What the project says of wakes: what sources are called and may do, and what the sleep modes take."""

from __future__ import annotations

import msgspec


class WakeSource(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A source of wakes as the project names it: one of the log's, several taken together, or a part of one.

    Parameters
    ----------
    name
        What it is called.
    of
        Names in the log, or of a line, that it takes together; its own name when empty.
    ran
        Only wakes in which this state ran; all when empty.
    period_s
        Only wakes that come with this period; all when 0.
    slack_s
        By how much later it may wake the device.
    deadline_s
        Within what time it has to be served; None when any time will do.
    """

    name: str
    of: tuple[str, ...] = ()
    ran: str = ""
    period_s: float = 0.0
    slack_s: float = 0.0
    deadline_s: float | None = None

    @property
    def takes(self) -> tuple[str, ...]:
        """Names in the log that it takes."""
        return self.of or (self.name,)

    @property
    def is_all(self) -> bool:
        """Whether it takes every wake of these names."""
        return not self.ran and not self.period_s


class SleepMode(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A way to sleep: of the log, or a state in which something is idle while the device is awake.

    Parameters
    ----------
    name
        The mode's name in the log, the name of a state, or that of a mode that was never used.
    part
        What sleeps in it. Modes are held against others of the same part only.
    floor_a
        What the device draws in it; None for what is measured.
    transition_charge_c
        Charge to enter and leave it; None for what is measured.
    latency_s
        Time until the device answers; None when nobody said so.
    keeps_memory
        Whether it goes on where it was; otherwise leaving it is a restart.
    source
        Who says so.
    residency_s
        From which length of sleep on it pays, as its maker says; None where the charges have to tell.
    """

    name: str
    part: str = ""
    floor_a: float | None = None
    transition_charge_c: float | None = msgspec.field(default=None, name="crossing_c")
    latency_s: float | None = None
    keeps_memory: bool = True
    source: str = ""
    residency_s: float | None = None
