"""Floor above expected: more flows asleep than what should be on draws together."""

from __future__ import annotations

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.plan import CurrentBy, Effect
from warm_ember.tuning.findings.confidence import confidence
from warm_ember.tuning.findings.waste import WasteContext
from warm_ember.tuning.leaks import leak_words, possible_leaks
from warm_ember.units import quantity_text

_MATTERS, _LEAST_TOLERANCE, _BETWEEN = 2e-3, 0.15, 0.2
_AS_MUCH = 0.8


def floor_above_expected(waste: WasteContext) -> list[Finding]:
    """Hold the floor of rest against the sum of what should be on, and say what could draw the difference.

    Notes
    -----
    The floor is what flows when least does, so that what stays on after some activities, or pulses, is not part of it.
    """
    rest, expected = waste.rest, waste.expected_at_rest
    if rest is None or expected is None:
        return []
    floor_a = waste.tick.base_a if waste.tick is not None else rest.floor_a
    above_a = floor_a - expected.current_a
    tolerance_a = max(expected.tolerance, _LEAST_TOLERANCE) * abs(expected.current_a)
    if waste.tick is not None:  # what flows between the pulses is seen through their ends
        tolerance_a += _BETWEEN * waste.tick.mean_a
    cost_a = above_a * waste.share(rest.time_s)
    resolved_a = max(waste.recording.info.resolution_a or 0.0, rest.blocks.noise_a)
    if above_a <= max(tolerance_a, resolved_a) or cost_a < _MATTERS * waste.usual_a:
        return []
    leaks = possible_leaks(above_a, waste.supply_v, waste.parts, expected.parts, waste.attached)
    causes = f"Likely cause: {leak_words(leaks, above_a)}" if leaks else "No known part or pull-up matches it"
    name = rest.state or rest.mode or "sleep"
    text = (
        f"{name} draws {quantity_text(floor_a, 'A')} where {quantity_text(expected.current_a, 'A')} is expected: "
        f"{quantity_text(above_a, 'A')} is unexplained. {causes}"
    )
    interval_s = rest.current.interval_s
    from_s, to_s = float(rest.first[0]) * interval_s, float(rest.last[-1]) * interval_s
    sure = confidence(FindingKind.FLOOR_ABOVE_EXPECTED, is_sure=above_a > 2 * tolerance_a)
    remedy = f"End the leak: {leaks[0].what}" if leaks else f"Find what draws {quantity_text(above_a, 'A')} asleep"
    effects = (*waste.less_at_rest(above_a), *_elsewhere(waste, above_a))
    return [Finding(FindingKind.FLOOR_ABOVE_EXPECTED, from_s, to_s, cost_a, sure, text, remedy, effects)]


def _elsewhere(waste: WasteContext, above_a: float) -> tuple[Effect, ...]:
    """Return the same effect on the other states that draw as much too much: what leaks does not only leak asleep."""
    rest = waste.rest
    return tuple(
        CurrentBy(-above_a, row.name)
        for row in waste.ledger.rows
        if (rest is None or row.name != rest.state)
        and (expected := waste.expects(row.name)) is not None
        and row.mean.value is not None
        and row.mean.value - expected.current_a >= _AS_MUCH * above_a
    )
