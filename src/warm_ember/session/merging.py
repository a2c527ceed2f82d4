"""Two programs' edits of one project put together: what each changed since they last agreed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

import msgspec

from warm_ember.model.band_limit import BandLimit
from warm_ember.model.fold import FoldPlan
from warm_ember.model.project import Bracket, ExpectedValue, Note, Project, TypedClock
from warm_ember.session.edits import next_letter

T = TypeVar("T")

_KEYS: dict[type, Callable[[Any], Hashable]] = {
    ExpectedValue: lambda value: value.state,
    FoldPlan: lambda plan: plan.capture,
    TypedClock: lambda clock: clock.capture,
    BandLimit: lambda limit: (limit.capture, limit.channel),
    Bracket: lambda bracket: (bracket.capture, bracket.letter),
    Note: lambda note: (note.capture, note.at_s, note.to_s),
}
"""What tells one record of a kind from another, for those that have no name of their own."""


def merged(base: Project, ours: Project, theirs: Project) -> Project:
    """Return a project with what each side changed.

    Parameters
    ----------
    base
        What both began with.
    ours, theirs
        What became of it here and elsewhere.

    Returns
    -------
    Project
        Each field, and each record that has a name, comes from the side that changed it. Where both changed the same
        figure ours counts. Records that both added are all kept; a bracket of ours whose letter is taken by now gets
        the next one.
    """
    return _merged(base, _with_free_letters(base, ours, theirs), theirs)


def _with_free_letters(base: Project, ours: Project, theirs: Project) -> Project:
    """Give our new brackets other letters where another program used theirs for another stretch."""
    key = _KEYS[Bracket]
    known = {key(bracket) for bracket in base.brackets}
    taken = {key(bracket): bracket for bracket in theirs.brackets}
    found = list(ours.brackets)
    for index, bracket in enumerate(found):
        if key(bracket) not in known and taken.get(key(bracket), bracket) != bracket:
            everyone = msgspec.structs.replace(ours, brackets=(*found, *theirs.brackets))
            found[index] = msgspec.structs.replace(bracket, letter=next_letter(everyone, bracket.capture))
    return msgspec.structs.replace(ours, brackets=tuple(found))


def _merged(base: T, ours: T, theirs: T) -> T:
    if ours in (base, theirs):
        return theirs
    if theirs == base:
        return ours
    kind: Any = type(ours)
    if type(base) is kind is type(theirs):
        if isinstance(ours, msgspec.Struct):
            fields = ours.__struct_fields__
            return kind(
                **{name: _merged(getattr(base, name), getattr(ours, name), getattr(theirs, name)) for name in fields}
            )
        if isinstance(ours, tuple):
            return _merged_rows(base, ours, theirs)  # type: ignore[arg-type, return-value]
        if isinstance(ours, dict):
            return _merged_dict(base, ours, theirs)  # type: ignore[arg-type, return-value]
    return ours


def _merged_dict(base: dict[Any, Any], ours: dict[Any, Any], theirs: dict[Any, Any]) -> dict[Any, Any]:
    found = {}
    for key in (*theirs, *(key for key in ours if key not in theirs)):
        if key in ours and key in theirs:
            found[key] = _merged(base[key], ours[key], theirs[key]) if key in base else ours[key]
        else:
            kept = ours if key in ours else theirs
            # Removed by the other side, unless this one changed it meanwhile.
            if key not in base or kept[key] != base[key]:
                found[key] = kept[key]
    return found


def _merged_rows(base: tuple[Any, ...], ours: tuple[Any, ...], theirs: tuple[Any, ...]) -> tuple[Any, ...]:
    sides = [[_key_of(row) for row in side] for side in (base, ours, theirs)]
    if any(key is None for side in sides for key in side) or any(len(set(side)) < len(side) for side in sides):
        return _merged_values(base, ours, theirs)
    was, mine, other = (
        dict(zip(keys, rows, strict=True)) for keys, rows in zip(sides, (base, ours, theirs), strict=True)
    )
    found = _merged_dict(was, mine, other)
    order = _order(*sides)
    return tuple(found[key] for key in order if key in found)


def _order(base: list[Any], ours: list[Any], theirs: list[Any]) -> list[Any]:
    """Return all keys, in our order where we moved any, else in theirs; additions come after their neighbours."""
    moved = [key for key in ours if key in base] != [key for key in base if key in ours]
    first, second = (ours, theirs) if moved else (theirs, ours)
    order = list(first)
    for index, key in enumerate(second):
        if key not in order:
            before = next((one for one in reversed(second[:index]) if one in order), None)
            order.insert(order.index(before) + 1 if before is not None and index < len(second) - 1 else len(order), key)
    return order


def _key_of(row: Any) -> Hashable | None:
    known = _KEYS.get(type(row))
    if known is not None:
        return known(row)
    name = getattr(row, "name", None)
    return (type(row).__name__, name) if isinstance(name, str) and name else None


def _merged_values(base: tuple[Any, ...], ours: tuple[Any, ...], theirs: tuple[Any, ...]) -> tuple[Any, ...]:
    """Return rows that nothing but their value tells apart: theirs without what we removed, with what we added."""
    was, mine = Counter(map(_hashed, base)), Counter(map(_hashed, ours))
    removed, added = was - mine, mine - was
    found = []
    for row in theirs:
        if removed[_hashed(row)] > 0:
            removed[_hashed(row)] -= 1
        else:
            found.append(row)
    for index, row in enumerate(ours):
        if added[_hashed(row)] > 0:
            added[_hashed(row)] -= 1
            before = next((one for one in reversed(ours[:index]) if one in found), None)
            found.insert(found.index(before) + 1 if before is not None else min(index, len(found)), row)
    return tuple(found)


def _hashed(row: Any) -> Hashable:
    """Return what stands for a row's value: not every record can be hashed."""
    return (type(row).__name__, msgspec.json.encode(row))
