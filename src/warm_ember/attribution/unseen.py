"""What happens so seldom that a capture does not show it, and what that would take."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from warm_ember.attribution.ledger import Ledger
from warm_ember.attribution.wake_ledger import WakeLedger
from warm_ember.errors import BadArgumentError
from warm_ember.model.figure import Grade
from warm_ember.model.load import ActivityCost, Load

NAME = "what was not seen"
_SURE = 0.9
_RELATIVE = math.sqrt(2)
_MIDDLE = 0.22746821155978645
"""Half the median of a chi-squared variable of one degree of freedom."""


@dataclass(frozen=True)
class Unseen:
    """What may happen in a device's life without a capture having shown it.

    Parameters
    ----------
    looked_s
        How long was looked.
    charge_c
        What each would take above the rest: as was asked, else as much as the dearest happening that was seen;
        None where nothing was.
    is_asked
        Whether somebody said how much it takes, so that it belongs to the life.
    """

    looked_s: float
    charge_c: float | None
    is_asked: bool = False

    @property
    def interval_s(self) -> float:
        """What comes by chance once in this time, or more often, is seen at least once in 9 of 10 captures."""
        return self.looked_s / -math.log(1 - _SURE)


def unseen_in(ledger: Ledger, wakes: WakeLedger, charge_c: float | None = None) -> Unseen:
    """Return what the part of a capture that stands for the life cannot tell.

    Parameters
    ----------
    ledger
        The states of that part.
    wakes
        The capture's wakes.
    charge_c
        What something that may not have been seen takes each time, if anybody says; above the rest.

    Raises
    ------
    BadArgumentError
        If the charge is not above 0.
    """
    if charge_c is not None and not (charge_c > 0 and math.isfinite(charge_c)):
        raise BadArgumentError(f"what may not have been seen must take more than 0 C, found {charge_c:g}")
    dearest_c = float(wakes.cost_c.max()) if wakes.is_measured and len(wakes.cost_c) else None
    return Unseen(ledger.measured_s, dearest_c if charge_c is None else charge_c, charge_c is not None)


def with_unseen(load: Load, unseen: Unseen) -> Load:
    """Return a load to which something is added that may happen, though it was not seen.

    Notes
    -----
    With Jeffreys' prior the rate of a Poisson process of which nothing was seen over a time T is a chi-squared
    variable of one degree of freedom over 2 T; its median stands for it.

    References
    ----------
    H. Jeffreys, *Theory of Probability*, 3rd ed. 1961, section 3.10.
    """
    return _with(load, unseen, _MIDDLE / unseen.looked_s, unseen.looked_s)


def at_its_limit(load: Load, unseen: Unseen) -> Load:
    """Return a load to which it is added as often as may stay unseen in one of ten captures."""
    return _with(load, unseen, 1 / unseen.interval_s, None)


def _with(load: Load, unseen: Unseen, rate_hz: float, unseen_for_s: float | None) -> Load:
    extra = ActivityCost(
        name=NAME,
        charge_c=unseen.charge_c or 0.0,
        duration_s=0.0,
        peak_a=0.0,
        rate_hz=rate_hz,
        charge_spread=0.0,
        rate_spread=_RELATIVE,
        grade=Grade.ASSUMED,
        origin=NAME,
        hours=(),
        state_charges_c={},
        unseen_for_s=unseen_for_s,
    )
    return replace(load, costs=(*load.costs, extra))
