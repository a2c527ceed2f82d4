"""Intervals at which a radio wakes: what each standard allows, how soon the device answers, and how often it wakes."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.errors import BadArgumentError
from warm_ember.units import counted, duration_text, format_trimmed

ALLOWED, ROUNDED, OUTSIDE = "allowed", "rounded", "outside"
_CLOSE = 1e-9


@dataclass(frozen=True)
class TimerInterval:
    """One interval as a standard has it.

    Parameters
    ----------
    seconds
        The nearest that the standard allows, s.
    state
        ``allowed``, ``rounded`` to the standard's step, or ``outside`` its limits.
    wakes_each_s
        How often the device wakes for it on average.
    reacts_s, worst_s
        How long a message from outside waits on average, and at worst.
    limits
        What the standard says, in words.
    """

    seconds: float
    state: str
    wakes_each_s: float
    reacts_s: float
    worst_s: float
    limits: str


@dataclass(frozen=True)
class Standard:
    """How a kind of interval is limited.

    Parameters
    ----------
    name
        What it is.
    low_s, high_s, step_s
        Its limits and its step; a step of 0 for any.
    delay_s
        What the standard adds to each, on average.
    clause
        Where it says so.
    """

    name: str
    low_s: float
    high_s: float
    step_s: float
    delay_s: float
    clause: str

    def at(self, wanted_s: float, skipped: int = 0) -> TimerInterval:
        """Return an interval near a wanted one, of which the device sleeps through some.

        Raises
        ------
        BadArgumentError
            If it is no time.
        """
        if not wanted_s > 0:
            raise BadArgumentError(f"{self.name}: expected a time above 0, found {wanted_s:g} s")
        seconds = wanted_s
        if self.step_s:
            seconds = round(round(wanted_s / self.step_s) * self.step_s, 9)
        kept = min(max(seconds, self.low_s), self.high_s)
        outside = abs(kept - seconds) > _CLOSE
        state = OUTSIDE if outside else ROUNDED if abs(kept - wanted_s) > _CLOSE * wanted_s else ALLOWED
        each_s = (kept + self.delay_s) * (1 + skipped)
        return TimerInterval(kept, state, each_s, each_s / 2, each_s, self.words)

    @property
    def words(self) -> str:
        """The limits in words."""
        step = f" in steps of {duration_text(self.step_s)}" if self.step_s else ""
        return f"{duration_text(self.low_s)} to {duration_text(self.high_s)}{step} ({self.clause})"


_BASE_SUPERFRAME_S = 960 * 16e-6
"""aBaseSuperframeDuration of 960 symbols of 16 µs (IEEE 802.15.4-2020, 8.4.2 and 12.1)."""

ADVERTISING = Standard(
    "the advertising interval", 0.02, 10.24, 0.625e-3, 5e-3, "Bluetooth Core 5.4, Vol 6, Part B, 4.4.2.2"
)
CONNECTION = Standard("the connection interval", 7.5e-3, 4.0, 1.25e-3, 0.0, "Bluetooth Core 5.4, Vol 6, Part B, 4.5.1")
MESH_POLL = Standard(
    "the poll period",
    1e-3,
    500 * _BASE_SUPERFRAME_S,
    0.0,
    0.0,
    "IEEE 802.15.4-2020, 8.4.3.1: the parent keeps a frame for macTransactionPersistenceTime, 7.68 s by default",
)
MOST_SKIPPED, LONGEST_SUPERVISION_S = 499, 32.0


def supervision(interval_s: float, skipped: int, timeout_s: float) -> str:
    """Return what is wrong with a connection's latency and timeout; empty when nothing is.

    References
    ----------
    Bluetooth Core Specification 5.4, Vol 6, Part B, 4.5.1 and 4.5.2: the latency is at most 499 and the timeout, of
    100 ms to 32 s, is longer than twice the interval times the latency and one.
    """
    if not 0 <= skipped <= MOST_SKIPPED:
        return f"a peripheral may skip 0 to {counted(MOST_SKIPPED, 'event')}, not {skipped}"
    least_s = max(2 * (1 + skipped) * interval_s, 0.1)
    if not least_s < timeout_s <= LONGEST_SUPERVISION_S:
        return (
            f"with {counted(skipped, 'event')} skipped at {duration_text(interval_s)} the timeout has to be above "
            f"{duration_text(least_s)} and at most {format_trimmed(LONGEST_SUPERVISION_S)} s"
        )
    return ""


STANDARDS = {"bluetooth-advertising": ADVERTISING, "bluetooth-connection": CONNECTION, "mesh-poll": MESH_POLL}
