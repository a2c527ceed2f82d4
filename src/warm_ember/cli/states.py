"""``warm-ember states``: the ledger of one capture."""

from __future__ import annotations

from warm_ember.attribution.clock import clock_sentence
from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import ledger_json, print_ledger


def states(project: ProjectArgument, name: NameArgument, json: JsonOption = False) -> None:
    """Show where the charge of the capture NAME goes, by state."""
    session = open_project(project)
    try:
        ledger = session.results.ledger(session.project, name)
        alignment = session.results.placement(session.project, name).alignment
    finally:
        session.close()
    if json:
        print_json(ledger_json(ledger))
    else:
        print_ledger(ledger)
        if alignment is not None:
            print_line(clock_sentence(alignment).replace("**", ""))
