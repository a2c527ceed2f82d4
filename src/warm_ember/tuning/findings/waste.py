"""What waste is looked for in, and what each kind of waste is: a function of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.recording import Recording
from warm_ember.attribution.rest import Rest, longest_state, rest_of
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.model.bench import Attached
from warm_ember.model.finding import Finding
from warm_ember.model.parts import Part
from warm_ember.model.placement import Alignment, Placement
from warm_ember.model.plan import CurrentBy, Effect, ReduceAverage
from warm_ember.model.project import ExpectedValue
from warm_ember.signal.pulse_train import PulseTrain, find_pulse_train
from warm_ember.signal.series import ShouldStop, never

LONGEST_TICK_S = 0.05
_RARE = 2


@dataclass(frozen=True, eq=False)
class WasteContext:
    """What waste is looked for in.

    Parameters
    ----------
    recording, placement, ledger, wakes
        A capture, its states and its wakes.
    expected
        What states should draw, parts summed.
    parts, attached, supply_v
        What the device is made of, what can hang beside it, and its rail.
    idling
        States in which something is meant to idle.
    should_stop
        Polled on long passes.
    """

    recording: Recording
    placement: Placement
    ledger: Ledger
    wakes: WakeLedger
    expected: tuple[ExpectedValue, ...] = ()
    parts: tuple[Part, ...] = ()
    attached: tuple[Attached, ...] = ()
    supply_v: float | None = None
    idling: frozenset[str] = frozenset()
    should_stop: ShouldStop = field(default=never)

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        return self.wakes.duration_s

    @property
    def mean_a(self) -> float:
        """Average current of the capture."""
        return self.wakes.mean_a

    @cached_property
    def usual_a(self) -> float:
        """Average current without the sources that woke the device once or twice: what waste is held against.

        A capture around one report would else hide all that repeats.
        """
        rare = sum(row.added_a for row in self.wakes.sources if row.count <= _RARE)
        return max(self.wakes.mean_a - rare, self.wakes.floor_a)

    @property
    def alignment(self) -> Alignment:
        """How the log lies on the capture."""
        return self.placement.alignment or Alignment()

    @cached_property
    def rest(self) -> Rest | None:
        """Where the device should be at rest."""
        if self.wakes.wakes.by_cpu is not None or not self.wakes.is_measured:
            return None
        found = rest_of(self.recording, self.placement, self.ledger, self.wakes, should_stop=self.should_stop)
        return found if found is not None and len(found.blocks.mean_a) else None

    @cached_property
    def tick(self) -> PulseTrain | None:
        """Pulses of a system tick at rest."""
        rest = self.rest
        if rest is None:
            return None
        return find_pulse_train(self.recording.current, rest.first, rest.last, LONGEST_TICK_S)

    @cached_property
    def expected_at_rest(self) -> ExpectedValue | None:
        """What should flow at rest, by the name of the state or of the sleep mode; None when nobody said so."""
        rest = self.rest
        names = (rest.state, rest.mode) if rest is not None else ()
        return next((one for name in names if name for one in self.expected if one.state == name), None)

    @cached_property
    def modes_of_states(self) -> dict[str, str]:
        """The sleep mode that each state of sleep is, where the firmware names its modes."""
        depth, interval_s = self.wakes.depth, self.wakes.interval_s
        found: dict[str, str] = {}
        for number, mode in enumerate(depth.modes):
            mine = (depth.stretches.mode == number) & ~depth.stretches.in_wakes
            first = depth.stretches.first[mine]
            last = first + np.rint(depth.stretches.lasts_s[mine] / interval_s).astype(np.int64)
            state = longest_state(self.placement, first, last) if len(first) else ""
            if state:
                found[state] = mode.name
        return found

    def sleeps_at(self, time_s: float) -> bool:
        """Return whether the firmware says that it sleeps at a moment."""
        told = any(event.event == "sleep" for event in self.recording.events)
        stretches = self.wakes.depth.stretches
        first_s = stretches.first * self.wakes.interval_s
        here = (first_s <= time_s) & (time_s < first_s + stretches.lasts_s) & ~stretches.in_wakes
        return told and not self.alignment.is_unusable and bool(here.any())

    def expects(self, state: str) -> ExpectedValue | None:
        """Return what a state should draw, or None."""
        return next((one for one in self.expected if one.state == state), None)

    def less_at_rest(self, by_a: float) -> tuple[Effect, ...]:
        """Return the effect of so much less current where the device rests."""
        rest = self.rest
        if rest is None:
            return ()
        row = self.ledger.row(rest.state)
        if row is None:  # rest is no state here: its share of the average is all that is known
            return (ReduceAverage(by_a * self.share(rest.time_s)),)
        return (CurrentBy(-by_a * min(rest.time_s / row.dwell_s, 1.0), row.name),)

    def less_in(self, state: str, cost_a: float) -> tuple[Effect, ...]:
        """Return the effect of a state that costs so much less of the capture's average."""
        row = self.ledger.row(state)
        if row is None or not row.dwell_s:
            return (ReduceAverage(cost_a),)
        return (CurrentBy(-cost_a * self.duration_s / row.dwell_s, row.name),)

    def share(self, time_s: float) -> float:
        """Return a time as a share of the capture."""
        return time_s / self.duration_s if self.duration_s else 0.0


Waster = Callable[[WasteContext], list[Finding]]
