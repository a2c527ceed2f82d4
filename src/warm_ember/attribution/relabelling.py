"""Other names for what is placed already: states gathered into groups, or one state split by what its entries share."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from enum import StrEnum

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.placement import UNPLACED, Placement

MOST_PARTS = 200
_OTHERS = "others"


class SplitBy(StrEnum):
    """What the entries of a state are told apart by."""

    ENTRY = "entry"
    BEFORE = "state before"
    WAKE = "wake"
    MARK = "mark"


def grouped(placement: Placement, group_of: Mapping[str, str]) -> Placement:
    """Give each state the name of its group; one without a group keeps its own."""
    return _relabelled(placement, [group_of.get(name, name) for name in placement.names], placement.state)


def split(recording: Recording, placement: Placement, state: str, by: SplitBy) -> tuple[Placement, tuple[str, ...]]:
    """Split one state by what its entries share, into at most `MOST_PARTS` parts.

    Very many entries are gathered into runs of neighbours; of very many names the later ones are one part.

    Returns
    -------
    Placement
        With states of their own for the parts.
    tuple of str
        The names of the parts, in order of first appearance.
    """
    if state not in placement.names:
        return placement, ()
    number = placement.names.index(state)
    entries = np.flatnonzero(placement.state == number)
    key = _keys(recording, placement, by, len(entries))
    keys = [key(count, int(interval)) for count, interval in enumerate(entries)]
    parts = tuple(dict.fromkeys(keys))
    if len(parts) > MOST_PARTS:
        told = set(parts[: MOST_PARTS - 1])
        keys = [one if one in told else _OTHERS for one in keys]
        parts = tuple(dict.fromkeys(keys))
    names = [*placement.names, *(f"{state}: {part}" for part in parts)]
    numbers = placement.state.copy()
    numbers[entries] = [len(placement.names) + parts.index(one) for one in keys]
    return _relabelled(placement, names, numbers), tuple(f"{state}: {part}" for part in parts)


def _keys(recording: Recording, placement: Placement, by: SplitBy, entries: int) -> Callable[[int, int], str]:
    """Return what tells an entry's part from its count and its interval."""
    if by is SplitBy.ENTRY:
        together = -(-entries // MOST_PARTS)
        if together == 1:
            return lambda count, _interval: str(count + 1)
        return lambda count, _interval: _range(count // together * together, together, entries)
    if by is SplitBy.BEFORE:
        return lambda _count, interval: _name(placement, interval - 1) if interval else "from the start"
    kind, without = ("wake", "no wake") if by is SplitBy.WAKE else ("mark", "before the first mark")
    events = [event for event in recording.events if event.event == kind]
    alignment = placement.alignment
    times = np.array([alignment.to_capture(e.time_s) if alignment is not None else e.time_s for e in events])
    # An event and the change it announces are written down one after the other, and rounded to a sample.
    slack_s = 2 * recording.current.interval_s

    def key(_count: int, interval: int) -> str:
        start_s = float(placement.edges[interval]) * recording.current.interval_s
        index = int(np.searchsorted(times, start_s + slack_s, side="right")) - 1
        return events[index].name or "unknown" if index >= 0 else without

    return key


def _range(first: int, together: int, entries: int) -> str:
    return f"{first + 1} to {min(first + together, entries)}"


def _name(placement: Placement, interval: int) -> str:
    number = int(placement.state[interval])
    return "unplaced" if number == UNPLACED else placement.names[number]


def _relabelled(placement: Placement, names: list[str], state: np.ndarray) -> Placement:
    """Return a placement in which neighbouring intervals of one name are one, and no name is without intervals."""
    how: dict[str, str] = {}
    for name, words in zip(names, (*placement.how, *("split",) * (len(names) - len(placement.how))), strict=True):
        how[name] = f"{how[name]}, {words}" if name in how and words not in how[name] else how.get(name, words)
    used = tuple(dict.fromkeys(names[number] for number in state.tolist() if number != UNPLACED))
    numbers = np.array([*(used.index(name) if name in used else UNPLACED for name in names), UNPLACED])[state]
    starts = np.flatnonzero(np.diff(numbers, prepend=-2))
    edges = np.append(placement.edges[:-1][starts], placement.edges[-1])
    return Placement(used, edges, numbers[starts], tuple(how[name] for name in used), placement.alignment)
