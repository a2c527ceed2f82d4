"""``warm-ember gate``: a run compared with limits, for automated builds."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project, say
from warm_ember.errors import BadFileError
from warm_ember.store.limits_file import place_of, read_limits_file
from warm_ember.tuning.gate import GateResult, Outcome


def gate(
    project: ProjectArgument,
    name: NameArgument,
    limits: Annotated[Path, typer.Option("--limits", metavar="FILE.toml", help="What the run has to keep to.")],
    baseline: Annotated[
        str, typer.Option("--baseline", metavar="NAME", help="The capture that it may not be worse than.")
    ] = "",
    junit: Annotated[
        Path | None, typer.Option("--junit", metavar="FILE", help="Write the result as JUnit XML as well.")
    ] = None,
    json: JsonOption = False,
) -> int:
    """Compare the capture NAME with limits: 0 if none is missed beyond the noise, 1 if one is."""
    from warm_ember.session.gate_results import MissingNameError

    wanted = read_limits_file(limits)
    with open_project(project) as session:
        try:
            found = session.gate.gate(session.project, wanted, name, baseline)
        except MissingNameError as error:
            raise BadFileError(limits, str(error), where=place_of(limits, *error.key)) from error
    if baseline and wanted.baseline.max_worse is None:
        say(f"{limits} says nothing of a baseline: add max_worse to [baseline]")
    if junit is not None:
        from warm_ember.report.junit import junit_xml
        from warm_ember.store.new_file import write_new

        try:
            write_new(junit, junit_xml(found))
        except OSError as error:
            raise BadFileError(junit, f"cannot be written: {error.strerror or error}") from error
    if json:
        print_json(gate_json(found))
    else:
        _print(found)
    return int(found.outcome is Outcome.FAIL)


def gate_json(found: GateResult) -> dict[str, Any]:
    """Return the ``gate`` object of the contract."""
    fields = ("name", "outcome", "value", "low", "high", "limit", "text")
    return {
        "capture": found.capture,
        "baseline": found.baseline or None,
        "outcome": found.outcome.value,
        "checks": [{name: getattr(check, name) for name in fields} for check in found.checks],
    }


def _print(found: GateResult) -> None:
    from warm_ember.session.gate_results import tally

    rows = [(check.name, check.text.partition(": ")[2] or check.text, check.outcome.value) for check in found.checks]
    order = {Outcome.FAIL.value: 0, Outcome.UNDECIDED.value: 1}
    rows.sort(key=lambda row: order.get(row[2], 2))
    print_table(("limit", "", "outcome"), rows, left=3)
    print_line()
    print_line(f"{found.outcome.value}: {tally(found)}")
