"""What may hang on the rail beside the target, and what it draws."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.bench.simulated.firmware import DEBUG_BRIDGE_A
from warm_ember.model.arrays import Floats


@dataclass(frozen=True)
class Attachment:
    """Something on the rail: a current, a resistance (Ω, infinite for none), interference at 50 Hz (peak, A)."""

    name: str
    current_a: float = 0.0
    ohm: float = np.inf
    hum_a: float = 0.0


ATTACHMENTS = (
    Attachment("debugger", current_a=1.3e-6),
    Attachment("serial-bridge", current_a=DEBUG_BRIDGE_A),
    Attachment("second-ground", hum_a=4e-6),
    Attachment("meter", ohm=2.2e6),
)
"""In the order of the channels by which they are attached: the debugger is channel 1."""

_MAINS_HZ = 50.0


def drawn_beside(attached: frozenset[str], times_s: Floats, supply_v: float) -> Floats:
    """Return what the attached things draw at some moments, shape of `times_s`."""
    parts = [one for one in ATTACHMENTS if one.name in attached and supply_v > 0]
    steady_a = sum(one.current_a + supply_v / one.ohm for one in parts)
    hum_a = sum(one.hum_a for one in parts)
    if not hum_a:
        return np.full(len(times_s), steady_a)
    drawn: Floats = steady_a + hum_a * np.sin(2 * np.pi * _MAINS_HZ * times_s)
    return drawn
