"""A sweep over the simulated bench: what it learns is true, it goes on where it stopped, and bad targets are told."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.benches import AskedClock, Serve, address, console_address, serve
from warm_ember.bench.simulated.faults import Fault, FaultMode
from warm_ember.bench.simulated.firmware import FIRMWARE
from warm_ember.bench.simulated.server import BenchServer
from warm_ember.bench.simulated.truth import true_mean_a
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.battery import Activity, Typed
from warm_ember.model.bench import Bench, BenchSettings, Recipe, Send, SwitchOutput, Take, WaitFor
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.figure import Bound, Figure
from warm_ember.model.project import Run, RunKind
from warm_ember.model.sweep import Search, SetBy, SweepGoal, SweepParameter, SweepRecipe, SweepStop, check_sweep
from warm_ember.session.plan_edits import add_change, set_change
from warm_ember.session.recording import RecordRequest, adopt_recorded, record
from warm_ember.session.session import Session
from warm_ember.session.sweep_results import SweepResult, change_of, sweep_result
from warm_ember.session.sweeping import SweepTold, over_limit, run_sweep, why_not
from warm_ember.signal.stretch import StretchReading
from warm_ember.store.capture import Capture
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.sweep_journal import SweepProgress, SweepRecording
from warm_ember.units import MONTH_S

__all__ = ["serve"]

INTERVAL = SweepParameter("interval", (60.0, 90.0, 120.0), "interval {value}", "^ok", latency_per_value=1.0)
SETTINGS = BenchSettings(voltage_v=3.0, limit_a=0.5, interval_s=2e-3)


@pytest.fixture
def bench(serve: Serve) -> BenchServer:
    """A bench whose time goes on as it is asked, so that a minute takes a moment."""
    return serve(clock=AskedClock(20.0))


def recipe_of(bench: BenchServer, *parameters: SweepParameter, **given: object) -> SweepRecipe:
    usual: dict[str, object] = {"record_s": 120.0, "repeats": 2, "search": Search.GRID, "answer_s": 1.0}
    usual |= {"prepare": ("passers off",), "settings": SETTINGS, "console": console_address(bench)}
    return SweepRecipe(parameters or (INTERVAL,), **(usual | given))  # type: ignore[arg-type]


def never() -> bool:
    return False


def swept(
    folder: Path,
    bench: BenchServer,
    recipe: SweepRecipe,
    should_stop: Callable[[], bool] = never,
    ask: Callable[..., bool] = lambda *_: False,
    changed: Callable[[SweepProgress], None] = lambda _progress: None,
) -> SweepResult:
    """Run a sweep in a project and return what it has learnt; the output is off then."""
    with Session.open_or_create(folder) as session:
        try:
            progress = run_sweep(session, recipe, address(bench), should_stop, SweepTold(ask, changed=changed))
            return sweep_result(session, progress)
        finally:
            assert not bench.instrument.is_on


def test_what_is_measured_is_what_the_target_draws(bench: BenchServer, tmp_path: Path) -> None:
    result = swept(tmp_path / "post", bench, recipe_of(bench))
    assert result.progress.ended == "done"
    assert result.measured == 3
    for point in result.points:
        (interval,) = point.setting
        commands = ("passers off", f"interval {interval:g}")
        truth_a = true_mean_a(FIRMWARE[4], commands, 200.0, 200.0 + 20 * float(interval))
        assert point.mean_a == pytest.approx(truth_a, rel=0.02)
        assert len(point.captures) == 2
    assert result.chosen is not None
    assert result.chosen.setting == (120.0,)
    (fit,) = result.fits
    assert fit.charge.value == pytest.approx(1.27, rel=0.03)
    with Session.open(tmp_path / "post") as session:
        assert [run.kind for run in session.project.runs] == [RunKind.POINT] * 6
        assert {run.title for run in session.project.runs} == {"interval 60", "interval 90", "interval 120"}


def test_a_sweep_goes_on_where_it_stopped_and_measures_nothing_twice(bench: BenchServer, tmp_path: Path) -> None:
    recipe, seen = recipe_of(bench), []

    def changed(progress: SweepProgress) -> None:
        seen.append(len(progress.recordings))

    first = swept(tmp_path / "post", bench, recipe, lambda: bool(seen) and seen[-1] >= 2, changed=changed)
    assert first.progress.ended == "stopped"
    kept = first.progress.recordings
    assert len(kept) == 2
    again = swept(tmp_path / "post", bench, recipe)
    assert again.progress.recordings[:2] == kept
    assert len(again.progress.recordings) == 6
    assert len({one.capture for one in again.progress.recordings}) == 6
    more = msgspec.structs.replace(recipe, repeats=3)
    assert len(swept(tmp_path / "post", bench, more).progress.recordings) == 9
    done = swept(tmp_path / "post", bench, more)  # nothing is left: nothing is opened
    assert done.progress.ended == "done"
    assert len(list((tmp_path / "post" / "captures").glob("*.h5"))) == 9


def test_values_that_are_refused_are_told_and_the_others_measured(bench: BenchServer, tmp_path: Path) -> None:
    odd = msgspec.structs.replace(INTERVAL, values=(5.0, 60.0, 90.0))
    result = swept(tmp_path / "post", bench, recipe_of(bench, odd))
    refused = result.points[0]
    assert (refused.state, refused.captures) == ("refused", ())
    assert "err range 60 to 86400" in refused.reason
    assert [point.state for point in result.points[1:]] == ["measured", "measured"]


def test_a_target_that_does_not_answer_ends_the_series_safely(bench: BenchServer, tmp_path: Path) -> None:
    mute = msgspec.structs.replace(INTERVAL, send="# {value}", confirm="^never")
    bench.instrument.target.command = lambda _line: None  # type: ignore[method-assign]
    result = swept(tmp_path / "post", bench, recipe_of(bench, mute, answer_s=0.2))
    assert "nothing answers any more" in result.progress.ended
    assert result.measured == 0
    assert result.chosen is None
    assert [point.state for point in result.points] == ["left out"] * 3
    assert sum("no answer to" in point.reason for point in result.points) == 2


def test_a_reboot_in_a_recording_sets_all_anew(bench: BenchServer, tmp_path: Path) -> None:
    target, done = bench.instrument.target, []
    run = bench.instrument.run

    def rebooting(message: str) -> bytes | None:
        if message.upper().startswith("FETC") and target.time_s > 60 and not done:
            done.append(target.time_s)
            target.power(on=False)
            target.power(on=True)
        return run(message)

    bench.instrument.run = rebooting  # type: ignore[method-assign]
    result = swept(tmp_path / "post", bench, recipe_of(bench, repeats=1))
    assert done
    assert [point.state for point in result.points] == ["measured"] * 3
    truth_a = true_mean_a(FIRMWARE[4], ("passers off", "interval 60"), 200.0, 1400.0)
    assert result.points[0].mean_a == pytest.approx(truth_a, rel=0.02)


def test_an_instrument_that_drops_out_once_is_found_again(serve: Serve, tmp_path: Path) -> None:
    bench = serve(clock=AskedClock(20.0), fault=Fault(FaultMode.DISCONNECT, 4))
    result = swept(tmp_path / "post", bench, recipe_of(bench, repeats=1))
    assert bench.fault.done
    assert result.measured == 3
    assert len(result.progress.recordings) == 3


@pytest.mark.logs_errors
def test_an_instrument_that_is_gone_ends_it_with_what_is_missing(bench: BenchServer, tmp_path: Path) -> None:
    seen: list[int] = []

    def changed(progress: SweepProgress) -> None:
        seen.append(len(progress.recordings))
        if seen[-1] == 1:
            bench.instrument.target.power(on=False)
            bench.close()

    recipe = recipe_of(bench, repeats=1)
    with Session.open_or_create(tmp_path / "post") as session, pytest.raises(InstrumentError) as told:
        run_sweep(session, recipe, address(bench), never, SweepTold(lambda *_: False, changed=changed))
    assert "1 of 3 settings measured, and the same sweep goes on there" in str(told.value)


def test_commands_and_people_set_values_too(bench: BenchServer, tmp_path: Path) -> None:
    script = tmp_path / "flash.py"
    script.write_text("import sys\nprint('flashed', sys.argv[1])\nsys.exit(sys.argv[1] == 'b c')\n")
    build = SweepParameter("build", ("a", "b c"), SetBy(run=f"{sys.executable} {script} {{value}}"), "^flashed")
    jumper = SweepParameter("jumper", (1.0, 2.0), SetBy(ask="Set the jumper to {value}"))
    asked: list[str] = []

    def ask(words: str, *_rest: object) -> bool:
        asked.append(words)
        return words.endswith("1")

    recipe = recipe_of(bench, build, jumper, console="", repeats=1, prepare=(), record_s=20.0)
    result = swept(tmp_path / "post", bench, recipe, ask=ask)
    found = {point.setting: point for point in result.points}
    assert found["a", 1.0].state == "measured"
    assert "no answer to the request" in found["a", 2.0].reason
    assert found["b c", 1.0].state == "refused"
    assert "ended with 1: flashed b c" in found["b c", 1.0].reason
    assert "Set the jumper to 2" in asked


def test_it_stops_at_a_current_and_at_its_time(bench: BenchServer, tmp_path: Path) -> None:
    result = swept(tmp_path / "one", bench, recipe_of(bench, stop=SweepStop(limit_a=0.1)))
    assert "above the limit of" in result.progress.ended
    assert len(result.progress.recordings) == 1
    late = swept(tmp_path / "two", bench, recipe_of(bench, stop=SweepStop(hours=1e-9)))
    assert "h are over" in late.progress.ended
    assert late.measured == 0


def test_the_best_of_what_is_allowed_meets_its_goal_or_not(bench: BenchServer, tmp_path: Path) -> None:
    for months, is_met in ((0.1, True), (100.0, False)):
        recipe = recipe_of(bench, goal=SweepGoal(min_months=months, max_latency_s=100.0))
        result = swept(tmp_path / "post", bench, recipe)
        assert result.chosen is not None
        assert result.chosen.setting == (90.0,)
        assert result.chosen.meets_goal is is_met
        assert result.chosen.low_s < result.chosen.life.life_s < result.chosen.high_s
        assert result.chosen.saves_a is not None
        assert result.chosen.saves_a.value > 0  # against the first value, as it is today
        assert "answers after 120 s" in result.points[2].reason


def test_points_of_a_sweep_are_no_rungs(bench: BenchServer, tmp_path: Path) -> None:
    swept(tmp_path / "post", bench, recipe_of(bench, repeats=1))
    with Session.open(tmp_path / "post") as session:
        assert session.project.rungs == ()
        assert session.current == session.project.runs[-1].name
        session.add_run(Run("r1"))
        assert [run.name for run in session.project.rungs] == ["r1"]
        assert session.project.latest == "r1"


def test_what_a_sweep_found_goes_into_the_plan_and_the_next_run_proves_it(bench: BenchServer, tmp_path: Path) -> None:
    known = Bench(resource=address(bench), console=console_address(bench), settings=SETTINGS)

    def recorded(session: Session, name: str, interval: str) -> None:
        said = (Send("passers off"), Send(f"interval {interval}"), WaitFor("^ok interval", 5.0))
        steps = (SwitchOutput(), *said, Take(360.0))
        request = RecordRequest(known, Recipe(name, SETTINGS, steps), name)
        (one,) = record(session, request, should_stop=never)
        adopt_recorded(session, one)

    with Session.open_or_create(tmp_path / "post") as session:
        recorded(session, "now", "60")
        recipe = recipe_of(bench, goal=SweepGoal(max_latency_s=100.0))
        told = SweepTold(lambda *_: False)
        result = sweep_result(session, run_sweep(session, recipe, address(bench), never, told))
        change = change_of(result, "now")
        assert change is not None
        assert change.name == "interval 90"
        assert change.latency_s == 30.0
        session.apply(add_change(change), "plan")
        recorded(session, "next", "90")
        session.apply(set_change(change, msgspec.structs.replace(change, proved_by="next")), "proved")
        (proof,) = session.tuning.proofs(session.project, "next")
        assert (proof.before, proof.after) == ("now", "next")
        assert proof.measured_step_a == pytest.approx(proof.predicted_step_a, rel=0.05)


def test_a_recording_that_gets_too_warm_or_draws_too_much_is_over_a_limit(tmp_path: Path) -> None:
    path = tmp_path / "warm.h5"
    with CaptureWriter(path, aux_units={"board": "°C", "field": "dBm"}) as writer:
        warm_c = np.linspace(20.0, 46.0, 400, dtype=np.float32)
        warm_c[7] = np.nan
        writer.append(current=np.full(400, 1e-3, dtype=np.float32), aux={"board": warm_c, "field": 100 + warm_c})
        writer.finish(CaptureInfo(0.01), ())
    with contextlib.closing(Capture(path)) as capture:
        assert over_limit(capture, SweepStop()) == ""
        assert over_limit(capture, SweepStop(limit_a=2e-3, limit_c=47.0)) == ""
        assert over_limit(capture, SweepStop(limit_c=45.0)) == "board reached 46.0 °C in warm, above the limit of 45 °C"
        assert "warm reached 1.00 mA" in over_limit(capture, SweepStop(limit_a=1e-4))


def test_what_the_bench_does_not_see_is_added(bench: BenchServer, tmp_path: Path) -> None:
    swept(tmp_path / "post", bench, recipe_of(bench, repeats=1))
    with Session.open(tmp_path / "post") as session:
        passers = Activity("Passers-by", Typed(10e-3), interval_s=100.0)
        session.apply(lambda project: msgspec.structs.replace(project, activities=(passers,)), "passers-by")
        for activities, added_a in (((), 0.0), (("Passers-by",), 1e-4)):
            recipe = recipe_of(bench, repeats=1, activities=activities)
            progress = run_sweep(session, recipe, address(bench), never, SweepTold(lambda *_: False))
            result = sweep_result(session, progress)
            assert result.added_a == pytest.approx(added_a)
            assert result.chosen is not None
            bare_a = next(one.predicted_a for one in result.points if one.setting == result.chosen.setting)
            assert result.chosen.mean.value == pytest.approx((bare_a or 0.0) + added_a, rel=0.03)
        with pytest.raises(BadArgumentError, match="no activity 'Rain'; there are: Passers-by"):
            sweep_result(session, msgspec.structs.replace(progress, recipe=recipe_of(bench, activities=("Rain",))))


def test_a_recording_beyond_the_range_is_a_bound_and_no_choice(bench: BenchServer, tmp_path: Path) -> None:
    narrow = msgspec.structs.replace(SETTINGS, range_a=1e-3)
    result = swept(tmp_path / "post", bench, recipe_of(bench, settings=narrow))
    assert [point.bound for point in result.points] == [Bound.AT_LEAST] * 3
    assert all(point.high_a is None and "wider" in point.reason for point in result.points)
    assert (result.fits, result.chosen) == ((), None)
    assert result.progress.ended == "no setting was within what the instrument measures"
    assert len(result.progress.recordings) == 6  # each as often as wanted, and no more


def progress_of(recipe: SweepRecipe, means_a: dict[float, float], **bounds: Bound) -> SweepProgress:
    """Return a sweep whose recordings of some settings are bounds, named by their value; 10 µA are resolved."""
    made = []
    for value, mean_a in means_a.items():
        for number in range(recipe.repeats):
            bound = bounds.get(f"at_{value:g}")
            made.append(SweepRecording((value,), f"{value}-{number}", mean_a * (1 + number / 1e3), 0, 60, bound, 1e-5))
    return SweepProgress(recipe, recordings=tuple(made))


def test_what_is_below_the_resolution_is_chosen_by_the_most_it_may_be(tmp_path: Path) -> None:
    recipe = SweepRecipe((INTERVAL,), 2, search=Search.GRID, console="socket://127.0.0.1:1")
    with Session.open_or_create(tmp_path / "post") as session:
        below = progress_of(recipe, {60.0: 3e-5, 90.0: 2e-5, 120.0: -1e-6}, at_120=Bound.BELOW)
        chosen = sweep_result(session, below).chosen
        assert chosen is not None
        assert (chosen.setting, chosen.mean.value, chosen.bound) == ((120.0,), 1e-5, Bound.AT_MOST)
        assert (chosen.life.bound, chosen.chance) == (Bound.AT_LEAST, None)
        assert chosen.saves_a is not None  # at least that, against the setting of today
        assert chosen.saves_a.value == pytest.approx(2e-5, rel=1e-2)
        hidden = progress_of(recipe, {60.0: 3e-5, 90.0: 5e-6, 120.0: 2e-5}, at_120=Bound.AT_LEAST)
        known = sweep_result(session, hidden)
        assert known.chosen is not None
        assert known.chosen.setting == (90.0,)
        assert known.chosen.chance is not None  # what is beyond the range draws more in any case
        open_ = sweep_result(session, progress_of(recipe, {60.0: 3e-5, 90.0: 2e-5, 120.0: 1e-5}, at_120=Bound.AT_LEAST))
        assert open_.chosen is not None
        assert (open_.chosen.setting, open_.chosen.chance) == ((90.0,), None)


@pytest.mark.parametrize(("floor_a", "is_resolved"), [(1e-6, False), (3e-5, True)])
def test_a_floor_that_the_instrument_does_not_resolve_is_no_figure(
    tmp_path: Path, floor_a: float, is_resolved: bool
) -> None:
    recipe = SweepRecipe((INTERVAL,), 2, search=Search.GRID, console="socket://127.0.0.1:1")
    means = {value: floor_a + 0.01 / value for value in (60.0, 90.0, 120.0)}
    with Session.open_or_create(tmp_path / "post") as session:
        (fit,) = sweep_result(session, progress_of(recipe, means)).fits
    assert (fit.floor_below is None) is is_resolved
    assert (fit.flattens_at is not None) is is_resolved
    assert fit.charge.value == pytest.approx(0.01, rel=0.01)


@settings(max_examples=40, deadline=None)
@given(missing=st.floats(0.0, 0.2), times=st.floats(1.0, 1000.0))
def test_what_is_missing_may_not_change_a_mean_by_a_hundredth(missing: float, times: float) -> None:
    mean_a = 1e-4
    reading = StretchReading(0.0, 60.0, 1 - missing, mean_a, 0.0, mean_a * times, mean_a * 60, None)
    why = why_not(reading, Figure(mean_a))
    highest_a = (1 - missing) * mean_a + missing * mean_a * times  # had all that is missing been as high as anything
    assert bool(why) is (max(highest_a / mean_a - 1, missing) > 0.01)


def test_it_stops_when_the_target_is_surely_met(bench: BenchServer, tmp_path: Path) -> None:
    asked = recipe_of(bench, stop=SweepStop(met=True), goal=SweepGoal(min_months=0.01))
    result = swept(tmp_path / "one", bench, asked)
    assert result.progress.ended == "the target is met"
    assert result.measured < 3
    assert result.chosen is not None
    assert result.chosen.low_s > 0.01 * MONTH_S
    hard = msgspec.structs.replace(asked, goal=SweepGoal(min_months=1000.0))
    assert swept(tmp_path / "two", bench, hard).measured == 3
    with pytest.raises(BadArgumentError, match="min_months"):
        check_sweep(msgspec.structs.replace(asked, goal=SweepGoal()))
