"""States in noise that does not repeat: placed by the current with its band limited, summed over what was measured."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.model.band_limit import BandLimit
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.project import Project, Run
from warm_ember.model.rules import BandRule
from warm_ember.session import edits
from warm_ember.session.merging import merged
from warm_ember.session.session import Session
from warm_ember.session.state_results import StateResults
from warm_ember.signal.levels import MOST_LEVELS
from warm_ember.store.capture_file import CaptureWriter

RATE_HZ = 10e3
LOW_A, HIGH_A, NOISE_A = 10e-6, 30e-6, 30e-6


@pytest.fixture
def truth(random: np.random.Generator) -> np.ndarray:
    """Two currents in turn, 30 to 300 ms each."""
    lengths = np.rint(random.uniform(0.03, 0.3, 120) * RATE_HZ).astype(int)
    return np.repeat(np.where(np.arange(120) % 2, HIGH_A, LOW_A), lengths)


@pytest.fixture
def noisy(tmp_path: Path, truth: np.ndarray, random: np.random.Generator) -> Iterator[Session]:
    (tmp_path / "noisy" / "captures").mkdir(parents=True)
    session = Session.open_or_create(tmp_path / "noisy")
    with CaptureWriter(session.folder.capture_path("n")) as writer:
        writer.append((truth + NOISE_A * random.standard_normal(len(truth))).astype(np.float32))
        writer.finish(CaptureInfo(1 / RATE_HZ, supply_v=3.0), ())
    session.add_run(Run("n"))
    yield session
    session.close()


def placed(session: Session) -> np.ndarray:
    """Return the state at each sample."""
    placement = session.run("n").placement
    return np.repeat(placement.state, np.diff(placement.edges))


def test_states_in_noise_are_placed_by_what_is_left_of_it(noisy: Session, truth: np.ndarray) -> None:
    alone = noisy.run("n")
    assert len(alone.ledger.rows) == 1  # nothing is told apart in the noise
    noisy.apply(edits.set_band_limit(BandLimit("n", "current", 8e-3)), "only looked at")
    assert len(noisy.run("n").ledger.rows) == 1
    assert noisy.run("n").limited["current"].shortest_s == 8e-3
    noisy.apply(edits.set_band_limit(BandLimit("n", "current", 8e-3, places_states=True)), "placed by it")
    found = noisy.run("n")
    assert found.placement.names == ("level 1", "level 2")
    assert found.placement.how == ("level found in the current, nothing shorter than 8.00 ms",) * 2
    assert (placed(noisy) == (truth > 20e-6)).mean() > 0.97
    for row, true_a in zip(found.ledger.rows, (LOW_A, HIGH_A), strict=True):
        assert row.mean.value == pytest.approx(true_a, abs=1.5e-6)
    # What was measured is summed, not the line.
    assert sum(row.charge_c for row in found.ledger.rows) == pytest.approx(alone.whole.charge_c, rel=1e-9)
    levels = StateResults(noisy.results).level_stays(noisy.project, "n", MOST_LEVELS)
    assert levels.levels.centres_a == pytest.approx([LOW_A, HIGH_A], rel=0.05)


def test_a_band_is_looked_for_in_the_limited_current(noisy: Session, truth: np.ndarray) -> None:
    noisy.apply(edits.set_band_limit(BandLimit("n", "current", 8e-3, places_states=True)), "limit")
    noisy.apply(edits.SetFields("project", {"rules": (BandRule("Busy", 2e-5, 1.0, 0.0, 0.01),)}), "band")
    assert ((placed(noisy) == 0) == (truth > 20e-6)).mean() > 0.97
    assert "nothing shorter than 8.00 ms" in noisy.run("n").placement.how[0]
    noisy.apply(edits.drop_band_limit("n", "current"), "as measured")
    assert not noisy.run("n").limited
    assert ((placed(noisy) == 0) == (truth > 20e-6)).mean() < 0.9


def test_a_limit_that_does_not_fit_changes_nothing(noisy: Session) -> None:
    for channel, shortest_s in (("current", 1e9), ("current", 1e-9), ("nothing", 1e-2)):
        noisy.apply(edits.set_band_limit(BandLimit("n", channel, shortest_s, places_states=True)), "limit")
        assert not noisy.run("n").limited
        assert len(noisy.run("n").ledger.rows) == 1


@settings(max_examples=10)
@given(st.sampled_from(["current", "voltage", "field"]), st.floats(1e-3, 1.0), st.floats(1e-3, 1.0))
def test_limits_of_two_programs_are_put_together(channel: str, one_s: float, other_s: float) -> None:
    base = Project()
    ours = edits.set_band_limit(BandLimit("a", channel, one_s))(base)
    theirs = edits.set_band_limit(BandLimit("b", channel, other_s))(base)
    both = merged(base, ours, theirs)
    assert {one.capture: one.shortest_s for one in both.band_limits} == {"a": one_s, "b": other_s}
    again = edits.set_band_limit(BandLimit("a", channel, other_s))(both)
    assert [one.shortest_s for one in again.band_limits_of("a")] == [other_s]
