"""``warm-ember demo``: make the demo project and open it, or print what it shows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.tables import (
    print_findings,
    print_ledger,
    print_life,
    print_wakes,
)
from warm_ember.places import data_folder

if TYPE_CHECKING:
    from warm_ember.library.project import Project
    from warm_ember.session.session import Session


def demo(
    directory: Annotated[
        Path | None, typer.Argument(metavar="DIR", help="Where to make it; a folder of its own by default.")
    ] = None,
    headless: Annotated[bool, typer.Option("--headless", help="Print its figures instead of opening it.")] = False,
    json: JsonOption = False,
) -> int:
    """Make the demo project in DIR and open it."""
    path = directory or data_folder() / "demo"
    if not headless and not json:
        from warm_ember.cli.open_window import show

        return show(path, make_demo=True)
    from warm_ember.library.project import Project
    from warm_ember.session.demo import make_demo

    with Project(make_demo(path)) as opened:
        if json:
            print_json({"runs": [_run_json(opened, name) for name in opened.runs]})
        else:
            _print(opened.session)
    return 0


def _run_json(opened: Project, name: str) -> dict[str, object]:
    from warm_ember.library.life import life_of

    run = opened.runs[name]
    return {
        "capture": name,
        "states": {k: v for k, v in run.states().as_json().items() if k not in ("window", "whole_cycles")},
        "wakes": run.wakes().as_json(),
        "life": life_of(opened.session.run(name).life).as_json(),
        "findings": run.findings().as_json()["findings"],
    }


def _print(session: Session) -> None:
    from warm_ember.attribution.day import day_rows
    from warm_ember.library.findings import findings_of

    for run in session.project.runs:
        results = session.run(run.name)
        print_line(f"{run.name}  {run.label}")
        print_ledger(results.ledger, day_rows(results.load, results.ledger))
        print_wakes(session.results.wake_ledger(session.project, run.name))
        print_life(results.life)
        print_findings(findings_of(run.name, session.results.findings(session.project, run.name)))
        print_line()
