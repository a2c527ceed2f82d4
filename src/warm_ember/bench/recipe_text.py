"""The steps of a recipe as lines of text, as they are typed and read."""

from __future__ import annotations

import re
from collections.abc import Iterable

from warm_ember.bench.recipe_run import step_words
from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import Send, Step, SwitchOutput, Take, WaitFor
from warm_ember.units import parse_quantity

_QUOTED = r"[“\"'](?P<text>.+)[”\"']"
_WAIT_TEXT = re.compile(rf"wait for {_QUOTED}(?:,?\s*(?P<time>.+?)(?: at most)?)?\Z")
_WAIT = re.compile(r"wait (?P<time>.+)\Z")
_SEND = re.compile(rf"send {_QUOTED}\Z")
_TAKE = re.compile(r"record(?: (?P<time>(?!as ).+?))?(?: as (?P<name>.+))?\Z")
_POWERS = {
    "power on": SwitchOutput(),
    "power off": SwitchOutput(on=False),
    "power off and on": SwitchOutput(cycle=True),
}


def steps_from_text(text: str) -> tuple[Step, ...]:
    r"""Return the steps that lines of text say.

    Raises
    ------
    BadArgumentError
        If a line is no step; the message shows what would be.

    Examples
    --------
    >>> steps_from_text('power on\nwait for "boot", 5 s\nrecord 10 min as report')
    (SwitchOutput(on=True, cycle=False), WaitFor(text='boot', seconds=5.0), Take(seconds=600.0, name='report'))
    """
    return tuple(_step(line.strip()) for line in text.splitlines() if line.strip())


def text_of_steps(steps: Iterable[Step]) -> str:
    """Return steps as lines of text."""
    return "\n".join(step_words(step) for step in steps)


def _step(line: str) -> Step:
    if line in _POWERS:
        return _POWERS[line]
    if match := _WAIT_TEXT.match(line):
        return WaitFor(match["text"], _seconds(match["time"], line) if match["time"] else WaitFor().seconds)
    if match := _WAIT.match(line):
        return WaitFor("", _seconds(match["time"], line))
    if match := _SEND.match(line):
        return Send(match["text"])
    if match := _TAKE.match(line):
        return Take(_seconds(match["time"], line) if match["time"] else None, match["name"] or "")
    raise BadArgumentError(
        f"“{line}” is no step; steps are: power on, power off, power off and on, wait 5 s, "
        "wait for “text”, 30 s, send “text”, record, record 10 min as name"
    )


def _seconds(text: str, line: str) -> float:
    try:
        seconds = parse_quantity(text, "s")
    except ValueError:
        seconds = 0.0
    if not 0 < seconds < float("inf"):
        raise BadArgumentError(f"“{line}”: expected a time such as 5 s or 10 min, found “{text}”")
    return seconds
