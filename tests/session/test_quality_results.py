"""What data quality says a fault does to the figures, against what made the capture."""

from __future__ import annotations

from pathlib import Path

import msgspec
import numpy as np
import pytest

from warm_ember.library.project import Project
from warm_ember.model.bench import Attached
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.figure import Bound
from warm_ember.model.project import Run
from warm_ember.session.correcting import preview_corrections
from warm_ember.session.quality_pictures import PlacePicture
from warm_ember.session.quality_results import AddedPart, Mend, QualityShown
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.tuning.findings.registry import STANDS_ALONE
from warm_ember.units import percent_text, quantity_text

INTERVAL_S = 1e-3
SLEEP_A, BURST_A, PEAK_A = 20e-6, 5e-3, 60e-3


def made(random: np.random.Generator, seconds: float = 60.5) -> np.ndarray:
    """A device that sleeps, is awake for a tenth of each second and sends for 0.4 s every 10 s."""
    current = np.full(round(seconds / INTERVAL_S), SLEEP_A)
    at = np.arange(len(current)) * INTERVAL_S
    current[at % 1.0 > 0.9] = BURST_A
    sends = at % 10.0 > 9.6
    current[sends] = PEAK_A * (1 + 0.2 * np.sin(2 * np.pi * 7 * at[sends]))
    return current * (1 + 0.01 * random.standard_normal(len(current))) + 2e-7 * random.standard_normal(len(current))


def shown(
    path: Path, current: np.ndarray, attached: tuple[Attached, ...] = (), events: tuple[Event, ...] = ()
) -> tuple[Session, QualityShown]:
    (path / "captures").mkdir(parents=True)
    session = Session.open_or_create(path)
    with CaptureWriter(session.folder.capture_path("run")) as writer:
        writer.append(current.astype(np.float32))
        names = tuple(one.name for one in attached)
        writer.finish(CaptureInfo(INTERVAL_S, supply_v=3.0, attached=names), events)
    session.add_run(Run("run"))
    bench = msgspec.structs.replace(session.project.bench, attached=attached)
    session.project = msgspec.structs.replace(session.project, bench=bench)
    return session, session.quality.shown(session.project, "run")


@pytest.mark.parametrize(("late_s", "said"), [(0.0, "within a sample"), (4e-3, " ms")])
def test_how_well_a_log_lies_on_its_capture_is_not_told_finer_than_there_are_samples(
    tmp_path: Path, random: np.random.Generator, late_s: float, said: str
) -> None:
    seconds = np.arange(1, 60)
    wakes_s = seconds - 0.099 + late_s * random.uniform(-1, 1, len(seconds))
    events = [Event(float(at), "state", "Count") for at in wakes_s] + [
        Event(float(at), "state", "Sleep") for at in seconds
    ]
    session, found = shown(tmp_path / "p", made(random), events=tuple(sorted(events, key=lambda one: one.time_s)))
    assert said in next(check.words for check in found.passed if check.what == "clock")
    session.close()


def test_a_clean_capture_passes_every_check_and_shows_where_it_looked(tmp_path: Path, random) -> None:
    session, found = shown(tmp_path / "p", made(random))
    assert found.rows == ()
    assert {check.what for check in found.passed} >= {"range", "resolution", "hum", "sampling", "end", "gaps"}
    highest = next(check.picture for check in found.passed if check.what == "range")
    assert np.nanmax(highest.columns.high) == pytest.approx(session.run("run").whole.max_a)
    quiet = next(check.picture for check in found.passed if check.what == "resolution")
    assert np.nanmax(quiet.columns.high) < 2 * SLEEP_A
    session.close()


def test_what_is_clipped_makes_bounds_of_mean_charge_and_life(tmp_path: Path, random) -> None:
    session, found = shown(tmp_path / "p", np.minimum(made(random), 55e-3))
    (row,) = found.rows
    run = session.run("run")
    assert (row.word, row.mends[0]) == ("clipped", Mend.JOIN)
    assert run.ledger.mean.bound is Bound.AT_LEAST
    assert row.mean.words == f"≥ {quantity_text(run.ledger.mean_a, 'A').rich}"
    assert row.charge.words.startswith("≥ ")
    assert row.life.words.startswith("≤ ")
    assert isinstance(row.picture, PlacePicture)
    assert row.picture.top_a == pytest.approx(55e-3, rel=1e-3)
    session.close()


def test_the_mean_without_a_cut_off_end_is_that_of_what_came_before(tmp_path: Path, random) -> None:
    whole = made(random)
    cut = whole[: round((59.6 + 0.25) / INTERVAL_S)]
    session, found = shown(tmp_path / "p", cut)
    row = next(row for row in found.rows if row.word == "truncated")
    before_a = cut[: round(row.findings[0].from_s / INTERVAL_S)].mean()
    assert row.mean.words == quantity_text(before_a, "A").rich
    assert row.findings[0].from_s == pytest.approx(59.6, abs=0.05)
    session.close()


@pytest.mark.parametrize("mains_hz", [50.0, 60.0])
def test_hum_moves_means_by_no_more_than_is_said(tmp_path: Path, random, mains_hz: float) -> None:
    clean = made(random)
    at = np.arange(len(clean)) * INTERVAL_S
    hum = 8e-6 * np.sin(2 * np.pi * mains_hz * at + 0.3)
    session, found = shown(tmp_path / "p", clean + hum)
    row = next(row for row in found.rows if row.word == "hum")
    moved = abs(hum.mean()) / clean.mean()
    bound = 8e-6 / (np.pi * mains_hz) / at[-1] / clean.mean()
    assert moved <= bound
    assert row.weight == pytest.approx(bound, rel=0.2)
    assert row.mean.words in ("unchanged", f"± {percent_text(row.weight).rich}")
    session.close()


