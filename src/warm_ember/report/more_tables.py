"""The tables of the pages beyond the run's own: what the Battery, Tune and Runs pages list, as Arrow tables."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Any

from warm_ember.attribution.relabelling import SplitBy
from warm_ember.errors import BadArgumentError
from warm_ember.session.fold_results import fold_run
from warm_ember.session.page_links import run_before
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import MOST_LEVELS
from warm_ember.units import MONTH_S

if TYPE_CHECKING:
    import pyarrow as pa

    from warm_ember.model.project import Project
    from warm_ember.session.session import Session
    from warm_ember.signal.series import ShouldStop

Rows = Iterable[Mapping[str, Any]]
_TEXT, _WHOLE, _NUMBER, _YES = "text", "whole", "number", "yes or no"


def _activities(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for cost in session.run(name, should_stop).load.costs:
        yield {
            "activity": cost.name, "charge_c": cost.charge_c, "duration_s": cost.duration_s, "peak_a": cost.peak_a,
            "rate_hz": cost.rate_hz, "grade": cost.grade.value, "origin": cost.origin,
        }  # fmt: skip


def _sources(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for row in session.results.wake_ledger(project, name, should_stop=should_stop).sources:
        low, high = row.charge.interval() or (None, None)
        yield {
            "source": row.source, "count": row.count, "rate_per_h": row.rate_per_h, "awake_s_mean": row.awake_s_mean,
            "charge_c_mean": row.charge_c_mean, "charge_c_mean_low": low, "charge_c_mean_high": high,
            "added_a": row.added_a,
        }  # fmt: skip


def _idle(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for row in session.results.wake_ledger(project, name, should_stop=should_stop).idle:
        yield {
            "mode": row.mode, "count": row.count, "time_s": row.time_s, "mean_a": row.mean_a,
            "too_shallow": row.too_shallow, "too_deep": row.too_deep, "lost_a": row.lost_a, "judged": row.judged,
        }  # fmt: skip


def _sensitivity(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for step in session.battery.steps(project, name, should_stop):
        yield {
            "parameter": step.name, "now": step.now, "worse": step.worse, "better": step.better,
            "worse_life_s": step.worse_s, "better_life_s": step.better_s,
        }  # fmt: skip


def _years(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for year in session.battery.in_years(project, name, should_stop).years:
        yield {
            "year": year.number, "from_s": year.from_s, "to_s": year.to_s, "charge_share": year.charge_share,
            "lowest_v": year.lowest_v, "margin_v": year.margin_v, "coldest_degc": year.coldest_c,
        }  # fmt: skip


def _effects(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for effect in session.battery.in_years(project, name, should_stop).effects:
        yield {"effect": effect.name, "takes_s": effect.takes_s, "why_not_included": effect.why_not}


def _tradeoffs(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for way in session.battery.tradeoffs(project, name, "", "", should_stop).ways:
        yield {"parameter": way.name, "now": way.now, "needed": way.needed, "factor": way.factor}


def _matrix(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    found = session.tuning.matrix(project, name, should_stop)
    for row in found.rows:
        for column, cell in zip(found.columns, row.cells, strict=True):
            yield {
                "part": row.name, "state": column.state, "mode": cell.mode, "power": cell.power.value,
                "current_a": cell.current_a,
            }  # fmt: skip


def _suggestions(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for one in session.tuning.plan(project, name, should_stop).suggestions:
        yield {"change": one.change.name, "words": one.words, "saved_a": one.saved_a, "gain_s": one.gain_s}


def _periods(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for one in session.tuning.periods(project, name, should_stop):
        yield {
            "of": one.name, "is_state": one.in_state, "period_s": one.period_s, "charge_c": one.charge_c,
            "floor_a": one.floor_a, "times": one.times,
        }  # fmt: skip


def _proofs(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for proof in session.tuning.proofs(project, name, should_stop):
        yield {
            "before": proof.before, "after": proof.after, "changes": "; ".join(one.name for one in proof.changes),
            "before_a": proof.before_a, "predicted_a": proof.predicted_a, "measured_a": proof.measured_a,
            "is_proved": proof.is_proved,
        }  # fmt: skip


def _differences(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    before = run_before(project, name)
    if not before:
        raise BadArgumentError(f"{name} has no run before it to be compared with")
    found = session.tuning.compare(project, before, name, should_stop)
    groups = (("average", (found.average,)), ("state", found.states), ("source", found.sources),
              ("activity", found.activities))  # fmt: skip
    for group, rows in groups:
        for one in rows:
            yield {
                "of": group, "name": one.name, "before": before, "before_a": one.before_a, "after_a": one.after_a,
                "change_a": one.change_a, "change_a_low": one.low_a, "change_a_high": one.high_a, "real": one.is_real,
            }  # fmt: skip


def _runs(session: Session, project: Project, _name: str, should_stop: ShouldStop) -> Rows:
    for run in project.runs:
        found = session.run(run.name, should_stop)
        yield {
            "run": run.name, "title": run.title, "changed": run.changed, "kind": run.kind.value, "note": run.note,
            "recorded_utc": found.capture.info.start_utc, "duration_s": found.capture.duration_s,
            "mean_a": found.load.mean_a, "life_months": found.life.life_s / MONTH_S,
        }  # fmt: skip


def _quality(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    shown = session.quality.shown(project, name, should_stop)
    for row in shown.by_effect:
        yield {"what": row.word, "is_fault": True, "words": row.text, "confidence": row.confidence}
    for one in shown.passed:
        yield {"what": one.what, "is_fault": False, "words": one.words, "confidence": ""}


def _granted_timers(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for one in session.tuning.asked(project, name, should_stop):
        yield {
            "at_s": one.at_s, "requested_active_s": one.asked.active_s, "granted_active_s": one.granted.active_s,
            "requested_periodic_s": one.asked.periodic_s, "granted_periodic_s": one.granted.periodic_s,
        }  # fmt: skip


def _levels(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    found = session.states.level_stays(project, name, MOST_LEVELS, should_stop=should_stop)
    for index, level_a in enumerate(found.levels.centres_a.tolist()):
        yield {
            "level": found.levels.name_of(index), "level_a": level_a, "stays": int(found.stays[index]),
            "usual_s": float(found.usual_s[index]), "time_s": float(found.time_s[index]),
            "charge_c": float(found.charge_c[index]),
        }  # fmt: skip


def _expected(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    for row in session.results.ledger(project, name, should_stop).rows:
        entered = project.expected_of(row.name)
        if entered is not None and row.expected is not None:
            yield {
                "state": row.name, "expected_a": row.expected.current_a, "tolerance_share": entered.tolerance,
                "condition": entered.condition, "source": entered.source, "measured_a": row.mean.value,
                "parts": "; ".join(f"{one.part} {one.mode}" for one in entered.parts), "verdict": row.verdict.value,
            }  # fmt: skip


def _corrections(session: Session, _project: Project, name: str, _should_stop: ShouldStop) -> Rows:
    for words in session.capture(name).info.corrections:
        yield {"correction": words}


def _wake_plan(_session: Session, project: Project, _name: str, _should_stop: ShouldStop) -> Rows:
    for path in project.wake_plan.paths:
        yield {
            "source": path.source, "domain": path.domain, "oscillator": path.oscillator, "pin": path.pin,
            "trigger": path.trigger.value, "rest": path.rest.value, "pull": path.pull.value, "enabled": path.enabled,
            "wired": path.wired, "rearmed": path.rearmed, "is_reset": path.is_reset, "loses": path.loses,
            "reacts_s": path.reacts_s,
        }  # fmt: skip


def _entries(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    current, placement = session.capture(name).current, session.results.placement(project, name, should_stop)
    sums, interval_s = interval_sums(current, placement.edges, should_stop=should_stop), current.interval_s
    names = [*placement.names, "unplaced"]
    for number, state in enumerate(placement.state.tolist()):
        first, last = int(placement.edges[number]), int(placement.edges[number + 1])
        is_measured = bool(sums.count[number])
        yield {
            "state": names[state], "from_s": first * interval_s, "dwell_s": (last - first) * interval_s,
            "mean_a": float(sums.mean[number]) if is_measured else None,
            "peak_a": float(sums.high[number]) if is_measured else None,
            "charge_c": float(sums.total[number]) * interval_s,
            "coverage_share": int(sums.count[number]) / (last - first),
        }  # fmt: skip


def _state_parts(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    kinds = {event.event for event in session.capture(name).events}
    ways = [SplitBy.ENTRY, SplitBy.BEFORE, *(by for by in (SplitBy.WAKE, SplitBy.MARK) if by.value in kinds)]
    for whole in session.results.ledger(project, name, should_stop).rows:
        for by in ways:
            for row in session.states.sub_rows(project, name, whole.name, by, should_stop):
                yield {
                    "state": whole.name, "split_by": by.value, "part": row.name.removeprefix(f"{whole.name}: "),
                    "entries": row.entries, "dwell_s": row.dwell_s, "mean_a": row.mean.value,
                    "mean_a_low": row.mean.low, "mean_a_high": row.mean.high, "peak_a": row.peak_a,
                    "charge_c": row.charge_c,
                    "charge_share": row.charge_c / whole.charge_c if whole.charge_c else None,
                }  # fmt: skip


def _idle_stretches(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    depth = session.results.wake_ledger(project, name, should_stop=should_stop).depth
    found, interval_s = depth.stretches, session.capture(name).current.interval_s
    for number, mode in enumerate(found.mode.tolist()):
        yield {
            "from_s": int(found.first[number]) * interval_s, "lasts_s": float(found.lasts_s[number]),
            "charge_c": float(found.charge_c[number]), "mode": depth.modes[mode].name,
            "best_mode": depth.modes[int(depth.best[number])].name, "lost_c": float(depth.lost_c[number]),
            "is_whole": bool(found.is_whole[number]), "in_wake": bool(found.in_wakes[number]),
        }  # fmt: skip


def _odd_cycles(session: Session, project: Project, name: str, should_stop: ShouldStop) -> Rows:
    plan = session.results.fold_plan(project, name, should_stop)
    for one in fold_run(session, project, name, plan, should_stop).odd:
        yield {
            "cycle": one.index + 1, "at_s": one.time_s, "charge_c": one.charge_c, "difference_c": one.difference_c,
            "spreads_factor": one.spreads,
        }  # fmt: skip


def _set_up(_session: Session, project: Project, _name: str, _should_stop: ShouldStop) -> Rows:
    volts = project.bench.settings.voltage_v or project.supply_v
    for one in project.bench.attached:
        is_known = one.ohm is None or volts is not None
        yield {
            "load": one.name, "detail": one.detail, "current_a": one.current_a, "resistance_ohm": one.ohm,
            "at_v": volts, "draws_a": one.draws_a(volts or 0.0) if is_known else None, "subtracted": one.subtracted,
            "present": one.present, "grade": one.grade.value,
        }  # fmt: skip


def _recipes(_session: Session, project: Project, _name: str, _should_stop: ShouldStop) -> Rows:
    from warm_ember.bench.recipe_run import step_words

    for recipe in project.bench.recipes:
        for number, step in enumerate(recipe.steps, 1):
            yield {
                "recipe": recipe.name, "step": number, "words": step_words(step),
                "voltage_v": recipe.settings.voltage_v, "limit_a": recipe.settings.limit_a,
                "interval_s": recipe.settings.interval_s,
            }  # fmt: skip


Compute = Callable[["Session", "Project", str, "ShouldStop"], Rows]
_N, _T, _W, _B = _NUMBER, _TEXT, _WHOLE, _YES
_TABLES: dict[str, tuple[Compute, dict[str, str]]] = {
    "sources": (_sources, {"source": _T, "count": _W, "rate_per_h": _N, "awake_s_mean": _N, "charge_c_mean": _N,
                           "charge_c_mean_low": _N, "charge_c_mean_high": _N, "added_a": _N}),
    "idle": (_idle, {"mode": _T, "count": _W, "time_s": _N, "mean_a": _N, "too_shallow": _W, "too_deep": _W,
                     "lost_a": _N, "judged": _W}),
    "quality": (_quality, {"what": _T, "is_fault": _B, "words": _T, "confidence": _T}),
    "activities": (_activities, {"activity": _T, "charge_c": _N, "duration_s": _N, "peak_a": _N, "rate_hz": _N,
                                 "grade": _T, "origin": _T}),
    "sensitivity": (_sensitivity, {"parameter": _T, "now": _T, "worse": _T, "better": _T, "worse_life_s": _N,
                                   "better_life_s": _N}),
    "years": (_years, {"year": _W, "from_s": _N, "to_s": _N, "charge_share": _N, "lowest_v": _N, "margin_v": _N,
                       "coldest_degc": _N}),
    "effects": (_effects, {"effect": _T, "takes_s": _N, "why_not_included": _T}),
    "trade-offs": (_tradeoffs, {"parameter": _T, "now": _T, "needed": _T, "factor": _N}),
    "matrix": (_matrix, {"part": _T, "state": _T, "mode": _T, "power": _T, "current_a": _N}),
    "suggestions": (_suggestions, {"change": _T, "words": _T, "saved_a": _N, "gain_s": _N}),
    "periods": (_periods, {"of": _T, "is_state": _B, "period_s": _N, "charge_c": _N, "floor_a": _N, "times": _W}),
    "granted-timers": (_granted_timers, {"at_s": _N, "requested_active_s": _N, "granted_active_s": _N,
                                         "requested_periodic_s": _N, "granted_periodic_s": _N}),
    "levels": (_levels, {"level": _T, "level_a": _N, "stays": _W, "usual_s": _N, "time_s": _N, "charge_c": _N}),
    "expected": (_expected, {"state": _T, "expected_a": _N, "tolerance_share": _N, "condition": _T, "source": _T,
                             "measured_a": _N, "parts": _T, "verdict": _T}),
    "corrections": (_corrections, {"correction": _T}),
    "wake-plan": (_wake_plan, {"source": _T, "domain": _T, "oscillator": _T, "pin": _T, "trigger": _T, "rest": _T,
                               "pull": _T, "enabled": _B, "wired": _B, "rearmed": _B, "is_reset": _B, "loses": _T,
                               "reacts_s": _N}),
    "proof": (_proofs, {"before": _T, "after": _T, "changes": _T, "before_a": _N, "predicted_a": _N, "measured_a": _N,
                        "is_proved": _B}),
    "comparison": (_differences, {"of": _T, "name": _T, "before": _T, "before_a": _N, "after_a": _N, "change_a": _N,
                                  "change_a_low": _N, "change_a_high": _N, "real": _B}),
    "entries": (_entries, {"state": _T, "from_s": _N, "dwell_s": _N, "mean_a": _N, "peak_a": _N, "charge_c": _N,
                           "coverage_share": _N}),
    "state-parts": (_state_parts, {"state": _T, "split_by": _T, "part": _T, "entries": _W, "dwell_s": _N, "mean_a": _N,
                                   "mean_a_low": _N, "mean_a_high": _N, "peak_a": _N, "charge_c": _N,
                                   "charge_share": _N}),
    "idle-stretches": (_idle_stretches, {"from_s": _N, "lasts_s": _N, "charge_c": _N, "mode": _T, "best_mode": _T,
                                         "lost_c": _N, "is_whole": _B, "in_wake": _B}),
    "odd-cycles": (_odd_cycles, {"cycle": _W, "at_s": _N, "charge_c": _N, "difference_c": _N, "spreads_factor": _N}),
    "loads": (_set_up, {"load": _T, "detail": _T, "current_a": _N, "resistance_ohm": _N, "at_v": _N, "draws_a": _N,
                        "subtracted": _B, "present": _B, "grade": _T}),
    "recipes": (_recipes, {"recipe": _T, "step": _W, "words": _T, "voltage_v": _N, "limit_a": _N, "interval_s": _N}),
    "runs": (_runs, {"run": _T, "title": _T, "changed": _T, "kind": _T, "note": _T, "recorded_utc": _T,
                     "duration_s": _N, "mean_a": _N, "life_months": _N}),
}  # fmt: skip


def more_table(session: Session, name: str, what: str, should_stop: ShouldStop) -> pa.Table:
    """Return a table of a page, with its columns also where it has no row.

    Raises
    ------
    BadArgumentError
        If there is nothing to compare the run with.
    """
    import pyarrow as pa

    compute, columns = _TABLES[what]
    types = {_TEXT: pa.string(), _WHOLE: pa.int64(), _NUMBER: pa.float64(), _YES: pa.bool_()}
    schema = pa.schema([pa.field(column, types[kind]) for column, kind in columns.items()])
    return pa.Table.from_pylist([dict(row) for row in compute(session, session.project, name, should_stop)], schema)
