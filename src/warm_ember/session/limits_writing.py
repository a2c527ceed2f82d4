"""Limits written into their file: what the user wrote between them stays as it is."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any

import tomlkit
from tomlkit.items import Item, Table

from warm_ember.tuning.gate import Check

_BEGINNING = "# Limits that each build is compared with; see docs/builds.md\nformat = 1\n"
_LEAST_MARGIN = 0.03
_SMALL = 0.1
_OF_SHARES = ("measurement", "baseline")


def limit_from(check: Check) -> float | None:
    """Return the limit that a run as it is now would keep to; None where nothing is known of the figure's spread.

    It is as far beyond the interval's end as that is from the figure, at least 3 %, rounded away from the figure.
    """
    value, end = check.value, check.low if check.is_least else check.high
    if value is None or end is None or not math.isfinite(value) or not math.isfinite(end):
        return None
    if check.is_least:
        return _rounded(min(2 * end - value, value - _LEAST_MARGIN * abs(value)), up=False)
    return _rounded(max(2 * end - value, value + _LEAST_MARGIN * abs(value)), up=True)


def _rounded(value: float, *, up: bool) -> float:
    """Round to a half of the second digit.

    Examples
    --------
    >>> _rounded(4.21e-3, up=True), _rounded(4.21e-3, up=False), _rounded(0.0, up=True)
    (0.00425, 0.0042, 0.0)
    """
    if not value:
        return 0.0
    step = 10.0 ** (math.floor(math.log10(abs(value))) - 1) / 2
    count = value / step
    return float(f"{(math.ceil(count - 1e-9) if up else math.floor(count + 1e-9)) * step:.6g}")


def toml_number(value: float) -> str:
    """Return a number as one would write it: in thousands, millionths and so on.

    Examples
    --------
    >>> toml_number(15e-6), toml_number(0.00425), toml_number(36.0), toml_number(1.2), toml_number(0.0)
    ('15e-6', '4.25e-3', '36', '1.2', '0')
    """
    if not value or abs(value) >= _SMALL:
        return f"{value:.6g}"
    power = 3 * math.floor(math.log10(abs(value)) / 3)
    return f"{value / 10.0**power:.6g}e{power}"


def with_limit(text: str, key: tuple[str, ...], value: float) -> str:
    """Return the text of a file with one limit changed or added, all else as it was.

    Parameters
    ----------
    text
        Of the file; it must be TOML.
    key
        Where the limit stands, such as ``("states", "Deep sleep", "max_mean_a")``.
    value
        The limit.
    """
    document = tomlkit.parse(text)
    _set(document, key, _number(value))
    return tomlkit.dumps(document)


def limits_written(text: str, found: Iterable[tuple[tuple[str, ...], float | str | tuple[str, ...]]]) -> str:
    """Return the text of a file with limits added that it does not have; those that it has stay.

    Parameters
    ----------
    text
        Of the file; empty for a new one.
    found
        Where each limit stands, and what it is.
    """
    document = tomlkit.parse(text if text.strip() else _BEGINNING)
    for key, value in found:
        if _get(document, key) is None:
            _set(document, key, _item(value, is_share=key[0] in _OF_SHARES))
    return tomlkit.dumps(document)


def _number(value: float) -> Item:
    return tomlkit.value(toml_number(value))


def _item(value: float | str | tuple[str, ...], *, is_share: bool) -> Item:
    if isinstance(value, float):
        return tomlkit.value(f"{value:g}") if is_share else _number(value)
    return tomlkit.item(value if isinstance(value, str) else list(value))


def with_strict(text: str, *, strict: bool) -> str:
    """Return the text of a file in which what is undecided counts as failed, or not; all else as it was."""
    document = tomlkit.parse(text)
    _set(document, ("strict",), tomlkit.item(strict))
    return tomlkit.dumps(document)


def _get(document: Any, key: tuple[str, ...]) -> Any:
    for name in key:
        if not hasattr(document, "get") or (document := document.get(name)) is None:
            return None
    return document


def _set(document: Any, key: tuple[str, ...], value: Item) -> None:
    *way, last = key
    for depth, name in enumerate(way):
        if name not in document:
            inner: Table = tomlkit.table(is_super_table=depth < len(way) - 1)
            document.add(name, inner)
        document = document[name]
    old = document.get(last)
    if old is not None and hasattr(old, "trivia"):
        value.trivia.comment_ws, value.trivia.comment = old.trivia.comment_ws, old.trivia.comment
        value.trivia.trail = old.trivia.trail
    document[last] = value
