"""Part left on: a step that stays after an activity ended."""

from __future__ import annotations

import numpy as np

from warm_ember.attribution.rest import Rest
from warm_ember.model.arrays import Flags
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.parts import PartOn
from warm_ember.signal.bands import runs_of
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.leaks import leak_words, possible_leaks
from warm_ember.units import counted, duration_text, quantity_text

_MATTERS, _OF_REST, _LEAST = 0.02, 0.1, 2e-3
_CLEAR, _NOISES, _FLAT = 0.25, 8.0, 0.25
_LEAST_BLOCKS = 4
_WHOLE = 0.97


def part_left_on(waste: WasteContext) -> list[Finding]:
    """Find rest at a higher level that begins where an activity ends, flat and for a while.

    Notes
    -----
    What settles is no step: a run of blocks counts where it is flat. What is there all the time is part of the floor.
    """
    rest = waste.rest
    if rest is None:
        return []
    blocks = rest.blocks
    base_a = rest.floor_a
    step_a = max(_CLEAR * abs(base_a), _NOISES * blocks.noise_a)
    above = blocks.mean_a > base_a + step_a
    runs = [run for run in runs_of(above) if _is_step(rest, above, int(run[0]), int(run[1]), base_a)]
    if not runs:
        return []
    lengths_s = (blocks.last - blocks.first) * rest.current.interval_s
    extra_c = sum(float(((blocks.mean_a - base_a) * lengths_s)[a:b].sum()) for a, b in runs)
    time_s = sum(float(lengths_s[a:b].sum()) for a, b in runs)
    all_s = float(lengths_s.sum())
    # Blocks leave out the beginnings of stretches; what holds for them holds for those as well.
    cost_a = extra_c / all_s * waste.share(rest.time_s)
    of_rest = extra_c > _OF_REST * base_a * all_s and cost_a > _LEAST * waste.usual_a
    if not (of_rest or cost_a > _MATTERS * waste.usual_a) or time_s > _WHOLE * all_s:
        return []
    level_a = extra_c / time_s
    leaks = possible_leaks(level_a, waste.supply_v, waste.parts, _meant(waste), waste.attached, most=2)
    fits = f" It fits {leak_words(leaks, level_a)}." if leaks else ""
    interval_s = rest.current.interval_s
    from_s, to_s = float(blocks.first[runs[0][0]]) * interval_s, float(blocks.last[runs[-1][1] - 1]) * interval_s
    text = (
        f"{counted(len(runs), 'time')}, {quantity_text(level_a, 'A')} above the floor of "
        f"{quantity_text(base_a, 'A')} stays after "
        f"an activity ended, {duration_text(time_s)} in all.{fits} Switch off what the activity switched on"
    )
    sure, remedy = confidence(FindingKind.PART_LEFT_ON, is_sure=len(runs) > 1), "Switch off what an activity leaves on"
    effects = waste.less_at_rest(extra_c / all_s)
    return [Finding(FindingKind.PART_LEFT_ON, from_s, to_s, cost_a, sure, text, remedy, effects)]


def _meant(waste: WasteContext) -> tuple[PartOn, ...]:
    expected = waste.expected_at_rest
    return expected.parts if expected is not None else ()


def _is_step(rest: Rest, above: Flags, first: int, last: int, base_a: float) -> bool:
    """Return whether a run of blocks begins with a stretch of rest and is flat."""
    blocks = rest.blocks
    if last - first < _LEAST_BLOCKS:
        return False
    begins = first == 0 or blocks.stretch[first - 1] != blocks.stretch[first]
    # The first block may be one that the switching-off of something else still reaches into.
    begins = begins or (first >= 2 and blocks.stretch[first - 2] != blocks.stretch[first] and not above[first - 1])
    heights = blocks.mean_a[first:last] - base_a
    middle = heights[:-1] if len(heights) > _LEAST_BLOCKS else heights
    spread = float(np.quantile(middle, 0.8) - np.quantile(middle, 0.2))
    return bool(begins) and spread <= max(_FLAT * float(np.median(middle)), 4 * blocks.noise_a)
