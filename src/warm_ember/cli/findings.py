"""``warm-ember findings``: what is wasted in a capture, and what in it must not be believed."""

from __future__ import annotations

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.tables import findings_json, print_findings
from warm_ember.session.session import Session


def findings(project: ProjectArgument, name: NameArgument, json: JsonOption = False) -> None:
    """Show what the analysis found in the capture NAME, with its evidence."""
    with Session.open(project) as session:
        found = session.results.findings(session.project, name)
    if json:
        print_json({"capture": name, "findings": findings_json(found)})
    else:
        print_findings(found)
