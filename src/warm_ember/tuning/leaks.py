"""What could draw a current that nothing explains: causes that this device can have, ranked by how well they fit."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import combinations

from warm_ember.model.bench import Attached
from warm_ember.model.parts import Part, PartOn
from warm_ember.units import quantity_text

PULL_UPS_OHM = (1e3, 1.5e3, 2.2e3, 3.3e3, 4.7e3, 6.8e3, 10e3, 15e3, 22e3, 33e3, 47e3, 68e3, 100e3, 220e3, 470e3, 1e6)
"""Values of the E6 series (IEC 60063) that pull lines up, and those between that are as common."""

_RESISTOR, _PART, _ATTACHED = 0.03, 0.12, 0.08
_MOST_LINES = 4
_LINE_AGAIN, _PAIR, _ANY_VALUE = 0.75, 0.3, 0.8
_FLOATING_A, _FLOATING_DECADES, _FLOATING = 8e-6, 0.7, 0.25
_WORTH_SAYING = 0.05


@dataclass(frozen=True)
class Leak:
    """One thing that could be it.

    Parameters
    ----------
    what
        In words.
    current_a
        What it would draw.
    fit
        From 0 to 1: how well that is what was measured, less for what is rare.
    """

    what: str
    current_a: float
    fit: float


def possible_leaks(
    unexplained_a: float,
    supply_v: float | None,
    parts: Iterable[Part] = (),
    on: Iterable[PartOn] = (),
    attached: Iterable[Attached] = (),
    *,
    most: int = 3,
) -> tuple[Leak, ...]:
    """Match an unexplained current against what could cause it, the best fit first.

    Parameters
    ----------
    unexplained_a
        What is measured beyond what should flow.
    supply_v
        The rail, for resistors; None when not known.
    parts, on
        The device's parts, and the modes that they should be in.
    attached
        What can hang on the rail beside the device.
    most
        How many to return at most.

    Notes
    -----
    The fit is a bell over the ratio of the two currents, as wide as resistors, data sheets and attached tools are
    uncertain; two things at once are tried as well, and rank below one that fits as well.
    """
    if unexplained_a <= 0:
        return ()
    single = list(_singles(supply_v, tuple(parts), tuple(on), tuple(attached)))
    found = [
        Leak(what, current_a, prior * _bell(current_a, unexplained_a, width))
        for what, current_a, width, prior in single
    ]
    for (what, one_a, width, prior), (other, two_a, wide, more) in combinations(single, 2):
        if 0.05 < one_a / (one_a + two_a) < 0.95:
            fit = _PAIR * prior * more * _bell(one_a + two_a, unexplained_a, max(width, wide))
            found.append(Leak(f"{what} and {other}", one_a + two_a, fit))
    decades = math.log10(unexplained_a / _FLOATING_A) / _FLOATING_DECADES
    found.append(Leak("a floating input", unexplained_a, _FLOATING * math.exp(-0.5 * decades**2)))
    ranked = sorted(found, key=lambda leak: -leak.fit)
    return tuple(leak for leak in ranked[:most] if leak.fit >= _WORTH_SAYING)


def leak_words(leaks: Iterable[Leak], unexplained_a: float) -> str:
    """Return what could draw it, each with its figure."""
    told = [
        leak.what if leak.current_a == unexplained_a else f"{leak.what} ({quantity_text(leak.current_a, 'A')})"
        for leak in leaks
    ]
    return "; or ".join(told)


def _bell(current_a: float, wanted_a: float, width: float) -> float:
    return math.exp(-0.5 * (math.log(current_a / wanted_a) / width) ** 2) if current_a > 0 else 0.0


def _singles(
    supply_v: float | None, parts: tuple[Part, ...], on: tuple[PartOn, ...], attached: tuple[Attached, ...]
) -> Iterator[tuple[str, float, float, float]]:
    """Yield each cause as its words, current, relative width and likelihood."""
    for one in attached:
        if one.current_a > 0:
            yield f"{one.name} attached", one.current_a, _ATTACHED, 1.0
    for part in parts:
        meant = next((p.mode for p in on if p.part == part.name), None)
        usual = part.mode(meant) if meant is not None else None
        usual_a = usual.current_a if usual is not None else 0.0
        for mode in part.modes:
            if mode.current_a > usual_a:
                instead = f" instead of {meant}" if meant is not None else ""
                yield f"{part.name} in {mode.name}{instead}", mode.current_a - usual_a, _PART, 1.0
    if supply_v:
        for ohm in PULL_UPS_OHM:
            for lines in range(1, _MOST_LINES + 1):
                what = f"a {quantity_text(ohm, 'Ω')} pull-up against a line held low"
                if lines > 1:
                    what = f"{lines} pull-ups of {quantity_text(ohm, 'Ω')} against lines held low"
                yield what, lines * supply_v / ohm, _RESISTOR, _ANY_VALUE * _LINE_AGAIN ** (lines - 1)
