"""A sweep's recipe as it is entered in fields: values, ways to set them, and what is still to be filled in."""

from __future__ import annotations

import re

import msgspec

from warm_ember.errors import BadArgumentError
from warm_ember.model.sweep import SetBy, Spread, SweepParameter, SweepRecipe, Value, value_text

_SPREAD = re.compile(
    r"(?P<first>\S+)\s+to\s+(?P<last>\S+?)\s*[,;]\s*(?P<steps>\d+)(?:\s+steps)?(?P<log>\s*[,;]\s*log)?"
)
_BETWEEN = re.compile(r"[\s,;]+")
_EXAMPLE = "600 to 14400, 8 steps, log; or 1 2 4 8; or deep idle"


def values_words(parameter: SweepParameter) -> str:
    """Return the values of a parameter as they are entered.

    Examples
    --------
    >>> values_words(SweepParameter("interval", Spread(600.0, 14400.0, 8, log=True)))
    '600 to 14400, 8 steps, log'
    >>> values_words(SweepParameter("sleep", ("deep", "idle")))
    'deep idle'
    """
    values = parameter.values
    if isinstance(values, Spread):
        ends = f"{value_text(values.first)} to {value_text(values.last)}"
        return f"{ends}, {values.steps} steps" + (", log" if values.log else "")
    return " ".join(map(value_text, values))


def read_values(words: str) -> tuple[Value, ...] | Spread:
    """Read values as they are entered: a range with its steps, or one after the other.

    Raises
    ------
    BadArgumentError
        If nothing is given, or the ends of a range are no numbers.

    Examples
    --------
    >>> read_values("600 to 14400, 8 steps, log")
    Spread(first=600.0, last=14400.0, steps=8, log=True)
    >>> read_values("1, 2, 4"), read_values("deep idle")
    ((1.0, 2.0, 4.0), ('deep', 'idle'))
    """
    found = _SPREAD.fullmatch(words.strip())
    if found is not None:
        first, last = _value(found["first"]), _value(found["last"])
        if isinstance(first, str) or isinstance(last, str):
            raise BadArgumentError(f"values: the ends of a range are numbers, found {words!r}")
        return Spread(first, last, int(found["steps"]), bool(found["log"]))
    steps = tuple(_value(one) for one in _BETWEEN.split(words.strip()) if one)
    if not steps or "to" in steps:
        raise BadArgumentError(f"values: expected {_EXAMPLE}; found {words!r}")
    return tuple(map(value_text, steps)) if any(isinstance(one, str) for one in steps) else steps


def _value(word: str) -> Value:
    try:
        return float(word)
    except ValueError:
        return word


def set_by_words(send: str | SetBy) -> str:
    """Return how a value is set, as it is entered."""
    if isinstance(send, str):
        return send
    return f"run: {send.run}" if send.run else f"ask: {send.ask}"


def read_set_by(words: str) -> str | SetBy:
    """Read how a value is set: a line to the console, ``run:`` a command, or ``ask:`` a person.

    Examples
    --------
    >>> read_set_by("batch {value}"), read_set_by("ask: Set the jumper to {value}")
    ('batch {value}', SetBy(run='', ask='Set the jumper to {value}'))
    """
    kind, colon, rest = words.strip().partition(":")
    if colon and kind == "run":
        return SetBy(run=rest.strip())
    if colon and kind == "ask":
        return SetBy(ask=rest.strip())
    return words.strip()


def with_parameter(recipe: SweepRecipe, number: int, **changed: object) -> SweepRecipe:
    """Return a recipe of which one parameter is changed."""
    parameters = list(recipe.parameters)
    parameters[number] = msgspec.structs.replace(parameters[number], **changed)
    return msgspec.structs.replace(recipe, parameters=tuple(parameters))


def with_one_more(recipe: SweepRecipe) -> SweepRecipe:
    """Return a recipe with another parameter, to be filled in."""
    taken = {one.name for one in recipe.parameters}
    name = next(name for number in range(len(taken) + 1) if (name := f"parameter {number + 1}") not in taken)
    return msgspec.structs.replace(recipe, parameters=(*recipe.parameters, SweepParameter(name, (1.0, 2.0), "", "^ok")))


def without_parameter(recipe: SweepRecipe, number: int) -> SweepRecipe:
    """Return a recipe without one of its parameters."""
    parameters = recipe.parameters
    return msgspec.structs.replace(recipe, parameters=(*parameters[:number], *parameters[number + 1 :]))
