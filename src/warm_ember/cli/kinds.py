"""``warm-ember kinds``: wakes sorted into kinds from the current alone, and the battery's model that they make."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from warm_ember.attribution.kinds import Kind, Kinds
from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import ends_json, graded, reach_json
from warm_ember.model.figure import Bound
from warm_ember.session.kind_edits import take_model
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.kind_words import how_it_comes, model_sentence, stays_words
from warm_ember.units import column_writer, counted, duration_text, quantity_text


def kinds(
    project: ProjectArgument,
    name: NameArgument,
    model: Annotated[
        bool, typer.Option("--model", help="Make the kinds the battery's activities, in place of those there are.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Show the wakes of the capture NAME by kind, from its current alone."""
    session = open_project(project)
    try:
        shown = session.kinds.shown(session.project, name)
        if model:
            session.apply(take_model(shown), "take the kinds as the battery's model")
            session.save()
            shown = session.kinds.shown(session.project, name)
    finally:
        session.close()
    if json:
        print_json(kinds_json(shown))
    else:
        print_kinds(shown.kinds)


def kinds_json(shown: KindsShown) -> dict[str, Any]:
    """Return the ``kinds`` object of the contract."""
    found = shown.kinds
    bounds = {row.source: row.bound for row in shown.ledger.sources}
    return {
        "capture": shown.capture,
        "floor_a": found.floor.value,
        **ends_json("floor_a", found.floor.interval()),
        "mean_a": found.mean_a,
        **graded(shown.ledger.bound),
        "kinds": [_kind_json(found, kind, bounds.get(kind.label)) for kind in found.kinds],
        "mixed": len(found.mixed),
        "unsorted": len(found.unsorted),
        "unsorted_a": found.unsorted_a,
        "stays": [
            {
                "from_s": stay.first * found.interval_s,
                "to_s": stay.last * found.interval_s,
                "level_a": stay.level_a,
                "added_a": stay.added_a,
            }
            for stay in found.stays
        ],
    }


def _kind_json(found: Kinds, kind: Kind, bound: Bound | None) -> dict[str, Any]:
    how = kind.recurrence
    labels = {one.number: one.label for one in found.kinds}
    return {
        "kind": kind.label,
        "count": kind.count,
        "rate_per_h": kind.count / found.duration_s * 3600 if found.duration_s else 0.0,
        "how": how.manner.value,
        "period_s": how.period_s,
        "jitter_s": how.jitter_s,
        "drift_ppm": how.timers[0].drift * 1e6 if len(how.timers) == 1 else None,
        "timers_s": [timer.period_s for timer in how.timers],
        "follows": labels.get(how.behind),
        "delay_s": how.delay_s if how.behind in labels else None,
        "awake_s_mean": kind.awake_s,
        "charge_c_mean": kind.charge.value,
        **reach_json("charge_c", kind.charge, bound),
        "peak_a": kind.peak_a,
        "levels_a": list(kind.levels_a),
        "added_a": kind.added_a,
        **graded(bound),
    }


def print_kinds(found: Kinds) -> None:
    """Print the kinds as a table, and the model that they make."""
    charge = column_writer([kind.charge.value for kind in found.kinds], "C")
    added = column_writer([kind.added_a for kind in found.kinds], "A")
    rows = [
        (kind.label, how_it_comes(kind, found), kind.count, duration_text(kind.awake_s), charge(kind.charge.value),
         added(kind.added_a))
        for kind in found.kinds
    ]  # fmt: skip
    print_table(("kind", "how it comes", "wakes", "awake", "charge each", "adds"), rows)
    print_line()
    words = [f"{counted(len(found.mixed), 'wake')} of two kinds at once"] if found.mixed else []
    if len(found.unsorted):
        words.append(f"{counted(len(found.unsorted), 'wake')} like no other, {quantity_text(found.unsorted_a, 'A')}")
    if found.stays:
        added_a = sum(stay.added_a for stay in found.stays)
        words.append(f"{stays_words(found)}, longer than any wake, {quantity_text(added_a, 'A')}")
    if words:
        print_line("; ".join(words))
    print_line(model_sentence(found))
