"""``warm-ember gate``: a run compared with limits, for automated builds."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project, say

if TYPE_CHECKING:
    from warm_ember.tuning.gate import GateResult


def gate(
    project: ProjectArgument,
    name: NameArgument,
    limits: Annotated[Path, typer.Option("--limits", metavar="FILE.toml", help="What the run has to keep to.")],
    baseline: Annotated[
        str,
        typer.Option(
            "--baseline",
            metavar="NAME",
            help="A capture it may not be worse than, or dataset:DATASET.",
        ),
    ] = "",
    junit: Annotated[
        Path | None, typer.Option("--junit", metavar="FILE", help="Write the result as JUnit XML as well.")
    ] = None,
    json: JsonOption = False,
) -> int:
    """Compare the capture NAME with limits: 0 if none is missed beyond the noise, 1 if one is."""
    from warm_ember.library.gate import gate_in, gate_of
    from warm_ember.store.limits_file import read_limits_file
    from warm_ember.tuning.gate import Outcome

    wanted = read_limits_file(limits)
    with open_project(project) as opened:
        found = gate_in(opened.session, limits, name, baseline)
    if baseline and wanted.baseline.max_worse is None:
        say(f"{limits} says nothing of a baseline: add max_worse to [baseline]")
    if junit is not None:
        from warm_ember.report.junit import write_junit

        write_junit(found, junit)
    if json:
        print_json(gate_of(found).as_json())
    else:
        _print(found)
    return int(found.outcome is Outcome.FAIL)


def _print(found: GateResult) -> None:
    from warm_ember.session.gate_results import tally
    from warm_ember.tuning.gate import Outcome

    rows = [(check.name, check.text.partition(": ")[2] or check.text, check.outcome.value) for check in found.checks]
    order = {Outcome.FAIL.value: 0, Outcome.UNDECIDED.value: 1}
    rows.sort(key=lambda row: order.get(row[2], 2))
    print_table(("limit", "", "outcome"), rows, left=3)
    print_line()
    print_line(f"{found.outcome.value}: {tally(found)}")
