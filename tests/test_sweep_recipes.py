"""Recipes of sweeps: what they say, and what cannot be done is refused by name."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError, BadFileError, ProjectError
from warm_ember.library.sweep import read_recipe
from warm_ember.model.sweep import SetBy, Spread, SweepParameter, SweepRecipe, check_sweep, value_text
from warm_ember.session.sweep_fields import read_set_by, read_values, set_by_words, values_words
from warm_ember.store.sweep_journal import SweepJournal, SweepProgress, sweep_name

GOOD = {
    "parameters": [
        {"name": "interval", "values": [10, 20.5], "send": "interval {value}", "confirm": "^ok", "settle_s": 1},
        {"name": "mode", "values": ["deep", "off"], "send": {"run": "flash {value}"}},
        {
            "name": "clock",
            "values": {"from": 1, "to": 100, "steps": 3, "log": True},
            "send": {"ask": "Set it to {value}"},
        },
    ],
    "repeats": 2,
    "record_s": 5,
    "console": "socket://127.0.0.1:9",
    "settings": {"voltage_v": 3.0, "trigger": {"source": "immediate"}},
    "goal": {"min_months": 12, "max_latency_s": 60},
    "stop": {"hours": 8, "limit_a": 0.5},
    "search": "grid",
    "seed": 3,
}


def written(tmp_path: Path, **changed: object) -> Path:
    path = tmp_path / "recipe.json"
    path.write_text(json.dumps(GOOD | changed))
    return path


def test_a_recipe_says_what_is_tried_and_how(tmp_path: Path) -> None:
    recipe = read_recipe(written(tmp_path))
    assert len(recipe.grid()) == 12
    assert recipe.grid()[0] == (10, "deep", 1.0)
    assert recipe.parameters[2].steps == (1.0, 10.0, 100.0)
    assert recipe.parameters[1].send == SetBy(run="flash {value}")
    assert recipe.period_s((20.5, "off", 1.0)) == 20.5
    assert recipe.now() == (10, "deep", 1.0)
    assert [value_text(one) for one in (10.0, 20.5, "off")] == ["10", "20.5", "off"]


def one(**changed: object) -> dict[str, object]:
    """Return what changes a recipe to one of a single parameter."""
    return {"parameters": [{"name": "a", "values": [1], "send": "x {value}"} | changed]}


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"parameters": []}, "one parameter at least"),
        (one(values=[1, 1]), "differ from each other"),
        (one(values=[]), "differ from each other"),
        (one(send="x"), "where the value goes"),
        (one(send={"run": "x {value}", "ask": "y {value}"}), "either run or ask"),
        (one(values={"from": 0, "to": 1, "steps": 3, "log": True}), "above 0"),
        (one(values={"from": 0, "to": 1, "steps": 1}), "2 to 1000"),
        ({"parameters": [GOOD["parameters"][0]] * 2}, "a name of its own"),  # type: ignore[index]
        ({"console": ""}, "give its address as console"),
        ({"repeats": 0}, "repeats must be"),
        ({"record_s": 0}, "record_s must be"),
        ({"goal": {"limits": [{"what": "memory", "per_value": {"batch": 1}, "at_most": 2}]}}, "'batch', which is no"),
        ({"speed": 3}, "unknown field `speed`"),
        ({"search": "all"}, "Invalid enum value 'all'"),
        (one(values=[True]), "recipe of a sweep"),
    ],
)
def test_what_cannot_be_done_is_refused_by_name(tmp_path: Path, changed: dict[str, object], words: str) -> None:
    with pytest.raises(BadFileError, match=words):
        read_recipe(written(tmp_path, **changed))


def test_a_file_that_is_none_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "recipe.json"
    with pytest.raises(BadFileError):
        read_recipe(path)
    path.write_bytes(b"\xff{")
    with pytest.raises(BadFileError, match="no recipe of a sweep"):
        read_recipe(path)


def test_what_was_measured_belongs_to_a_sweep_as_long_as_it_is_made_the_same_way(tmp_path: Path) -> None:
    one = SweepParameter("interval", (1.0, 2.0), "interval {value}")
    recipe = SweepRecipe((one,), console="socket://127.0.0.1:9")
    more = SweepRecipe((SweepParameter("interval", (1.0, 2.0, 4.0), "interval {value}"),), 5, console=recipe.console)
    assert sweep_name(recipe) == sweep_name(more)
    assert sweep_name(recipe) != sweep_name(SweepRecipe((one,), record_s=30.0, console=recipe.console))
    journal = SweepJournal(tmp_path, recipe)
    assert journal.read() == SweepProgress(recipe)
    journal.write(SweepProgress(recipe, ended="done"))
    assert SweepJournal(tmp_path, more).read() == SweepProgress(more)
    with journal.held(), pytest.raises(ProjectError, match="another program"), SweepJournal(tmp_path, more).held():
        pass
    journal.path.write_text("{")
    with pytest.raises(BadFileError, match="no sweep"):
        journal.read()


def test_spreads_have_equal_steps_or_equal_ratios() -> None:
    assert Spread(0.0, 10.0, 5).values() == (0.0, 2.5, 5.0, 7.5, 10.0)
    assert Spread(1.0, 1000.0, 4, log=True).values() == (1.0, 10.0, 100.0, 1000.0)
    check_sweep(SweepRecipe((SweepParameter("a", Spread(3.0, 1.0, 3), "x {value}"),), console="socket://h:1"))


@given(
    st.one_of(
        st.lists(st.floats(-1e6, 1e6).map(lambda one: float(f"{one:.6g}")), min_size=1, max_size=8, unique=True),
        st.lists(st.from_regex(r"[a-z]{3,8}[0-9]?", fullmatch=True), min_size=1, max_size=5, unique=True),
        st.builds(
            Spread, st.floats(1, 99).map(round), st.floats(100, 1e4).map(round), st.integers(2, 50), st.booleans()
        ),
    ).map(lambda one: one if isinstance(one, Spread) else tuple(one))
)
def test_values_are_read_as_they_are_written(values: object) -> None:
    parameter = SweepParameter("x", values)  # type: ignore[arg-type]
    assert read_values(values_words(parameter)) == parameter.values


@given(st.sampled_from(["batch {value}", SetBy(run="flash --to {value}"), SetBy(ask="Set it to {value}: slowly")]))
def test_how_a_value_is_set_is_read_as_it_is_written(send: str | SetBy) -> None:
    assert read_set_by(set_by_words(send)) == send


@pytest.mark.parametrize("words", ["", " , ", "to", "1 to 5", "a to b, 3 steps"])
def test_values_that_are_none_are_refused(words: str) -> None:
    with pytest.raises(BadArgumentError, match="values"):
        read_values(words)
