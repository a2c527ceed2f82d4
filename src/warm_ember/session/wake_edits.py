"""Edits of what the project says of wakes and sleep."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import msgspec

from warm_ember.attribution.wake_ledger import SourceRow
from warm_ember.errors import BadArgumentError
from warm_ember.model.battery import Activity, FromWakes, Typed
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.project import Edit, Project
from warm_ember.model.wake_plan import WakePlan
from warm_ember.model.wakes import SleepMode, WakeSource
from warm_ember.units import DAY_S

replace = msgspec.structs.replace


def change_source(name: str, **changes: Any) -> Edit:
    """Change fields of a source, known or new."""

    def edit(project: Project) -> Project:
        return _with_source(project, replace(_source(project, name), **changes))

    return edit


def rename(old: str, new: str) -> Edit:
    """Give a source another name everywhere; naming it like another joins the two."""

    def edit(project: Project) -> Project:
        mine, other = _source(project, old), next((s for s in project.wake_sources if s.name == new), None)
        parts = tuple(s for s in project.wake_sources if s.name != old)
        takes = tuple(dict.fromkeys((*(other.takes if other is not None else (new,)), *mine.takes)))
        # A part of a source stays a part; joined with another it is all of what both take.
        joined = replace(other or mine, name=new, of=mine.takes if other is None and not mine.is_all else takes)
        if other is not None:
            joined = replace(joined, ran="", period_s=0.0) if not (mine.is_all and other.is_all) else joined
        project = replace(project, wake_sources=parts)
        return replace(
            _with_source(project, joined),
            activities=tuple(_renamed(activity, old, new) for activity in project.activities),
            wake_plan=_path_renamed(project.wake_plan, old, new),
            folds=tuple(replace(f, what=new) if _is_on(f, old) else f for f in project.folds),
        )

    return edit


def split(source: str, part: WakeSource) -> Edit:
    """Make a part of a source one of its own."""

    def edit(project: Project) -> Project:
        return _with_source(project, replace(part, of=_source(project, source).takes))

    return edit


def as_logged(project: Project) -> Project:
    """Forget other names, joins and splits; slacks and deadlines of sources that the log names stay."""
    kept = tuple(replace(s, of=()) for s in project.wake_sources if s.is_all and s.takes == (s.name,))
    return replace(project, wake_sources=kept)


def set_mode(mode: SleepMode) -> Edit:
    """Say what a sleep mode takes."""

    def edit(project: Project) -> Project:
        if any(other.name == mode.name for other in project.sleep_modes):
            changed = tuple(mode if other.name == mode.name else other for other in project.sleep_modes)
            return replace(project, sleep_modes=changed)
        return replace(project, sleep_modes=(*project.sleep_modes, mode))

    return edit


def drop_mode(name: str) -> Edit:
    """Forget what was said of a sleep mode."""

    def edit(project: Project) -> Project:
        return replace(project, sleep_modes=tuple(mode for mode in project.sleep_modes if mode.name != name))

    return edit


def _source(project: Project, name: str) -> WakeSource:
    return next((source for source in project.wake_sources if source.name == name), WakeSource(name))


def _with_source(project: Project, source: WakeSource) -> Project:
    if any(other.name == source.name for other in project.wake_sources):
        changed = tuple(source if other.name == source.name else other for other in project.wake_sources)
        return replace(project, wake_sources=changed)
    return replace(project, wake_sources=(*project.wake_sources, source))


def _path_renamed(plan: WakePlan, old: str, new: str) -> WakePlan:
    """Rename a source's way to the core; of two that become one the way of the name that stays counts."""
    if any(path.source == new for path in plan.paths):
        return replace(plan, paths=tuple(path for path in plan.paths if path.source != old))
    return replace(plan, paths=tuple(replace(p, source=new) if p.source == old else p for p in plan.paths))


def _is_on(fold: FoldPlan, source: str) -> bool:
    return fold.by is AlignBy.WAKE and fold.what == source


def _renamed(activity: Activity, old: str, new: str) -> Activity:
    source = activity.source
    if not isinstance(source, FromWakes) or source.wake_source != old:
        return activity
    return replace(activity, source=replace(source, wake_source=new))


@dataclass(frozen=True)
class Batched:
    """An activity in another form, and what that costs in latency.

    Parameters
    ----------
    activity
        As it would be.
    late_s
        How much later the first of a batch is dealt with.
    """

    activity: Activity
    late_s: float


def batched(activity: Activity, row: SourceRow, overhead_c: float, count: int) -> Batched:
    """Deal with several samples in one wake: waking is paid once, the work for each.

    Parameters
    ----------
    activity
        The wakes by the source as an activity.
    row
        What they take.
    overhead_c
        What restarting or resuming takes of it.
    count
        Samples in a wake.

    Raises
    ------
    BadArgumentError
        If the count is no whole number of 2 or more, or the activity follows another.
    """
    if count < 2:
        raise BadArgumentError(f"a batch has 2 samples or more, found {count}")
    work_c = row.charge_c_mean - overhead_c
    source = Typed(overhead_c + count * work_c, row.awake_s_mean * count)
    return Batched(
        _rarer(activity, f"{activity.name}, {count} at once", source, count), _apart_s(activity) * (count - 1)
    )


def without_core(activity: Activity, row: SourceRow, charge_c: float) -> Activity:
    """Let hardware of its own do it as often as before, at another charge each time, while the core sleeps on.

    Raises
    ------
    BadArgumentError
        If the charge is negative, or the activity follows another.
    """
    if not charge_c >= 0:
        raise BadArgumentError(f"the charge must be 0 or more, found {charge_c}")
    return _rarer(activity, f"{activity.name}, without the core", Typed(charge_c, row.awake_s_mean), 1)


def _rarer(activity: Activity, name: str, source: Typed, times: int) -> Activity:
    apart_s = _apart_s(activity)
    if activity.interval_s is not None:
        return replace(activity, name=name, source=source, interval_s=apart_s * times)
    return replace(activity, name=name, source=source, per_day=(activity.per_day or 0.0) / times)


def _apart_s(activity: Activity) -> float:
    if activity.interval_s is not None:
        return activity.interval_s
    if not activity.per_day:
        raise BadArgumentError(f"{activity.name} has no rate of its own to batch: give it one")
    return DAY_S / activity.per_day
