"""The simulated target, and what the program makes of it, against the truth behind it."""

from functools import cache

import numpy as np
import pytest

from attribution.made import ArrayLines, Made
from warm_ember.attribution.ledger import make_ledger
from warm_ember.attribution.placing import place
from warm_ember.bench.simulated.direct import SimulatedCapture, simulate
from warm_ember.bench.simulated.firmware import FIRMWARE, LINES, PARTS
from warm_ember.bench.simulated.kernel import Grid, sample_means
from warm_ember.bench.simulated.ranges import RANGES, Noise, Reader
from warm_ember.model.rules import LevelsRule
from warm_ember.signal.series import ArraySeries

NAMES = [firmware.name for firmware in FIRMWARE]


@cache
def simulated(name: str) -> SimulatedCapture:
    return simulate(next(firmware for firmware in FIRMWARE if firmware.name == name))


def recording(name: str) -> Made:
    capture = simulated(name)
    interval_s = capture.info.sample_interval_s
    lines = ArrayLines(capture.lines, LINES, interval_s)
    return Made(ArraySeries(capture.current, interval_s), capture.events, lines, info=capture.info, name=name)


def test_the_same_seed_gives_the_same_capture() -> None:
    one, other = (simulate(FIRMWARE[3], seed=5, duration_s=30.0) for _ in range(2))
    np.testing.assert_array_equal(one.current, other.current)
    assert (one.events, one.truth) == (other.events, other.truth)
    assert not np.array_equal(one.current, simulate(FIRMWARE[3], seed=6, duration_s=30.0).current)


@pytest.mark.parametrize("name", NAMES)
def test_from_the_log_each_state_is_within_one_percent_of_the_truth(name: str) -> None:
    made, truth = recording(name), simulated(name).truth
    ledger = make_ledger(made, place(made))
    assert {row.name for row in ledger.rows} == set(truth)
    for row in ledger.rows:
        assert row.charge_c == pytest.approx(truth[row.name].charge_c, rel=0.01)
        assert row.dwell_s == pytest.approx(truth[row.name].dwell_s, rel=0.01)
        assert row.entries == truth[row.name].entries


@pytest.mark.parametrize("name", NAMES)
def test_from_levels_alone_each_state_is_within_five_percent_of_the_truth(name: str) -> None:
    made, capture = recording(name), simulated(name)
    by_level, by_log = place(made, (LevelsRule(),)), place(made)
    assert len(by_level.names) <= 14
    # Which state a level belongs to is what a user says; here it is the one most of its charge flows in.
    running = np.concatenate(([0.0], np.cumsum(capture.current.astype(np.float64)) * capture.info.sample_interval_s))
    edges = np.union1d(by_level.edges, by_log.edges)
    level = by_level.state[np.searchsorted(by_level.edges, edges[:-1], side="right") - 1]
    state = by_log.state[np.searchsorted(by_log.edges, edges[:-1], side="right") - 1]
    charges = np.zeros((len(by_log.names), len(by_level.names)))
    np.add.at(charges, (state, level), np.diff(running[edges]))
    owner = charges.argmax(axis=0)
    for index, found in enumerate(by_log.names):
        assert charges[:, owner == index].sum() == pytest.approx(capture.truth[found].charge_c, rel=0.05)


@pytest.mark.parametrize("name", NAMES)
def test_the_clock_is_found_with_and_without_the_sync_line(name: str) -> None:
    made, capture = recording(name), simulated(name)
    for lines in (made.lines, None):
        made.lines = lines
        alignment = place(made).alignment
        assert alignment is not None
        for target_s in (0.0, 300.0):
            true = capture.clock_offset_s + (1 + capture.clock_drift) * target_s
            assert alignment.to_capture(target_s) == pytest.approx(true, abs=2e-3)


def test_sleep_is_the_sum_of_the_parts_that_are_on() -> None:
    modes = {"rowan": "deep", "thrush": "on", "dipper": "watch", "sedge": "off", "plover": "saving", "led": "off"}
    total = sum(PARTS[part].modes_a[mode] for part, mode in modes.items())
    sleep = simulated("r5").truth["Deep sleep"]
    # What the supply capacitor still takes after each wake comes on top.
    assert total < sleep.charge_c / sleep.dwell_s < 1.06 * total


def test_it_looks_like_a_real_capture() -> None:
    capture = simulated("r4")
    assert capture.current.max() > 0.17
    assert len(np.unique(np.diff(np.unique(capture.current[:100_000])).round(9))) > 1
    after = np.flatnonzero((capture.true_current[:-1] > 5e-3) & (capture.true_current[1:] < 4e-3))[0]
    tail = capture.true_current[after + 1 : after + 6]
    assert (np.diff(tail) < 0).all()
    assert capture.voltage.min() < 2.92 < 2.99 < np.median(capture.voltage) < 3.01


def test_samples_are_exact_means(random: np.random.Generator) -> None:
    times = np.append(0.0, np.sort(random.uniform(0, 10, 50)))
    currents = random.uniform(0, 1, 51)
    means = sample_means(times, currents, Grid(0.0, 0.5, 20))
    fine = np.arange(0, 10, 1e-5)
    values = currents[np.searchsorted(times, fine + 5e-6, side="right") - 1]
    assert means == pytest.approx(values.reshape(20, -1).mean(axis=1), abs=2e-4)


def test_the_instrument_is_coarse_after_a_burst(random: np.random.Generator) -> None:
    flowing = np.full(2000, 10e-6)
    flowing[1000:1010] = 0.1
    read = Reader(Noise(random), 10e3).read(flowing)
    assert np.std(read[:990]) < 2 * RANGES[0].noise_a
    assert np.std(read[1011:1035]) > 20 * RANGES[0].noise_a
