"""The edits: functions from one project to the next."""

from __future__ import annotations

import string
from dataclasses import dataclass
from typing import Any

import msgspec

from warm_ember.battery.cells import library
from warm_ember.model.band_limit import BandLimit
from warm_ember.model.battery import Activity, FromStates
from warm_ember.model.figure import Grade
from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.model.parts import PartLibrary
from warm_ember.model.plan import PlannedChange, ReplaceState
from warm_ember.model.project import Bracket, Edit, ExpectedValue, Note, Project, StateGroup, TypedClock
from warm_ember.model.rules import BandRule, HandRule, KindsRule, LevelsRule, LineRule, LogRule, Rule
from warm_ember.model.wakes import SleepMode

replace = msgspec.structs.replace


def next_letter(project: Project, capture: str) -> str:
    """Return the first letter that no bracket on a capture has; after Z come AA, AB and so on."""
    used = {bracket.letter for bracket in project.brackets_of(capture)}
    letters = string.ascii_uppercase
    names = [*letters, *(a + b for a in letters for b in letters)]
    return next((name for name in names if name not in used), "?")


def add_bracket(capture: str, from_s: float, to_s: float, name: str = "") -> Edit:
    """Add a bracket to a capture."""

    def edit(project: Project) -> Project:
        bracket = Bracket(next_letter(project, capture), capture, from_s, to_s, name)
        return replace(project, brackets=(*project.brackets, bracket))

    return edit


def change_bracket(capture: str, letter: str, **changes: Any) -> Edit:
    """Change fields of one bracket."""

    def edit(project: Project) -> Project:
        changed = tuple(
            replace(b, **changes) if (b.capture, b.letter) == (capture, letter) else b for b in project.brackets
        )
        return replace(project, brackets=changed)

    return edit


def drop_bracket(capture: str, letter: str) -> Edit:
    """Remove one bracket."""

    def edit(project: Project) -> Project:
        kept = tuple(b for b in project.brackets if (b.capture, b.letter) != (capture, letter))
        return replace(project, brackets=kept)

    return edit


def set_note(note: Note, old: Note | None = None) -> Edit:
    """Add a note, or put it in place of one; a note without words is removed.

    Parameters
    ----------
    note
        As it is to be.
    old
        As it was; None for a new one.
    """

    def edit(project: Project) -> Project:
        kept = tuple(one for one in project.notes if one not in (old, note))
        return replace(project, notes=(*kept, note) if note.text.strip() else kept)

    return edit


def set_fold(plan: FoldPlan) -> Edit:
    """Say how a capture is folded."""

    def edit(project: Project) -> Project:
        others = tuple(other for other in project.folds if other.capture != plan.capture)
        return replace(project, folds=(*others, plan))

    return edit


def set_band_limit(limit: BandLimit) -> Edit:
    """Show a channel of a capture with its band limited."""

    def edit(project: Project) -> Project:
        return replace(project, band_limits=(*_other_limits(project, limit.capture, limit.channel), limit))

    return edit


def drop_band_limit(capture: str, channel: str) -> Edit:
    """Show a channel of a capture as it was measured again."""

    def edit(project: Project) -> Project:
        return replace(project, band_limits=_other_limits(project, capture, channel))

    return edit


def _other_limits(project: Project, capture: str, channel: str) -> tuple[BandLimit, ...]:
    return tuple(limit for limit in project.band_limits if (limit.capture, limit.channel) != (capture, channel))


def add_parts(library: PartLibrary) -> Edit:
    """Add parts and their rules; those of the same name, and rules on them, take the place of known ones."""

    def edit(project: Project) -> Project:
        names = {part.name for part in library.parts}
        parts = (*(part for part in project.parts if part.name not in names), *library.parts)
        rules = (*(rule for rule in project.power_rules if rule.when.part not in names), *library.rules)
        return replace(project, parts=parts, power_rules=rules)

    return edit


def expect(values: tuple[ExpectedValue, ...]) -> Edit:
    """Say what states should draw, in place of what was said of the same states."""

    def edit(project: Project) -> Project:
        named = {value.state for value in values}
        return replace(project, expected=(*(one for one in project.expected if one.state not in named), *values))

    return edit


def set_group(state: str, group: str) -> Edit:
    """Read a state with others; an empty group takes it out of its own."""

    def edit(project: Project) -> Project:
        members = {one.name: tuple(name for name in one.states if name != state) for one in project.groups}
        if group:
            members[group] = (*members.get(group, ()), state)
        return replace(project, groups=tuple(StateGroup(name, states) for name, states in members.items() if states))

    return edit


