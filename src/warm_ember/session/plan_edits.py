"""Edits of the plan: what is changed, in which order, and which run proves it."""

from __future__ import annotations

from msgspec.structs import replace

from warm_ember.model.parts import PartOn
from warm_ember.model.plan import PartTo, PlanLimits, PlannedChange
from warm_ember.model.project import Edit, ExpectedValue, Project
from warm_ember.model.wake_plan import ModePower


def _with_changes(project: Project, changes: tuple[PlannedChange, ...]) -> Project:
    return replace(project, plan=replace(project.plan, changes=changes))


def add_change(change: PlannedChange) -> Edit:
    """Take a change into the plan, last; one of the same name on the same run gives way."""

    def edit(project: Project) -> Project:
        kept = tuple(one for one in project.plan.changes if (one.name, one.on) != (change.name, change.on))
        return _with_changes(project, (*kept, change))

    return edit


def set_change(before: PlannedChange, after: PlannedChange) -> Edit:
    """Put a change in the place of another."""

    def edit(project: Project) -> Project:
        return _with_changes(project, tuple(after if one == before else one for one in project.plan.changes))

    return edit


def drop_change(change: PlannedChange) -> Edit:
    """Take a change out."""

    def edit(project: Project) -> Project:
        return _with_changes(project, tuple(one for one in project.plan.changes if one != change))

    return edit


def order_changes(order: tuple[PlannedChange, ...]) -> Edit:
    """Put some changes into an order; all others keep their places."""

    def edit(project: Project) -> Project:
        queue = [one for one in order if one in project.plan.changes]
        mine = set(map(id, (one for one in project.plan.changes if one in queue)))
        placed = tuple(queue.pop(0) if id(one) in mine else one for one in project.plan.changes)
        return _with_changes(project, placed)

    return edit


def move_change(change: PlannedChange, by: int, among: tuple[PlannedChange, ...]) -> Edit:
    """Move a change up or down among some."""
    order = list(among)
    at = order.index(change)
    to = min(max(at + by, 0), len(order) - 1)
    order.insert(to, order.pop(at))
    return order_changes(tuple(order))


def choose_changes(chosen: tuple[PlannedChange, ...], among: tuple[PlannedChange, ...]) -> Edit:
    """Leave only some of a number of changes in the plan; the others are kept beside it."""

    def edit(project: Project) -> Project:
        changes = tuple(replace(one, is_planned=one in chosen) if one in among else one for one in project.plan.changes)
        return _with_changes(project, changes)

    return edit


def set_limits(limits: PlanLimits) -> Edit:
    """Say what all changes together may cost."""

    def edit(project: Project) -> Project:
        return replace(project, plan=replace(project.plan, limits=limits))

    return edit


def plan_part(part: str, mode: str, state: str, now: str, run: str) -> Edit:
    """Plan that a part is in another mode in a state; the mode that it is in takes the change out."""

    def edit(project: Project) -> Project:
        kept = tuple(
            one
            for one in project.plan.changes
            if not (one.on == run and one.effects and all(_is_cell(e, part, state) for e in one.effects))
        )
        project = _with_changes(project, kept)
        if mode == now:
            return project
        known = next((one.mode(mode) for one in project.parts if one.name == part), None)
        change = PlannedChange(
            f"{part} {mode} in {state}",
            (PartTo(part, mode, state),),
            run,
            "matrix",
            latency_s=known.settle_s if known is not None else 0.0,
            accuracy=known.accuracy if known is not None else 0.0,
        )
        return add_change(change)(project)

    return edit


def _is_cell(effect: object, part: str, state: str) -> bool:
    return isinstance(effect, PartTo) and (effect.part, effect.state) == (part, state)


def set_part(part: str, mode: str, state: str) -> Edit:
    """Say in which mode a part is in a state; an empty mode says nothing of it any more."""

    def edit(project: Project) -> Project:
        expected: list[ExpectedValue] = []
        known = {value.state for value in project.expected}
        # What nobody said yet of a state begins with its first part.
        for value in (*project.expected, *(() if state in known or not mode else (ExpectedValue(state),))):
            if value.state == state:
                others = tuple(one for one in value.parts if one.part != part)
                place = next((n for n, one in enumerate(value.parts) if one.part == part), len(others))
                here = (PartOn(part, mode),) if mode else ()
                value = replace(value, parts=(*others[:place], *here, *others[place:]))
            if value.parts or value.current_a or value.state != state:
                expected.append(value)
        return replace(project, expected=tuple(expected))

    return edit


def set_power(name: str, mode: str, *, on: bool) -> Edit:
    """Say whether a domain or an oscillator stays on in a sleep mode."""

    def edit(project: Project) -> Project:
        plan = project.wake_plan
        is_domain = any(path.domain == name for path in plan.paths) or any(name in m.domains for m in plan.modes)

        def changed(power: ModePower) -> ModePower:
            if power.mode != mode:
                return power
            names = tuple(one for one in (power.domains if is_domain else power.oscillators) if one != name)
            names = (*names, name) if on else names
            return replace(power, domains=names) if is_domain else replace(power, oscillators=names)

        return replace(project, wake_plan=replace(plan, modes=tuple(changed(one) for one in plan.modes)))

    return edit
