"""``warm-ember states``: the ledger of one capture."""

from __future__ import annotations

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import print_ledger
from warm_ember.units import quantity_text


def states(project: ProjectArgument, name: NameArgument, json: JsonOption = False) -> None:
    """Show where the charge of the capture NAME goes, by state."""
    with open_project(project) as opened:
        found = opened.runs[name].states()
        if json:
            print_json(found.as_json())
            return
        session = opened.session
        cycles = session.results.window(session.project, name)
        print_ledger(session.results.ledger(session.project, name))
        part = found.whole_cycles
        over = "" if part is None else f"; {cycles.words[5:]}: {quantity_text(part.mean_a, 'A')}"
        print_line(f"over the whole capture{over}")
        alignment = session.results.placement(session.project, name).alignment
        if alignment is not None:
            from warm_ember.attribution.clock import clock_sentence

            print_line(clock_sentence(alignment).replace("**", ""))
