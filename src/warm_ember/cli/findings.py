"""``warm-ember findings``: what is wasted in a capture, and the measurement faults in it."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import findings_json, print_findings
from warm_ember.formats.expected_file import read_expected_file
from warm_ember.session import edits

ExpectedOption = Annotated[
    Path | None,
    typer.Option("--expected", metavar="FILE.json", help="What states should draw: an object of amperes by state."),
]


def findings(
    project: ProjectArgument, name: NameArgument, expected: ExpectedOption = None, json: JsonOption = False
) -> None:
    """Show what the analysis found in the capture NAME, with its evidence."""
    with open_project(project) as session:
        value = session.project
        if expected is not None:
            value = edits.expect(read_expected_file(expected))(value)
        found = session.results.findings(value, name)
    if json:
        print_json({"capture": name, "findings": findings_json(found)})
    else:
        print_findings(found)
