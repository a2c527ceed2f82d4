"""``warm-ember collect``: runs of projects into a data set."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import DataSetArgument, JsonOption, pairs
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import say
from warm_ember.units import counted

if TYPE_CHECKING:
    from warm_ember.library.collecting import Collected, Collection


def collect(
    dataset: DataSetArgument,
    projects: Annotated[
        list[Path], typer.Argument(metavar="PROJECT...", help="Folders of projects.", show_default=False)
    ],
    tag: Annotated[
        list[str] | None,
        typer.Option("--tag", metavar="KEY=VALUE", help="Written beside every row, such as commit=1f3c; repeatable."),
    ] = None,
    jobs: Annotated[
        int | None, typer.Option("--jobs", metavar="N", help="So many at a time; one a processor by default.")
    ] = None,
    scheduler: Annotated[
        str | None, typer.Option("--scheduler", metavar="ADDRESS", help="A Dask scheduler whose workers do it.")
    ] = None,
    json: JsonOption = False,
) -> int:
    """Write all runs of projects into a data set, where many runs are asked together."""
    from warm_ember.library.collecting import collect as collect_all

    done = 0

    def tell(one: Collected, of: int) -> None:
        nonlocal done
        done += 1
        if sys.stderr.isatty():
            say(f"{done} of {of}: {Path(one.project).name}, {one.run}: {one.state}")

    found = collect_all(dataset, projects, tags=pairs("--tag", tag or []), jobs=jobs, scheduler=scheduler, on_done=tell)
    if json:
        print_json(found.as_json())
    else:
        _print(found)
    if found.failed:
        first = next(one for one in found.runs if one.state == "failed")
        others = f", and {found.failed - 1} more" if found.failed > 1 else ""
        say(f"{Path(first.project).name}, {first.run} could not be collected{others}: {first.reason}")
        return 2
    return 0


def _print(found: Collection) -> None:
    for one in found.runs:
        if one.state == "failed":
            print_line(f"{one.project}, {one.run}: {one.reason}")
    print_line(f"{counted(found.written, 'run')} written, {found.there} there already, {found.failed} failed")
