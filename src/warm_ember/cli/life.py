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
from warm_ember.session.battery_results import UnseenLife


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
    if activities is not None:
        if unseen is not None:
            raise BadArgumentError("--unseen is about a capture, and --activities takes its place")
        estimate, window, other = _of_file(activities), None, None
    else:
        estimate, window, other = _of_project(project, unseen)
    if json:
        print_json(life_json(estimate, window, other))
    else:
        print_life(estimate, window, other)


def _of_file(path: Path) -> LifeEstimate:
    file = read_activity_file(path)
    try:
        return estimate_life(file.model, file.target_s)
    except BadArgumentError as error:
        raise BadFileError(path, str(error)) from error


def _of_project(path: Path, unseen_c: float | None) -> tuple[LifeEstimate, Window | None, UnseenLife | None]:
    session = open_project(path)
    try:
        if not session.project.runs:
            raise ProjectError(path, "there is no capture yet", remedy="import one first")
        run = session.run(session.current)
        other = session.battery.unseen(session.project, run.run.name, unseen_c)
        if unseen_c is not None and other is None:
            raise BadArgumentError("--unseen is of no use here: the project's activities say what happens how often")
        return other.life if other is not None and other.life is not None else run.life, run.window, other
    finally:
        session.close()
