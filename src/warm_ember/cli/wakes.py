"""``warm-ember wakes``: who woke the device, and what it cost."""

from __future__ import annotations

import math
from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import print_wakes
from warm_ember.errors import BadArgumentError


def wakes(
    project: ProjectArgument,
    name: NameArgument,
    slack: Annotated[
        list[str] | None,
        typer.Option(metavar="SOURCE=S", help="By how many seconds later a source may wake; repeatable."),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Show the wakes of the capture NAME by source, and the sleep between them."""
    slack_s = dict(_slack(text) for text in slack or ())
    with open_project(project) as opened:
        if json:
            print_json(opened.runs[name].wakes(slack_s).as_json())
        else:
            session = opened.session
            print_wakes(session.results.wake_ledger(session.project, name, slack_s))


def _slack(text: str) -> tuple[str, float]:
    """Read ``SOURCE=S``.

    Raises
    ------
    BadArgumentError
        If it is not that.
    """
    source, _, seconds = text.rpartition("=")
    try:
        slack_s = float(seconds)
    except ValueError:
        slack_s = math.nan
    if not source or not 0 <= slack_s < math.inf:
        raise BadArgumentError(f"--slack: expected SOURCE=S with seconds of 0 or more, found {text!r}")
    return source, slack_s
