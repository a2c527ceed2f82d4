"""Everything that is known of one run, as a record: whoever shows it needs nothing that computes it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Mapping

    from warm_ember.attribution.budget import BudgetSegment
    from warm_ember.attribution.ledger import Ledger
    from warm_ember.attribution.limits import MeasurementLimits
    from warm_ember.attribution.load import Reproduced
    from warm_ember.attribution.window import Window
    from warm_ember.battery.life import LifeEstimate
    from warm_ember.model.fold import FoldPlan
    from warm_ember.model.load import Load
    from warm_ember.model.placement import Placement
    from warm_ember.model.project import Run
    from warm_ember.signal.band_limit import BandLimited
    from warm_ember.signal.stretch import StretchReading
    from warm_ember.store.capture import Capture


@dataclass(frozen=True, eq=False)
class RunResults:
    """Everything that is known of one run.

    Parameters
    ----------
    run
        The run.
    capture
        Its capture, open.
    whole
        The reading of the whole capture.
    current_span_a
        The lowest current above zero that lasts and the highest, A: the ends of its axis.
    placement, ledger
        Its states.
    limits
        What the instrument could not tell in it.
    window, modelled
        The part of the capture that stands for the device's life, and its states: all of it where activities say what
        happens how often.
    load, life
        What it means over the device's life.
    by_state, by_activity
        The budget bar's segments.
    reproduced
        How well the load stands for the capture; None when nothing was measured.
    fold_plan
        How its cycles are folded: as the project says, else as is likely to be wanted.
    limited
        Channels that are shown with their band limited, by name.
    """

    run: Run
    capture: Capture
    whole: StretchReading
    current_span_a: tuple[float, float]
    placement: Placement
    limits: MeasurementLimits
    ledger: Ledger
    window: Window | None
    modelled: Ledger
    load: Load
    life: LifeEstimate
    by_state: tuple[BudgetSegment, ...]
    by_activity: tuple[BudgetSegment, ...]
    reproduced: Reproduced | None
    fold_plan: FoldPlan
    limited: Mapping[str, BandLimited]

    @property
    def state_means(self) -> tuple[tuple[str, float | None], ...]:
        """Each state with its mean current, A."""
        return tuple((row.name, row.mean.value) for row in self.ledger.all_rows)
