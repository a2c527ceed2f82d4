"""``warm-ember life``: how long the battery lasts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import print_life
from warm_ember.errors import BadArgumentError


def life(
    project: ProjectArgument,
    activities: Annotated[
        Path | None,
        typer.Option(metavar="FILE.json", help="Battery and activities, instead of the project's."),
    ] = None,
    unseen: Annotated[
        float | None,
        typer.Option(
            metavar="CHARGE_C", help="Allow for something of this charge that comes too seldom to be in the capture."
        ),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Estimate the battery life of the project's latest run, or of an activity file."""
    from warm_ember.library.life import life_in, life_in_file, life_of

    if activities is not None:
        if unseen is not None:
            raise BadArgumentError("--unseen is about a capture, and --activities takes its place")
        found = life_in_file(activities)
    else:
        with open_project(project) as opened:
            found = life_in(opened.session, unseen_c=unseen)
    if json:
        print_json(life_of(*found).as_json())
    else:
        print_life(*found)
