"""Taking out of the samples what the measurement added."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.errors import BadArgumentError
from warm_ember.model.arrays import Samples
from warm_ember.model.correction import Burden, Correction, InputResistance, KnownLoad, Scaling


@dataclass(frozen=True, eq=False)
class Corrected:
    """Samples of current and, where there is one, of voltage, shape ``(n,)`` each."""

    current: Samples
    voltage: Samples | None


def check_corrections(corrections: Sequence[Correction], *, has_voltage: bool) -> None:
    """Check that corrections can be made.

    Raises
    ------
    BadArgumentError
        If there is none, a value is impossible, a reason is missing, or a voltage is needed and not known.
    """
    if not corrections:
        raise BadArgumentError("there is nothing to correct: give a load, a resistance or a factor")
    for correction in corrections:
        values = [value for value in (getattr(correction, f) for f in correction.__struct_fields__) if value != ""]
        numbers = [value for value in values if isinstance(value, float | int)]
        if not all(np.isfinite(numbers)):
            raise BadArgumentError(f"expected finite numbers, found {correction.sentence}")
        if not correction.reason.strip():
            raise BadArgumentError(f"say why: {correction.sentence}…")
        if isinstance(correction, Scaling) and correction.factor == 0:
            raise BadArgumentError("a factor of 0 leaves nothing")
        if isinstance(correction, InputResistance | Burden) and not correction.ohm > 0:
            raise BadArgumentError(f"a resistance must be above 0, found {correction.ohm:g}")
        if isinstance(correction, InputResistance | Burden) and not has_voltage:
            raise BadArgumentError("the voltage is not known: enter the supply voltage first")


def correct(
    current: Samples, voltage: Samples | None, corrections: Sequence[Correction], *, supply_v: float | None = None
) -> Corrected:
    """Correct consecutive samples.

    Parameters
    ----------
    current, voltage
        As read, shape ``(n,)``.
    corrections
        Scalings are made first; then what flows beside the target is subtracted, and the target's voltage is what is
        left of the supply behind the burden.
    supply_v
        Voltage where there is no channel of it.

    Notes
    -----
    ``i_true = i_read - v/R_input - i_known`` and ``v_target = v_supply - i R_burden`` with the current that flows
    through the burden, loads included.

    Examples
    --------
    >>> made = correct(np.float32([1e-3]), None, [KnownLoad(2e-4, "bridge"), Burden(100.0, "shunt")], supply_v=3.0)
    >>> round(float(made.current[0]), 7), round(float(made.voltage[0]), 4)
    (0.0008, 2.9)
    """
    amperes = current.astype(np.float64)
    for scaling in corrections:
        if isinstance(scaling, Scaling):
            amperes = (amperes - scaling.offset_a) * scaling.factor
    volts = voltage.astype(np.float64) if voltage is not None else None
    if volts is None and supply_v is not None:
        volts = np.full(len(amperes), supply_v)
    through, target_v = amperes.copy(), volts
    for correction in corrections:
        if isinstance(correction, KnownLoad):
            amperes -= correction.current_a
        elif isinstance(correction, Burden) and target_v is not None:
            target_v = target_v - through * correction.ohm
    for correction in corrections:
        if isinstance(correction, InputResistance) and target_v is not None:
            amperes -= target_v / correction.ohm
    has_channel = voltage is not None or any(isinstance(correction, Burden) for correction in corrections)
    return Corrected(
        amperes.astype(np.float32),
        target_v.astype(np.float32) if target_v is not None and has_channel else None,
    )


@dataclass(frozen=True, slots=True)
class CorrectionEffect:
    """What corrections do to a capture: its mean and peak afterwards, and the lowest voltage at the target.

    The voltages are None where there is no burden or no voltage is known.
    """

    mean_a: float
    peak_a: float
    drop_v: float | None
    lowest_v: float | None


def effect_of(
    corrections: Sequence[Correction], *, mean_a: float, peak_a: float, supply_v: float | None = None
) -> CorrectionEffect:
    """Return what corrections would do, from the mean and the peak alone.

    Parameters
    ----------
    corrections
        As for `correct`.
    mean_a, peak_a
        Of the capture as it is.
    supply_v
        Mean voltage of the supply.

    Examples
    --------
    >>> effect = effect_of([Burden(2.0, "shunt")], mean_a=1e-3, peak_a=0.2, supply_v=3.0)
    >>> round(effect.drop_v, 3), round(effect.lowest_v, 3)
    (0.4, 2.6)
    """
    made = correct(np.array([mean_a, peak_a], dtype=np.float32), None, corrections, supply_v=supply_v)
    has_burden = any(isinstance(correction, Burden) for correction in corrections)
    lowest_v = float(made.voltage[1]) if has_burden and made.voltage is not None else None
    drop_v = supply_v - lowest_v if lowest_v is not None and supply_v is not None else None
    return CorrectionEffect(float(made.current[0]), float(made.current[1]), drop_v, lowest_v)
