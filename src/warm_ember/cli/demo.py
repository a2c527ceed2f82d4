"""``warm-ember demo``: make the demo project and open it, or print what it shows."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import platformdirs
import typer

from warm_ember.attribution.day import day_rows
from warm_ember.cli.arguments import JsonOption
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.tables import (
    findings_json,
    ledger_json,
    life_json,
    print_findings,
    print_ledger,
    print_life,
    print_wakes,
    wakes_json,
)
from warm_ember.session.session import Session


def demo(
    directory: Annotated[
        Path | None, typer.Argument(metavar="DIR", help="Where to make it; a folder of its own by default.")
    ] = None,
    headless: Annotated[bool, typer.Option("--headless", help="Print its figures instead of opening it.")] = False,
    json: JsonOption = False,
) -> int:
    """Make the demo project in DIR and open it."""
    path = directory or platformdirs.user_data_path("warm-ember") / "demo"
    if not headless and not json:
        from warm_ember.cli.open_window import show

        return show(path, make_demo=True)
    from warm_ember.session.demo import make_demo

    session = make_demo(path)
    try:
        if json:
            print_json({"runs": [_run_json(session, run.name) for run in session.project.runs]})
        else:
            _print(session)
    finally:
        session.close()
    return 0


def _run_json(session: Session, name: str) -> dict[str, object]:
    results = session.run(name)
    return {
        "capture": name,
        "states": ledger_json(results.ledger),
        "wakes": wakes_json(session.results.wake_ledger(session.project, name)),
        "life": life_json(results.life),
        "findings": findings_json(session.results.findings(session.project, name)),
    }


def _print(session: Session) -> None:
    for run in session.project.runs:
        results = session.run(run.name)
        print_line(f"{run.name}  {run.label}")
        print_ledger(results.ledger, day_rows(results.load, results.ledger))
        print_wakes(session.results.wake_ledger(session.project, run.name))
        print_life(results.life)
        print_findings(session.results.findings(session.project, run.name))
        print_line()
