"""``warm-ember life``: how long the battery lasts."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.attribution.window import Window
from warm_ember.battery.life import LifeEstimate, estimate_life
from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import life_json, print_life
from warm_ember.errors import BadArgumentError, BadFileError, ProjectError
from warm_ember.formats.activity_file import read_activity_file


def life(
    project: ProjectArgument,
    activities: Annotated[
        Path | None,
        typer.Option(metavar="FILE.json", help="Battery and activities, instead of the project's."),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Estimate the battery life of the project's latest run, or of an activity file."""
    estimate, window = (_of_file(activities), None) if activities is not None else _of_project(project)
    if json:
        print_json(life_json(estimate, window))
    else:
        print_life(estimate, window)


def _of_file(path: Path) -> LifeEstimate:
    file = read_activity_file(path)
    try:
        return estimate_life(file.model, file.target_s)
    except BadArgumentError as error:
        raise BadFileError(path, str(error)) from error


def _of_project(path: Path) -> tuple[LifeEstimate, Window | None]:
    session = open_project(path)
    try:
        if not session.project.runs:
            raise ProjectError(path, "there is no capture yet", remedy="import one first")
        run = session.run(session.current)
        return run.life, run.window
    finally:
        session.close()
