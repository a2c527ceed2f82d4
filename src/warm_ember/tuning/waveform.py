"""The plan as a waveform: what each stay in a state would draw, and for how long."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.ledger import Ledger
from warm_ember.model.arrays import Floats
from warm_ember.model.placement import UNPLACED, Placement
from warm_ember.model.plan import LengthTo, PlannedChange, ReplaceState
from warm_ember.tuning.prediction import Predicted

_ROUNDING = 1e-9


@dataclass(frozen=True)
class WaveformSegment:
    """One stay in a state, measured and predicted.

    Parameters
    ----------
    state
        The state.
    from_s, to_s
        Where it was measured.
    measured_a, predicted_a
        What it drew on average, and what it would draw.
    predicted_s
        How long it would last.
    rest_a
        What flows for what is left of its time; None where nothing is left.
    """

    state: str
    from_s: float
    to_s: float
    measured_a: float
    predicted_a: float
    predicted_s: float
    rest_a: float | None

    @property
    def change_c(self) -> float:
        """Charge predicted less measured; 0 where they differ by no more than rounding does."""
        left_s = (self.to_s - self.from_s) - self.predicted_s
        predicted_c = self.predicted_a * self.predicted_s + (self.rest_a or 0.0) * left_s
        measured_c = self.measured_a * (self.to_s - self.from_s)
        return 0.0 if math.isclose(predicted_c, measured_c, rel_tol=_ROUNDING) else predicted_c - measured_c


def predicted_waveform(
    placement: Placement, ledger: Ledger, predicted: Predicted, changes: Iterable[PlannedChange]
) -> tuple[WaveformSegment, ...]:
    """Draw a plan over what was measured.

    Parameters
    ----------
    placement, ledger
        The states of the capture as measured.
    predicted, changes
        The device with the changes, and which they are.

    Notes
    -----
    A stay draws what it drew and what the plan changes of its state's mean. A state that is limited in length ends
    after that, and one that happens less often is drawn shorter by as much: on average that is the same charge.
    """
    called: dict[str, str] = {}
    limits: dict[str, float] = {}
    for effect in (effect for change in changes for effect in change.effects):
        if isinstance(effect, ReplaceState):
            called[effect.state] = effect.name
        elif isinstance(effect, LengthTo):
            limits[effect.state] = min(effect.to_s, limits.get(effect.state, effect.to_s))
    after = {row.name: row for row in predicted.ledger.all_rows}
    resting = [row.mean.value for row in predicted.ledger.rows if row.mean.value is not None and row.dwell_s > 0]
    rest_a = min(resting, default=None)
    lowest = min(
        (row for row in predicted.ledger.rows if row.mean.value is not None and row.dwell_s > 0),
        key=lambda row: row.mean.value or 0.0,
        default=None,
    )
    entry = {row.name: 0 for row in ledger.all_rows}
    interval_s = ledger.duration_s / max(int(placement.edges[-1]), 1)
    found = []
    for index, number in enumerate(placement.state.tolist()):
        if number == UNPLACED:
            continue
        name = placement.names[number]
        row, new = ledger.row(name), after.get(called.get(name, name))
        if row is None or new is None or row.mean.value is None or new.mean.value is None:
            continue
        from_s, to_s = (float(placement.edges[index + side]) * interval_s for side in (0, 1))
        length_s = to_s - from_s
        at, entry[name] = entry[name], entry[name] + 1
        charge_c = float(row.entry_charge_c[at]) if at < len(row.entry_charge_c) else row.mean.value * length_s
        measured_a = charge_c / length_s if length_s else row.mean.value
        is_rest = lowest is not None and lowest.name == new.name
        often = 1.0 if is_rest or name in limits else min(new.dwell_s / row.dwell_s, 1.0) if row.dwell_s else 1.0
        lasts_s = min(length_s * often, limits.get(name, length_s))
        predicted_a = max(measured_a + new.mean.value - row.mean.value, 0.0)
        left = rest_a if lasts_s < length_s * (1 - 1e-9) else None
        found.append(WaveformSegment(name, from_s, to_s, measured_a, predicted_a, lasts_s, left))
    return tuple(found)


def predicted_at(segments: Sequence[WaveformSegment], times_s: Floats, measured_a: Floats) -> Floats:
    """Return what would flow at some moments: moved as its state is, and at rest where its stay would be over.

    Parameters
    ----------
    segments
        Stays, in the order of time and without gaps.
    times_s
        The moments, shape ``(n,)``.
    measured_a
        What flowed then, NaN where nothing was measured, shape ``(n,)``.

    Returns
    -------
    Floats
        Shape ``(n,)``, NaN where nothing was measured; empty without segments.
    """
    if not segments:
        return np.empty(0)
    starts = np.array([one.from_s for one in segments])
    at = np.clip(np.searchsorted(starts, times_s, side="right") - 1, 0, len(segments) - 1)
    moved_a = np.array([one.predicted_a - one.measured_a for one in segments])[at]
    over = times_s > np.array([one.from_s + one.predicted_s for one in segments])[at]
    rest_a = np.array([np.nan if one.rest_a is None else one.rest_a for one in segments])[at]
    return np.where(over & ~np.isnan(rest_a), rest_a, measured_a + moved_a)