def test_what_was_not_measured_is_a_fault_and_passes_nothing(tmp_path: Path, random) -> None:
    current = made(random)
    current[20_000:35_000] = np.nan
    session, found = shown(tmp_path / "p", current)
    row = next(row for row in found.rows if row.word == "gaps")
    assert row.weight == pytest.approx(15_000 / len(current), rel=1e-3)
    assert row.mean.words == quantity_text(np.nanmean(current), "A").rich
    assert "gaps" not in {check.what for check in found.passed}
    session.close()
    session, found = shown(tmp_path / "q", np.full(5000, np.nan))
    assert [row.word for row in found.rows] == ["gaps"]
    assert found.passed == ()
    assert "nothing was measured" in found.rows[0].mean.of
    assert preview_corrections(session.project, session.run("run"), {}).mean_a == (None, None)
    session.close()


def test_a_load_that_the_set_up_adds_is_told_against_the_floor(tmp_path: Path, random) -> None:
    current = made(random) + 6e-6
    parts = (Attached("serial bridge", 5e-6), Attached("meter", ohm=3e6), Attached("pod", 1e-6, subtracted=True))
    session, found = shown(tmp_path / "p", current, parts)
    (row,) = found.rows
    assert row.added_a == pytest.approx(6e-6)
    assert isinstance(row.picture, AddedPart)
    assert row.picture.device_a == pytest.approx(SLEEP_A, rel=0.02)
    assert row.mends[0] is Mend.CORRECT
    assert row.mean.of == f"to {quantity_text(current.mean() - 6e-6, 'A')}"
    session.close()


def test_what_matters_most_comes_first(tmp_path: Path, random) -> None:
    clean = made(random)
    at = np.arange(len(clean)) * INTERVAL_S
    session, found = shown(tmp_path / "p", np.minimum(clean + 8e-6 * np.sin(2 * np.pi * 50 * at), 55e-3))
    assert next(row.word for row in found.by_effect) == "clipped"
    assert {row.word for row in found.rows} == {"clipped", "hum"}
    weights = [row.weight for row in found.by_effect]
    assert weights == sorted(weights, reverse=True)
    session.close()


def test_range_glitches_hold_no_more_of_the_charge_than_is_said(tmp_path: Path, random) -> None:
    current = made(random)
    at = np.arange(len(current)) * INTERVAL_S
    rises = np.flatnonzero((at[1:] % 1.0 > 0.9) & (at[:-1] % 1.0 <= 0.9)) + 1
    current[rises] = 30e-3
    session, found = shown(tmp_path / "p", current)
    row = next(row for row in found.rows if row.word == "range-glitch")
    extra = (30e-3 - BURST_A) * len(rises) / current.sum()
    assert row.weight >= extra
    assert row.mean.words == f"≤ {percent_text(row.weight).rich}"
    session.close()


def test_a_floor_that_is_not_resolved_is_a_bound(tmp_path: Path, random) -> None:
    current = made(random)
    current = np.round((current + 2e-5 * random.standard_normal(len(current))) / 1e-4) * 1e-4  # steps of 100 µA
    session, found = shown(tmp_path / "p", current)
    row = next(row for row in found.rows if row.word == "below-resolution")
    run = session.run("run")
    quiet = min((one for one in run.ledger.rows if one.mean.shown is not None), key=lambda one: one.mean.shown)
    assert row.charge.of == quiet.name
    assert row.charge.words.startswith("<")
    assert row.mends == (Mend.RECORD,)
    session.close()


def test_only_what_hangs_on_the_rail_in_the_capture_itself_is_told(tmp_path: Path, random) -> None:
    session, found = shown(tmp_path / "p", made(random))
    bench = msgspec.structs.replace(session.project.bench, attached=(Attached("serial bridge", 5e-6),))
    project = msgspec.structs.replace(session.project, bench=bench)
    assert session.quality.shown(project, "run").rows == found.rows == ()
    session.close()


@pytest.mark.parametrize("fault", ["none", "clipped", "glitches"])
def test_faults_that_stand_alone_are_found_alone_as_among_all(tmp_path: Path, random, fault: str) -> None:
    """A gate that asks of nothing else need not look for waste."""
    current = made(random)
    if fault == "clipped":
        current = np.minimum(current, 60e-3)
    elif fault == "glitches":
        rises = np.flatnonzero(np.diff(current) > 1e-3) + 1
        current[rises] = 0.3
    session, _ = shown(tmp_path / "p", current)
    everything = session.results.findings(session.project, "run")
    alone = session.results.faults_alone(session.project, "run", tuple(sorted(STANDS_ALONE)))
    assert alone == tuple(one for one in everything if one.kind in STANDS_ALONE)
    assert bool(alone) == (fault != "none")
    (tmp_path / "few.toml").write_text('[findings]\nforbid = ["clipped", "range-glitch"]\n')
    (tmp_path / "more.toml").write_text('[findings]\nforbid = ["clipped", "range-glitch", "tick-running"]\n')
    project = Project(session)
    few, more = (project.gate(tmp_path / name, "run").checks for name in ("few.toml", "more.toml"))
    assert few == more[:2]
    session.close()
