"""``warm-ember compare``: two captures, and what of their difference is larger than chance."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import bound_text
from warm_ember.units import interval_text, months_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.tuning_results import Comparison

OtherArgument = Annotated[str, typer.Argument(metavar="NAME", help="The capture to compare with the first.")]


ClaimOption = Annotated[
    str,
    typer.Option("--claim", metavar="TEXT", help="A claim to check, such as “half the charge”."),
]


def compare(
    project: ProjectArgument,
    name: NameArgument,
    other: OtherArgument,
    claim: ClaimOption = "",
    json: JsonOption = False,
) -> None:
    """Compare two captures: averages, states, wake sources and activities, and what else differs."""
    with open_project(project) as opened:
        answer = opened.compare(name, other, claim)
        if json:
            print_json(answer.as_json())
            return
        _print(opened.session.tuning.compare(opened.session.project, name, other))
    if answer.claim is not None:
        checked = answer.claim
        print_line(f"“{claim}”, understood as “{checked.understood}”, is {checked.outcome}: {checked.words}")


def _print(found: Comparison) -> None:
    for title, rows in (("state", found.states), ("wakes by", found.sources), ("activity", found.activities)):
        if rows:
            cells = [
                (
                    one.name,
                    bound_text(one.before_a, "A", one.bounds[0]),
                    bound_text(one.after_a, "A", one.bounds[1]),
                    quantity_text(one.change_a, "A"),
                    interval_text(one.low_a, one.high_a, "A")
                    if one.low_a is not None and one.high_a is not None
                    else "–",
                    one.words,
                )
                for one in rows
            ]
            print_table((title, found.before, found.after, "change", "90 %", ""), cells)
            print_line()
    average = found.average
    lives = " to ".join(str(months_text(one)) for one in found.lives_s)
    print_line(
        f"average {quantity_text(average.before_a, 'A')} to {quantity_text(average.after_a, 'A')} "
        f"({average.words}), life {lives}"
    )
    for words in (one.words for one in found.kinds if one.words):
        print_line(words)
    for one in found.confounders:
        print_line(f"also differs: {one.what}, {one.before} against {one.after}")
