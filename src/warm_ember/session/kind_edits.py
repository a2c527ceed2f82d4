"""Edits of what the project says of kinds of wakes, and the battery's model that they make."""

from __future__ import annotations

import msgspec

from warm_ember.attribution.kinds import Kind
from warm_ember.model.battery import Activity, FromWakes
from warm_ember.model.kinds import Likeness, SortedWake, WakeKind, letter_label, letter_of
from warm_ember.model.project import Edit, Project
from warm_ember.model.rules import KindsRule
from warm_ember.session.edits import place_rest_by, rename_state
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.wake_edits import rename as rename_source
from warm_ember.signal.recurrence import Manner
from warm_ember.units import DAY_S

replace = msgspec.structs.replace


def keep_kinds(shown: KindsShown) -> Edit:
    """Let the project know the kinds of a run, so that other captures' wakes are recognised by them."""
    return lambda project: replace(project, wake_kinds=kinds_known(project.wake_kinds, shown))


def kinds_known(known: tuple[WakeKind, ...], shown: KindsShown) -> tuple[WakeKind, ...]:
    """Return the kinds that are known with those of a run that are not yet."""
    letters = {kind.letter for kind in known}
    fresh = (kind for kind in shown.kinds.kinds if kind.letter not in letters)
    return (*known, *(WakeKind(kind.letter, kind.name, (shown.likes[kind.letter],)) for kind in fresh))


def name_kind(shown: KindsShown, letter: str, name: str) -> Edit:
    """Give a kind a name; what was made of its wakes follows."""

    def edit(project: Project) -> Project:
        project = keep_kinds(shown)(project)
        old = project.wake_kind(letter)
        before = old.label if old is not None else letter_label(letter)
        project = _changed(project, letter, name=name.strip())
        after = name.strip() or letter_label(letter)
        sources = project.wake_sources
        renamed = rename_source(before, after)(project) if before != after else project
        # A kind is no source of a log: nothing has to be taken together under its name.
        renamed = replace(renamed, wake_sources=sources)
        if before != after and any(isinstance(rule, KindsRule) for rule in project.rules):
            renamed = replace(rename_state(before, after, ())(renamed), rules=project.rules)
        return renamed

    return edit


def join_kinds(shown: KindsShown, letter: str, into: str) -> Edit:
    """Make one kind of two: the wakes of the first are of the second from now on."""

    def edit(project: Project) -> Project:
        project = keep_kinds(shown)(project)
        mine, other = project.wake_kind(letter), project.wake_kind(into)
        if mine is None or other is None or letter == into:
            return project
        kept = tuple(kind for kind in project.wake_kinds if kind.letter != letter)
        moved = tuple(replace(one, letter=into) if one.letter == letter else one for one in project.sorted_wakes)
        project = replace(project, wake_kinds=kept, sorted_wakes=moved)
        return _changed(project, into, likes=(*other.likes, *mine.likes))

    return edit


def split_kind(shown: KindsShown, times_s: tuple[float, ...], like: Likeness) -> Edit:
    """Make some wakes of a run a kind of their own, by which those like them are recognised elsewhere."""

    def edit(project: Project) -> Project:
        project = keep_kinds(shown)(project)
        taken = {kind.letter for kind in project.wake_kinds}
        letter = next(one for one in map(letter_of, range(len(taken) + 1)) if one not in taken)
        project = replace(project, wake_kinds=(*project.wake_kinds, WakeKind(letter, "", (like,))))
        for at_s in times_s:
            project = sort_wake(shown, at_s, letter)(project)
        return project

    return edit


def sort_alone(shown: KindsShown, wake: int, name: str = "") -> Edit:
    """Make a wake that is like no other a kind of its own, with a name."""
    kinds, like = shown.kinds, shown.lone.get(wake)
    if like is None:
        return lambda project: project
    middle_s = float(kinds.first[wake] + kinds.last[wake]) / 2 * kinds.interval_s

    def edit(project: Project) -> Project:
        project = split_kind(shown, (middle_s,), like)(project)
        return _changed(project, project.wake_kinds[-1].letter, name=name.strip())

    return edit


def split_odd(shown: KindsShown, letter: str) -> Edit:
    """Make the odd ones of a kind, those on the side of the oddest, a kind of their own."""
    kinds, kind = shown.kinds, shown.kind(letter)
    odd = kind.odd if kind is not None else ()
    if kind is None or not odd:
        return lambda project: project
    above = kinds.charge_c[odd[0]] > kind.charge.value
    mine = [at for at in odd if (kinds.charge_c[at] > kind.charge.value) == above]
    times_s = tuple(float(kinds.first[at] + kinds.last[at]) / 2 * kinds.interval_s for at in mine)
    usual, charge_c = shown.likes[letter], float(kinds.charge_c[mine].mean())
    like = replace(usual, charge_c=charge_c, period_s=None)
    return split_kind(shown, times_s, like)


def sort_wake(shown: KindsShown, at_s: float, letter: str) -> Edit:
    """Say of one wake which kind it is; of an empty letter that it is like no other."""

    def edit(project: Project) -> Project:
        project = keep_kinds(shown)(project)
        kinds = shown.kinds

        def wake(time_s: float) -> int:
            return int((kinds.first * kinds.interval_s <= time_s).sum())

        others = tuple(
            one for one in project.sorted_wakes if one.capture != shown.capture or wake(one.at_s) != wake(at_s)
        )
        return replace(project, sorted_wakes=(*others, SortedWake(shown.capture, at_s, letter)))

    return edit


def place_by_kinds(shown: KindsShown) -> Edit:
    """Let the kinds of wakes be the states."""

    def edit(project: Project) -> Project:
        return place_rest_by(KindsRule())(keep_kinds(shown)(project))

    return edit


def forget_kinds(project: Project) -> Project:
    """Forget all that was said of kinds; they are found anew."""
    return replace(project, wake_kinds=(), sorted_wakes=())


def take_model(shown: KindsShown) -> Edit:
    """Make the kinds of a run the battery's activities, each as often as it comes."""

    def edit(project: Project) -> Project:
        project = keep_kinds(shown)(project)
        return replace(project, activities=tuple(_activity(kind, shown) for kind in shown.kinds.kinds))

    return edit


def _activity(kind: Kind, shown: KindsShown) -> Activity:
    """Return a kind's wakes as an activity."""
    how, source = kind.recurrence, FromWakes(kind.label)
    if how.manner is Manner.FOLLOWS:
        leader = next(one.label for one in shown.kinds.kinds if one.number == how.behind)
        return Activity(kind.label, source, follows=leader)
    if how.manner is Manner.TIMER:
        return Activity(kind.label, source, interval_s=how.timers[0].period_s)
    if how.manner is Manner.SKIPS:
        timer = how.timers[0]
        return Activity(kind.label, source, interval_s=timer.period_s, probability=timer.taken / timer.slots)
    by_timers = how.manner is Manner.TIMERS
    return Activity(kind.label, source, per_day=how.rate_hz * DAY_S, is_random=not by_timers)


def _changed(project: Project, letter: str, **changes: object) -> Project:
    kinds = tuple(replace(kind, **changes) if kind.letter == letter else kind for kind in project.wake_kinds)
    return replace(project, wake_kinds=kinds)