def set_clock(clock: TypedClock) -> Edit:
    """Lay the log of a capture on it by a map that is typed."""

    def edit(project: Project) -> Project:
        return replace(project, clocks=(*_other_clocks(project, clock.capture), clock))

    return edit


def find_clock(capture: str) -> Edit:
    """Let the map from log to capture be found again."""

    def edit(project: Project) -> Project:
        return replace(project, clocks=_other_clocks(project, capture))

    return edit


def _other_clocks(project: Project, capture: str) -> tuple[TypedClock, ...]:
    return tuple(clock for clock in project.clocks if clock.capture != capture)


def add_rule(rule: Rule, defaults: tuple[Rule, ...]) -> Edit:
    """Add a placement rule.

    Parameters
    ----------
    rule
        The new rule. It goes before the rules that place whatever is left, so that it can take from them.
    defaults
        The rules that held while the project had none; they are written down, so that they go on holding.
    """

    def edit(project: Project) -> Project:
        rules = project.rules or defaults
        first = next((i for i, other in enumerate(rules) if _places_all(other)), len(rules))
        return replace(project, rules=(*rules[:first], rule, *rules[first:]))

    return edit


def _places_all(rule: Rule) -> bool:
    if isinstance(rule, LogRule):
        return not rule.event_name
    if isinstance(rule, LineRule):
        return rule.is_all
    return isinstance(rule, LevelsRule | KindsRule)


def drop_rule(rule: Rule) -> Edit:
    """Remove a placement rule; without any left the defaults hold again."""

    def edit(project: Project) -> Project:
        return replace(project, rules=tuple(other for other in project.rules if other != rule))

    return edit


def put_first(rule: Rule) -> Edit:
    """Let a rule count before all others but strokes by hand, which always do."""

    def edit(project: Project) -> Project:
        others = tuple(other for other in project.rules if other != rule)
        return replace(project, rules=(rule, *others)) if len(others) < len(project.rules) else project

    return edit


def place_rest_by(base: Rule) -> Edit:
    """Choose what places whatever no particular rule places: the log, the lines, or levels found."""

    def edit(project: Project) -> Project:
        kept = tuple(rule for rule in project.rules if not _places_all(rule))
        return replace(project, rules=(*kept, base))

    return edit


def rename_state(old: str, new: str, defaults: tuple[Rule, ...], logged_modes: frozenset[str] = frozenset()) -> Edit:
    """Give a state another name everywhere; naming it like another state joins the two.

    What log, lines or levels call it themselves stays in the rule that translates it.

    Parameters
    ----------
    old, new
        The names.
    defaults
        The rules that held while the project had none; they are written down, so that they go on holding.
    logged_modes
        Sleep modes that the log names: one that is called like the state keeps its name.
    """

    def edit(project: Project) -> Project:
        if old == new:
            return project
        rules = [_renamed(rule, old, new) for rule in project.rules or defaults]
        if any(isinstance(rule, LogRule) and not rule.event_name for rule in rules) and not any(
            isinstance(rule, LogRule) and rule.event_name and rule.state == new for rule in rules
        ):
            first = next(i for i, r in enumerate(rules) if isinstance(r, LogRule) and not r.event_name)
            rules.insert(first, LogRule(old, new))
        expected = tuple(replace(e, state=new) if e.state == old else e for e in project.expected)
        modes = project.sleep_modes
        return replace(
            project,
            rules=tuple(rules),
            activities=tuple(_activity_renamed(activity, old, new) for activity in project.activities),
            expected=_first_of_each(expected),
            groups=_groups_renamed(project.groups, old, new),
            folds=tuple(_fold_renamed(fold, old, new) for fold in project.folds),
            wake_sources=tuple(replace(s, ran=new) if s.ran == old else s for s in project.wake_sources),
            sleep_modes=modes if old in logged_modes else _modes_renamed(modes, old, new),
            plan=replace(project.plan, changes=tuple(_change_renamed(c, old, new) for c in project.plan.changes)),
        )

    return edit


def _groups_renamed(groups: tuple[StateGroup, ...], old: str, new: str) -> tuple[StateGroup, ...]:
    """Put the new name in the place of the old one; a state that is in a group already stays in that alone."""
    if any(new in group.states for group in groups):
        kept = (replace(group, states=tuple(name for name in group.states if name != old)) for group in groups)
        return tuple(group for group in kept if group.states)
    return tuple(replace(g, states=tuple(new if name == old else name for name in g.states)) for g in groups)


def _fold_renamed(fold: FoldPlan, old: str, new: str) -> FoldPlan:
    return replace(fold, what=new) if fold.by is AlignBy.STATE and fold.what == old else fold


