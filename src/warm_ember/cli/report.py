"""``warm-ember report``: what was found, as one file for whoever has no Warm Ember."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.cli.arguments import ProjectArgument
from warm_ember.cli.project import open_project


def report(
    project: ProjectArgument,
    output: Annotated[Path, typer.Option("-o", "--output", metavar="FILE", help=".html or .pdf.")],
    run: Annotated[
        list[str] | None,
        typer.Option("--run", metavar="NAME", help="The run; twice to compare two. All by default, about the latest."),
    ] = None,
    title: Annotated[str, typer.Option(metavar="TEXT", help="Title of the report.")] = "",
    without: Annotated[
        list[str] | None, typer.Option("--without", metavar="PART", help="Leave a part out; repeatable.")
    ] = None,
    claim: Annotated[
        list[str] | None,
        typer.Option("--claim", metavar="TEXT", help="A claim to check by two runs, such as “half the charge”."),
    ] = None,
) -> None:
    """Write a report of PROJECT to FILE: one file, nothing in it is outside."""
    from warm_ember.errors import BadArgumentError
    from warm_ember.report.contents import Choice, Part

    left_out = without or []
    unknown = [part for part in left_out if part not in list(Part)]
    if unknown:
        raise BadArgumentError(f"--without: there is no part {unknown[0]!r}; there are: {', '.join(Part)}")
    from warm_ember.report.pages import ENDINGS, write_report
    from warm_ember.report.writing import check_ending

    check_ending(output, ENDINGS)
    parts = frozenset(Part) - {Part(part) for part in left_out}
    with open_project(project) as opened:
        write_report(opened, Choice(tuple(run or ()), title, parts, tuple(claim or ())), output)
