"""``warm-ember findings``: what is wasted in a capture, and what in it must not be believed."""

from __future__ import annotations

import msgspec

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.session.session import Session
from warm_ember.units import duration_text, percent_text, quantity_text


def findings(project: ProjectArgument, name: NameArgument, json: JsonOption = False) -> None:
    """Show what the analysis found in the capture NAME, with its evidence."""
    with Session.open(project) as session:
        found = session.results.findings(name)
    if json:
        print_json({"capture": name, "findings": [msgspec.to_builtins(finding) for finding in found]})
        return
    if not found:
        print_line("nothing found")
    for finding in found:
        cost = f", costs {quantity_text(finding.cost_a, 'A')}" if finding.cost_a is not None else ""
        where = f"{duration_text(finding.from_s)} to {duration_text(finding.to_s)}"
        print_line(f"{finding.kind} from {where}, {percent_text(finding.confidence)} sure{cost}")
        print_line(f"  {finding.text}")