def _modes_renamed(modes: tuple[SleepMode, ...], old: str, new: str) -> tuple[SleepMode, ...]:
    """Rename the mode that is a state in which something idles, which is called like it."""
    if any(mode.name == new for mode in modes):
        return tuple(mode for mode in modes if mode.name != old)
    return tuple(replace(mode, name=new) if mode.name == old else mode for mode in modes)


def _change_renamed(change: PlannedChange, old: str, new: str) -> PlannedChange:
    effects = []
    for effect in change.effects:
        if getattr(effect, "state", None) == old:
            effect = replace(effect, state=new)
        if isinstance(effect, ReplaceState) and effect.name == old:
            effect = replace(effect, name=new)
        effects.append(effect)
    return replace(change, effects=tuple(effects))


def _renamed(rule: Rule, old: str, new: str) -> Rule:
    if isinstance(rule, LevelsRule | KindsRule) or (isinstance(rule, LineRule) and rule.is_all):
        renamed = {own: new if name == old else name for own, name in rule.names.items()}
        return replace(rule, names=renamed if old in rule.names.values() else {**renamed, old: new})
    if isinstance(rule, BandRule | HandRule):
        return replace(rule, state=new) if rule.state == old else rule
    return replace(rule, state=new) if rule.state == old and rule.state else rule


def _activity_renamed(activity: Activity, old: str, new: str) -> Activity:
    source = activity.source
    if not isinstance(source, FromStates):
        return activity
    states = tuple(dict.fromkeys(new if name == old else name for name in source.states))
    return replace(activity, source=replace(source, states=states, per=new if source.per == old else source.per))


def _first_of_each(expected: tuple[ExpectedValue, ...]) -> tuple[ExpectedValue, ...]:
    return tuple({value.state: value for value in reversed(expected)}.values())[::-1]


def set_expected(value: ExpectedValue | None, state: str) -> Edit:
    """Say what a state should draw, or with None that nothing is known."""

    def edit(project: Project) -> Project:
        others = tuple(e for e in project.expected if e.state != state)
        return replace(project, expected=others if value is None else (*others, value))

    return edit


def set_activity(activity: Activity, old_name: str = "") -> Edit:
    """Add an activity, or replace the one of the old name in its place."""

    def edit(project: Project) -> Project:
        wanted = old_name or activity.name
        if any(other.name == wanted for other in project.activities):
            changed = tuple(
                activity
                if other.name == wanted
                else replace(other, follows=activity.name)
                if other.follows == wanted
                else other
                for other in project.activities
            )
            return replace(project, activities=changed)
        return replace(project, activities=(*project.activities, activity))

    return edit


def drop_activity(name: str) -> Edit:
    """Remove an activity; what followed it comes as often as it did."""

    def edit(project: Project) -> Project:
        gone = next((one for one in project.activities if one.name == name), None)
        if gone is None:
            return project
        often = {"interval_s": gone.interval_s, "per_day": gone.per_day, "follows": gone.follows}
        kept = (one for one in project.activities if one is not gone)
        return replace(project, activities=tuple(replace(a, **often) if a.follows == name else a for a in kept))

    return edit


@dataclass(frozen=True)
class SetFields:
    """Fields of one part of the project to change: its battery, supply, settings, or the project itself."""

    part: str
    fields: dict[str, Any]

    def __call__(self, project: Project) -> Project:
        """Make the change."""
        if self.part == "project":
            return replace(project, **self.fields)
        return replace(project, **{self.part: replace(getattr(project, self.part), **self.fields)})


def change_feed(part: str, field: str, value: object) -> Edit:
    """Change a field of the battery, the supply or the project; a chosen cell brings its typical figures along."""
    if part != "battery":
        return SetFields(part, {field: value})

    def edit(project: Project) -> Project:
        battery = project.battery
        fields: dict[str, Any] = {field: value, "grade": Grade.ENTERED}
        fields["typical"] = tuple(name for name in battery.typical if name != field)
        if field == "cell":
            fields["resistance_ohm"] = None
            cell = library().get(str(value))
            if cell is not None and cell.capacity_c is not None:
                fields["capacity_c"] = cell.capacity_c * battery.parallel
                fields["self_discharge_per_year"] = cell.self_discharge_per_year
                fields["typical"] = ("capacity_c", "self_discharge_per_year")
        if field == "parallel" and "capacity_c" in battery.typical and isinstance(value, int):
            fields["capacity_c"] = battery.capacity_c / battery.parallel * value
        return SetFields("battery", fields)(project)

    return edit


def change_run(name: str, **changes: Any) -> Edit:
    """Change fields of one run."""

    def edit(project: Project) -> Project:
        return replace(project, runs=tuple(replace(r, **changes) if r.name == name else r for r in project.runs))

    return edit
