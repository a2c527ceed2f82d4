"""Recipes of sweeps as they are written and edited, and the sweeps that a project keeps."""

from __future__ import annotations

import logging
import re
from pathlib import Path

import msgspec

from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.model.bench import Bench
from warm_ember.model.sweep import Spread, SweepGoal, SweepParameter, SweepRecipe, SweepStop, check_sweep
from warm_ember.session.session import Session
from warm_ember.store.sweep_journal import SweepProgress, read_progress, sweeps_of

log = logging.getLogger(__name__)

_SHORT = re.compile(r"[\[{][^\[\]{}]*[\]}]")
"""A list or an object with none inside."""

_LONGEST_LINE, _MOST_WHOLE = 72, 1e12


def recipe_of(content: str | bytes) -> SweepRecipe:
    """Read a recipe.

    Raises
    ------
    BadArgumentError
        If it is none, or what it says cannot be done.
    """
    recipe = recipe_in_progress(content)
    check_sweep(recipe)
    return recipe


def recipe_in_progress(content: str | bytes) -> SweepRecipe:
    """Read a recipe that may not be complete yet.

    Raises
    ------
    BadArgumentError
        If it is none.
    """
    try:
        return msgspec.json.decode(content, type=SweepRecipe)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadArgumentError(f"this is no recipe of a sweep: {error}") from error


def recipe_text(recipe: SweepRecipe) -> str:
    """Return a recipe as it is edited: what is as by default left out."""
    plain = msgspec.to_builtins(recipe)
    usual = msgspec.to_builtins(SweepRecipe(()))
    kept = {name: value for name, value in plain.items() if name == "parameters" or value != usual[name]}
    for one in kept["parameters"]:
        for name, value in msgspec.to_builtins(SweepParameter("", ())).items():
            if name != "name" and one.get(name) == value:
                del one[name]
    for name in ("goal", "stop", "settings"):
        if name in kept:
            kept[name] = {key: value for key, value in kept[name].items() if value != usual[name][key]}
    text = msgspec.json.format(msgspec.json.encode(_whole(kept)), indent=2).decode()
    return _SHORT.sub(_on_one_line, text)


def _whole(value: object) -> object:
    """Return what is written, whole numbers without their point."""
    if isinstance(value, dict):
        return {name: _whole(one) for name, one in value.items()}
    if isinstance(value, list | tuple):
        return [_whole(one) for one in value]
    return int(value) if isinstance(value, float) and value.is_integer() and abs(value) < _MOST_WHOLE else value


def _on_one_line(found: re.Match[str]) -> str:
    text = re.sub(r"\s*\n\s*", " ", found[0])
    return text if len(text) <= _LONGEST_LINE else found[0]


def kept_sweeps(session: Session) -> tuple[tuple[str, Path], ...]:
    """Return the sweeps of a project by what they vary, with their files, the newest first."""
    found = []
    for path in sweeps_of(session.folder.path):
        try:
            recipe = read_progress(path).recipe
        except BadFileError as error:
            log.warning("a sweep is not shown: %s", error)
            continue
        words = ", ".join(one.name for one in recipe.parameters)
        found.append((f"{words} {recipe.note}".strip(), path))
    return tuple(found)


def progress_in(path: Path) -> SweepProgress:
    """Read what a sweep has measured.

    Raises
    ------
    BadFileError
        If that cannot be read.
    """
    return read_progress(path)


def first_recipe(bench: Bench) -> SweepRecipe:
    """Return what a first sweep of a bench may look like: the report's interval, and what is sent together."""
    settings = bench.settings
    return SweepRecipe(
        (
            SweepParameter("interval", Spread(600.0, 14_400.0, 8, log=True), "interval {value}", "^ok", 1.0, 1.0, "s"),
            SweepParameter("batch", (1, 2, 4, 8), "batch {value}", "^ok"),
        ),
        record_s=600.0,
        console=bench.console,
        settings=settings,
        goal=SweepGoal(min_months=36.0, max_latency_s=7200.0),
        stop=SweepStop(hours=8.0, limit_a=settings.limit_a),
    )
