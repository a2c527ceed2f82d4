"""Power saving mode: active time T3324 and periodic update T3412 extended, as octets of units and steps.

3GPP TS 24.008, 10.5.7.4 (GPRS timer 2) and 10.5.7.4a (GPRS timer 3): bits 8 to 6 are the unit, bits 5 to 1 the steps.
"""

from __future__ import annotations

from collections.abc import Mapping

from warm_ember.tuning.timers.coded import TimerCode

_MINUTE_S, _HOUR_S = 60.0, 3600.0
_OFF = 0b111
_TIMER_2_S = {0b000: 2.0, 0b001: _MINUTE_S, 0b010: 6 * _MINUTE_S}
_TIMER_3_S = {
    0b011: 2.0, 0b100: 30.0, 0b101: _MINUTE_S, 0b000: 10 * _MINUTE_S, 0b001: _HOUR_S, 0b010: 10 * _HOUR_S,
    0b110: 320 * _HOUR_S,
}  # fmt: skip
_STEPS = range(32)


def _timer(name: str, units_s: Mapping[int, float], others_s: float | None) -> TimerCode:
    """Make a timer; units that are not defined count as another, where the standard says so."""
    units = {**units_s, **({unit: others_s for unit in range(7) if unit not in units_s} if others_s else {})}
    codes: dict[str, float | None] = {
        f"{unit:03b}{steps:05b}": steps * unit_s for unit, unit_s in units.items() for steps in _STEPS
    }
    codes.update({f"{_OFF:03b}{steps:05b}": None for steps in _STEPS})
    return TimerCode(name, codes, {})


ACTIVE_TIME = _timer("T3324", _TIMER_2_S, _MINUTE_S)
PERIODIC_UPDATE = _timer("T3412", _TIMER_3_S, None)
