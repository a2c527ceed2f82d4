"""A prediction compared with the run that contains the change: by how much it was right, and where it was not."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.model.plan import PlannedChange
from warm_ember.tuning.difference import ComparedRun, Difference, by_state, of_average
from warm_ember.tuning.prediction import Predicted, PredictionStart, predict

_WITHIN = 0.1


@dataclass(frozen=True, eq=False)
class Proof:
    """What was predicted of some changes, and what the run that contains them shows.

    Parameters
    ----------
    before, after
        The run that they were planned on, and the one that contains them.
    changes
        Which.
    before_a, predicted_a
        The average before, and what was predicted after.
    measured
        The average measured after, against the prediction: how much more it is, with its interval.
    states
        The same by state, the largest difference first.
    recorded_utc
        When the run after was recorded, ISO 8601; empty where nobody knows.
    """

    before: str
    after: str
    changes: tuple[PlannedChange, ...]
    before_a: float
    predicted_a: float
    measured: Difference
    states: tuple[Difference, ...]
    recorded_utc: str = ""

    @property
    def measured_a(self) -> float:
        """The average that was measured after."""
        return self.measured.after_a

    @property
    def predicted_step_a(self) -> float:
        """What the changes were predicted to save."""
        return self.before_a - self.predicted_a

    @property
    def measured_step_a(self) -> float:
        """What they saved."""
        return self.before_a - self.measured_a

    @property
    def is_proved(self) -> bool:
        """Whether what came is what was predicted: within a tenth of the step, or within chance."""
        off_a = abs(self.measured_a - self.predicted_a)
        return off_a <= _WITHIN * abs(self.predicted_step_a) or not self.measured.is_real

    @property
    def off(self) -> tuple[Difference, ...]:
        """The states in which it did not come as predicted, by more than chance and a tenth of the step."""
        least_a = _WITHIN * abs(self.predicted_step_a)
        return tuple(one for one in self.states if one.is_real and abs(one.change_a) > least_a)


def prove(
    before: str,
    after: str,
    changes: tuple[PlannedChange, ...],
    start: PredictionStart,
    side_before: ComparedRun,
    side_after: ComparedRun,
) -> Proof:
    """Predict changes from the run before, and hold that against the run after."""
    predicted = predict(start, changes)
    expected = _side(predicted)
    return Proof(
        before,
        after,
        changes,
        side_before.load.mean_a,
        predicted.mean_a,
        of_average(expected, side_after),
        by_state(expected, side_after),
    )


def _side(predicted: Predicted) -> ComparedRun:
    return ComparedRun(predicted.by_state, predicted.ledger, predicted.load)
