"""Pictures of what data quality speaks of: the place of a fault, and the place that a check looked at."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.session.run_results import RunResults
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.signal.hum import Hum
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import Series
from warm_ember.units import quantity_text

_COLUMNS = 240
_AROUND, _PERIODS, _MAINS_S, _EDGE_SAMPLES, _END = 0.25, 5, 0.02, 40, 0.1


@dataclass(frozen=True, eq=False)
class PlacePicture:
    """A stretch of the current, drawn small.

    Parameters
    ----------
    columns
        The current about the place.
    is_log
        Whether it is drawn by decades.
    place
        From where to where in the picture it lies, as shares of its width.
    words
        What the eye is to find.
    top_a
        Where the range ends; None where that is not what is shown.
    is_end
        Whether the capture ends where the place does.
    """

    columns: PixelColumns
    is_log: bool
    place: tuple[float, float]
    words: str
    top_a: float | None = None
    is_end: bool = False


def picture_of_fault(run: RunResults, finding: Finding, hum: Hum | None) -> PlacePicture:
    """Return a picture of the place of a fault, with some room on both sides."""
    series = run.capture.current
    duration_s, interval_s = series.samples * series.interval_s, series.interval_s
    from_s, to_s = finding.from_s, max(finding.to_s, finding.from_s + interval_s)
    if finding.kind is FindingKind.HUM and hum is not None:
        to_s = min(from_s + _PERIODS / hum.mains_hz, to_s)
        return _picture(
            series, (from_s, to_s), (from_s, to_s), f"{quantity_text(1 / hum.mains_hz, 's').rich} each", False
        )
    room_s = max(_AROUND * (to_s - from_s), 20 * interval_s)
    if finding.kind is FindingKind.TRUNCATED:
        shown = (max(from_s - 0.6 * (to_s - from_s), 0.0), to_s + room_s)
        return _picture(series, shown, (from_s, to_s), "end", is_end=True)
    shown = (max(from_s - room_s, 0.0), min(to_s + room_s, duration_s))
    if finding.kind is FindingKind.CLIPPED:
        top_a = run.limits.most_a
        return _picture(series, shown, (from_s, to_s), f"range ends, {quantity_text(top_a, 'A').rich}", top_a=top_a)
    return _picture(series, shown, (from_s, to_s), "")


def pictures_of_checks(run: RunResults, levels: Levels) -> dict[str, PlacePicture]:
    """Return pictures of the places that checks looked at, by the name of the check."""
    series = run.capture.current
    samples, interval_s = series.samples, series.interval_s
    highest, quiet, edge = _highest(series), _longest_stay(levels), _edge(run)
    found = {
        "range": _about(series, highest, _EDGE_SAMPLES, f"highest {quantity_text(run.whole.max_a, 'A').rich}"),
        "gaps": _picture(series, (0.0, samples * interval_s), (0.0, samples * interval_s), "all of it"),
        "end": _picture(
            series, ((1 - _END) * samples * interval_s, 1.01 * samples * interval_s),
            ((1 - _END) * samples * interval_s, samples * interval_s), "end", is_end=True,
        ),
    }  # fmt: skip
    if quiet is not None:
        begin_s = (quiet[0] + quiet[1]) / 2 * interval_s  # not where it still settles
        shown = (begin_s, min(begin_s + _PERIODS * _MAINS_S, quiet[1] * interval_s))
        noise = _picture(series, shown, shown, "the quiet level", is_log=False)
        found |= {"resolution": noise}
        if interval_s < _MAINS_S / 4:
            length = quantity_text(_PERIODS * _MAINS_S, "s").rich
            found |= {"hum": _picture(series, shown, shown, f"{length} of it", is_log=False)}
    if edge is not None:
        found |= {
            "range changes": _about(series, edge, _EDGE_SAMPLES, "a change of state"),
            "sampling": _about(series, highest, 8, f"{quantity_text(interval_s, 's').rich} a sample"),
        }
        if run.placement.alignment is not None:
            found |= {"clock": _about(series, edge, 8, "as the log says")}
    return found


def _about(series: Series, sample: int, reach: int, words: str) -> PlacePicture:
    first, last = max(sample - reach, 0), min(sample + reach, series.samples)
    at = sample * series.interval_s
    return _picture(series, (first * series.interval_s, last * series.interval_s), (at, at + series.interval_s), words)


def _picture(
    series: Series,
    shown_s: tuple[float, float],
    place_s: tuple[float, float],
    words: str,
    is_log: bool = True,
    *,
    top_a: float | None = None,
    is_end: bool = False,
) -> PlacePicture:
    begin_s, end_s = shown_s
    bins = envelope(series, begin_s, end_s, _COLUMNS)
    left, right = ((at_s - begin_s) / (end_s - begin_s) for at_s in place_s)
    return PlacePicture(per_column(bins, begin_s, end_s, _COLUMNS), is_log, (left, right), words, top_a, is_end)


def _highest(series: Series) -> int:
    """Return where the highest sample is, found through the pyramid."""
    first, last = 0, series.samples
    while last - first > 1:
        bins = envelope(series, first * series.interval_s, last * series.interval_s, 500)
        if not len(bins.high) or np.isnan(bins.high).all():
            return first
        edges = np.rint(bins.edges_s / series.interval_s).astype(np.int64)
        inside = (edges[1:] > first) & (edges[:-1] < last)
        at = int(np.nanargmax(np.where(inside, bins.high, -np.inf)))
        narrowed = max(first, int(edges[at])), min(last, int(edges[at + 1]))
        if narrowed == (first, last):
            return first
        first, last = narrowed
    return first


def _longest_stay(levels: Levels) -> tuple[int, int] | None:
    """Return the samples of the longest stay in the lowest level."""
    stays = np.flatnonzero(levels.level == 0)
    if not len(stays):
        return None
    lengths = levels.edges[stays + 1] - levels.edges[stays]
    longest = int(stays[int(np.argmax(lengths))])
    return int(levels.edges[longest]), int(levels.edges[longest + 1])


def _edge(run: RunResults) -> int | None:
    edges = run.placement.edges[1:-1]
    return int(edges[len(edges) // 2]) if len(edges) else None
