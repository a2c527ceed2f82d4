"""``warm-ember compare``: two captures, and what of their difference is larger than chance."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from warm_ember.attribution.kinds import Kind
from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import MEASURED, bound_text, grade_json
from warm_ember.model.figure import Figure, Grade
from warm_ember.session.kind_changes import KindChange
from warm_ember.session.tuning_results import Comparison
from warm_ember.tuning.claims import ClaimResult
from warm_ember.tuning.difference import Difference
from warm_ember.units import HOUR_S, interval_text, months_text, quantity_text

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
    with open_project(project) as session:
        found = session.tuning.compare(session.project, name, other)
        judged = session.tuning.claim(session.project, claim, name, other) if claim else None
    if json:
        told = {"claim": _claim_json(claim, judged)} if judged else {}
        print_json({**comparison_json(found), **told})
        return
    _print(found)
    if judged is not None:
        print_line(f"“{claim}”, understood as “{judged.claim.words}”, is {judged.outcome.value}: {judged.words}")


def _claim_json(text: str, judged: ClaimResult) -> dict[str, str]:
    understood, outcome = judged.claim.words, judged.outcome.value
    return {"text": text, "understood": understood, "outcome": outcome, "words": judged.words}


def comparison_json(found: Comparison) -> dict[str, Any]:
    """Return the ``compare`` object, as docs/formats.md has it."""
    return {
        "before": found.before,
        "after": found.after,
        "changed": found.changed,
        "mean_a": _values(found.average),
        "life_h": {"before": found.lives_s[0] / HOUR_S, "after": found.lives_s[1] / HOUR_S},
        "states": [{"name": one.name, **_values(one)} for one in found.states],
        "sources": [{"name": one.name, **_values(one)} for one in found.sources],
        "activities": [{"name": one.name, **_values(one)} for one in found.activities],
        "kinds": [_kind_json(one) for one in found.kinds],
        "confounders": [{"what": one.what, "before": one.before, "after": one.after} for one in found.confounders],
    }


def _kind_json(one: KindChange) -> dict[str, Any]:
    def side(kind: Kind | None) -> dict[str, Any] | None:
        if kind is None:
            return None
        figures = {"count": kind.count, "period_s": kind.recurrence.period_s, "charge_c_mean": kind.charge.value}
        return {**figures, "added_a": kind.added_a, **MEASURED}

    return {"kind": one.label, "before": side(one.before), "after": side(one.after), "words": one.words}


def _values(one: Difference) -> dict[str, Any]:
    return {
        "before_a": one.before_a,
        "after_a": one.after_a,
        "change_a": one.change_a,
        "low_a": one.low_a,
        "high_a": one.high_a,
        "change_a_low": one.low_a,
        "change_a_high": one.high_a,
        "real": one.is_real,
        **grade_json(Figure(None, grade=Grade.BOUNDED if one.is_bounded else Grade.MEASURED, bound=one.bound)),
    }


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
