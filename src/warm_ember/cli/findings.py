"""``warm-ember findings``: what is wasted in a capture, and the measurement faults in it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import print_findings

ExpectedOption = Annotated[
    Path | None,
    typer.Option("--expected", metavar="FILE.json", help="What states should draw: an object of amperes by state."),
]


def findings(
    project: ProjectArgument, name: NameArgument, expected: ExpectedOption = None, json: JsonOption = False
) -> None:
    """Show what the analysis found in the capture NAME, with its evidence."""
    with open_project(project) as opened:
        found = opened.runs[name].findings(expected)
    if json:
        print_json(found.as_json())
    else:
        print_findings(found)
