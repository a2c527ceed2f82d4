"""``warm-ember kinds``: wakes sorted into kinds from the current alone, and the battery's model that they make."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project
from warm_ember.units import column_writer, counted, duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.attribution.kinds import Kinds


def kinds(
    project: ProjectArgument,
    name: NameArgument,
    model: Annotated[
        bool, typer.Option("--model", help="Make the kinds the battery's activities, in place of those there are.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Show the wakes of the capture NAME by kind, from its current alone."""
    with open_project(project) as opened:
        run = opened.runs[name]
        found = run.take_kinds() if model else run.kinds()
        if json:
            print_json(found.as_json())
        else:
            print_kinds(opened.session.results.kinds(opened.session.project, name))


def print_kinds(found: Kinds) -> None:
    """Print the kinds as a table, and the model that they make."""
    from warm_ember.session.kind_words import how_it_comes, model_sentence, stays_words

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
