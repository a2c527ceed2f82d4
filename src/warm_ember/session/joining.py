"""Joining two captures of the project into one."""

from __future__ import annotations

import msgspec
import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.capture import AT_LEAST, AT_MOST
from warm_ember.session.new_capture import ImportReport, new_capture_path
from warm_ember.session.session import Session
from warm_ember.signal.clipping import find_clipping
from warm_ember.signal.joining import JoinedSamples, Ranges, join_samples, lay_on, on_grid
from warm_ember.signal.levels import find_levels
from warm_ember.signal.resolution import level_noise
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, Series, ShouldStop, chunks, ignore_progress, never
from warm_ember.signal.stretch import total
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.units import counted, duration_text, quantity_text

_NOISE_BOUND = 3.0


def join_captures(
    session: Session,
    fine_name: str,
    coarse_name: str,
    new_name: str,
    *,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> ImportReport:
    """Write one capture from two of the same work: sleep from the fine one, bursts from the coarse one.

    Parameters
    ----------
    session
        The open project.
    fine_name, coarse_name
        The captures; the fine one gives the time axis, the lines and the log.
    new_name
        Name of the joined one.

    Raises
    ------
    BadArgumentError
        If the fine capture is not clipped anywhere, the two do not show the same bursts, or the name is taken.
    BadFileError
        If a capture cannot be read.
    Cancelled
        If `should_stop` answered yes; nothing is left then.
    """
    path = new_capture_path(session, new_name)
    fine, coarse = session.capture(fine_name), session.capture(coarse_name)
    ranges = find_ranges(fine, coarse, should_stop=should_stop)
    fit = lay_on(coarse.current, fine.current, ranges.fine_limit_a, should_stop=should_stop)
    lines, interval_s = fine.lines, fine.current.interval_s
    missing = 0
    with CaptureWriter(
        path,
        with_voltage=fine.voltage is not None,
        line_names=lines.names if lines is not None else (),
        aux_units={AT_LEAST: "A", AT_MOST: "A"},
    ) as writer:
        for first, values in chunks(fine.current, should_stop=should_stop):
            last = first + len(values)
            made: JoinedSamples = join_samples(values, on_grid(coarse.current, fit, first, last, interval_s), ranges)
            missing += int(np.isnan(made.current).sum())
            writer.append(
                made.current,
                voltage=fine.voltage.read(first, last) if fine.voltage is not None else None,
                lines=lines.read(first, last) if lines is not None else None,
                aux={AT_LEAST: made.at_least, AT_MOST: made.at_most},
            )
            progress(min(1.0, (first + CHUNK_SAMPLES) / fine.current.samples))
        limit = quantity_text(ranges.fine_limit_a, "A")
        laid = f"laid on by {counted(fit.matched, 'burst')} within {duration_text(fit.residual_s)}"
        notes = (
            f"above {limit} from {coarse_name}, {laid}",
            f"bounds for {counted(missing, 'sample')} that neither resolves",
        )
        corrections = (*fine.info.corrections, f"joined with {coarse_name}: {notes[0]}")
        writer.finish(msgspec.structs.replace(fine.info, corrections=corrections), fine.events, fine.program)
    return ImportReport(new_name, fine.current.samples, interval_s, len(fine.events), notes)


def find_ranges(fine: Capture, coarse: Capture, *, should_stop: ShouldStop = never) -> Ranges:
    """Find out from the samples what two captures can be trusted with.

    Raises
    ------
    BadArgumentError
        If the fine capture is not clipped, so that nothing has to come from the other.
    """
    clipping = find_clipping(fine.current, should_stop=should_stop)
    if clipping is None:
        raise BadArgumentError(
            f"{fine.name} is not clipped anywhere: it needs no coarser capture; give the finer of the two first"
        )
    if _highest(coarse.current) <= clipping.limit_a:
        raise BadArgumentError(f"{coarse.name} never exceeds the {quantity_text(clipping.limit_a, 'A')} of {fine.name}")
    above = find_clipping(coarse.current, should_stop=should_stop)
    return Ranges(
        clipping.limit_a,
        fine.info.resolution_a or 0.0,
        max(_bound_a(coarse, should_stop), coarse.info.resolution_a or 0.0),
        above.limit_a if above is not None else float("inf"),
    )


def _highest(series: Series) -> float:
    return total(series, 0, series.samples).high


def _bound_a(capture: Capture, should_stop: ShouldStop) -> float:
    """Return below which current single readings of a capture tell nothing."""
    levels = find_levels(capture.current, should_stop=should_stop)
    noise = level_noise(capture.current, levels, 0) if len(levels.centres_a) else None
    return max(_NOISE_BOUND * noise.noise_a, noise.step_a) if noise is not None else 0.0
