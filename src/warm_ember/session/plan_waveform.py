"""A window of the current as it was measured, and what the plan would make of it, by pixel column."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats
from warm_ember.session.run_results import RunResults
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.tuning.waveform import WaveformSegment, predicted_at


@dataclass(frozen=True, eq=False)
class PlanWaveform:
    """A window of a run.

    Parameters
    ----------
    from_s, to_s
        The window.
    measured
        The current, A.
    predicted_a
        The mean with the plan, A, NaN where nothing was measured, shape ``(columns,)``; empty without a plan.
    segments
        The stays in the window.
    """

    from_s: float
    to_s: float
    measured: PixelColumns
    predicted_a: Floats
    segments: tuple[WaveformSegment, ...]


def plan_waveform(
    results: RunResults, segments: tuple[WaveformSegment, ...], from_s: float, to_s: float, columns: int
) -> PlanWaveform:
    """Read a window of a run and lay the plan over it.

    Parameters
    ----------
    results, segments
        The run, and what each of its stays would be.
    from_s, to_s
        The window; what is outside the capture stays empty.
    columns
        Width of the plot in pixels.
    """
    capture = results.capture
    bins = envelope(capture.current, max(from_s, 0.0), min(to_s, capture.duration_s), columns)
    measured = per_column(bins, from_s, to_s, columns)
    shown = tuple(one for one in segments if one.to_s > from_s and one.from_s < to_s)
    times_s = from_s + (np.arange(columns) + 0.5) / columns * (to_s - from_s)
    return PlanWaveform(from_s, to_s, measured, predicted_at(shown, times_s, measured.mean), shown)
