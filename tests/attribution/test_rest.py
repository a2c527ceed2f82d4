"""Where the device should be at rest, by its log, by its states, or by nothing but its current."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from attribution.made import INTERVAL_S, stays
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.attribution.rest import rest_of
from warm_ember.attribution.wake_ledger import make_wake_ledger
from warm_ember.attribution.wakes import find_wakes
from warm_ember.model.capture import Event
from warm_ember.signal.levels import find_levels

FLOOR_A = 2e-5


def device(*, with_wakes: bool, names: tuple[str, str] = ("Sleep", "Run")):
    """Make a device that sleeps for a second and runs for a tenth of one, over and over."""
    parts = [part for _ in range(12) for part in ((names[0], FLOOR_A, 1.0), (names[1], 5e-3, 0.1))]
    made, _ = stays(*parts, (names[0], FLOOR_A, 0.5), noise=0.01)
    told = list(made.events)
    if with_wakes:
        told += [Event(one.time_s, "sleep" if one.name == names[0] else "wake", "deep") for one in made.events]
    made.events = tuple(sorted(told, key=lambda event: event.time_s))
    return made


def found(made):
    def levels():
        return find_levels(made.current)

    placement = place(made, levels=levels)
    wakes = make_wake_ledger(made, placement, find_wakes(made, placement, levels))
    return rest_of(made, placement, make_ledger(made, placement), wakes)


@pytest.mark.parametrize("with_wakes", [True, False])
def test_rest_is_where_the_firmware_says_that_it_sleeps(with_wakes: bool) -> None:
    rest = found(device(with_wakes=with_wakes))
    assert rest.told
    assert rest.state == "Sleep"
    assert rest.mode == ("deep" if with_wakes else "")
    assert rest.time_s == pytest.approx(12.5, abs=1.1)  # where the first sleep began the capture may not know
    assert rest.floor_a == pytest.approx(FLOOR_A, rel=0.01)


def test_a_state_of_another_name_is_rest_where_it_is_the_lowest() -> None:
    rest = found(device(with_wakes=False, names=("Waiting", "Run")))
    assert (rest.state, rest.told) == ("Waiting", False)
    assert rest.floor_a == pytest.approx(FLOOR_A, rel=0.01)


def test_without_a_log_rest_is_between_the_wakes() -> None:
    rest = found(replace(device(with_wakes=False), events=()))
    assert not rest.told
    assert rest.floor_a == pytest.approx(FLOOR_A, rel=0.02)
    assert rest.time_s == pytest.approx(12.5, abs=1.2)


def test_blocks_lie_within_rest_and_leave_its_beginnings_out() -> None:
    rest = found(device(with_wakes=True))
    blocks = rest.blocks
    for first, last, stretch in zip(blocks.first, blocks.last, blocks.stretch, strict=True):
        assert rest.first[stretch] + 2 <= first < last <= rest.last[stretch]
    assert (np.diff(blocks.first) > 0).all()
    assert len(set((blocks.last - blocks.first).tolist())) == 1
    assert blocks.mean_a == pytest.approx(np.full(len(blocks.mean_a), FLOOR_A), rel=0.05)


def test_a_floor_is_what_flows_when_least_does() -> None:
    made = device(with_wakes=True)
    values = np.array(made.current.read(0, made.current.samples), dtype=np.float64)
    lifted = np.arange(len(values)) * INTERVAL_S > 3.0
    values[lifted] += 1e-4
    made.current = type(made.current)(values.astype(np.float32), INTERVAL_S)
    assert found(made).floor_a == pytest.approx(FLOOR_A, rel=0.02)


def test_what_never_rests_has_no_rest() -> None:
    made, _ = stays(("Run", 5e-3, 2.0))
    rest = found(replace(made, events=()))
    assert rest is None or not rest.told
