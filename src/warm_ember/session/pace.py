"""How often samples come from what is at the bench, and how much a recording of them is."""

from __future__ import annotations

from warm_ember.bench.byte_stream import is_stream
from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.planning import bytes_per_sample
from warm_ember.model.bench import Bench
from warm_ember.units import quantity_text


def prints_by_itself(bench: Bench) -> bool:
    """Return whether what is at the bench's address prints its readings as lines."""
    return is_stream(bench.resource)


def rate_hz(bench: Bench, known: InstrumentDescription | None) -> float | None:
    """Return how many samples a second come; None of what prints lines, which has its own pace.

    Parameters
    ----------
    bench
        The bench of the project.
    known
        What is known of its instrument: a meter that answers one reading at a time has a slowest pace.
    """
    if prints_by_itself(bench):
        return None
    wanted_hz = 1 / bench.settings.interval_s
    is_slow = known is not None and known.mode == "polled" and known.max_rate_hz is not None
    return min(wanted_hz, known.max_rate_hz or wanted_hz) if is_slow and known is not None else wanted_hz


def pace_text(bench: Bench, known: InstrumentDescription | None, *, rich: bool = False) -> str:
    """Return how often samples come, in words; as rich text with the figure marked."""
    often_hz = rate_hz(bench, known)
    if often_hz is None:
        return "as its lines come"
    rate = quantity_text(often_hz, "S/s")
    return rate.rich if rich else str(rate)


def size_text(bench: Bench, known: InstrumentDescription | None, *, rich: bool = False) -> str:
    """Return how many samples a recording takes and how large it gets; as rich text its size alone."""
    often_hz, each, duration_s = rate_hz(bench, known), bytes_per_sample(known), bench.settings.duration_s
    if often_hz is None:
        return "–" if rich else ""
    if duration_s is None:
        hourly = quantity_text(each * often_hz * 3600, "B")
        return f"{hourly.rich if rich else hourly} an hour"
    size = quantity_text(duration_s * often_hz * each, "B")
    return size.rich if rich else f"{quantity_text(duration_s * often_hz, 'S')}, {size}"
