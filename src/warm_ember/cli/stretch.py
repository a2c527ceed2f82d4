"""``warm-ember stretch``: the reading of one stretch."""

from __future__ import annotations

from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_table
from warm_ember.cli.project import open_project
from warm_ember.units import duration_text, percent_text, quantity_text


def stretch(
    project: ProjectArgument,
    name: NameArgument,
    from_s: Annotated[float, typer.Option("--from", metavar="S", help="Start of the stretch.")],
    to_s: Annotated[float, typer.Option("--to", metavar="S", help="End of the stretch.")],
    json: JsonOption = False,
) -> None:
    """Read a stretch of the capture NAME."""
    session = open_project(project)
    try:
        reading = session.capture(name).reading(from_s, to_s, supply_v=session.project.supply_v)
    finally:
        session.close()
    if json:
        print_json(
            {
                "from_s": reading.from_s,
                "to_s": reading.to_s,
                "coverage": reading.coverage,
                "mean_a": reading.mean_a,
                "min_a": reading.min_a,
                "max_a": reading.max_a,
                "charge_c": reading.charge_c,
                "energy_j": reading.energy_j,
            }
        )
        return
    rows = (
        ("length", duration_text(reading.length_s)),
        ("coverage", percent_text(reading.coverage)),
        ("mean current", quantity_text(reading.mean_a, "A")),
        ("lowest", quantity_text(reading.min_a, "A")),
        ("peak", quantity_text(reading.max_a, "A")),
        ("charge", quantity_text(reading.charge_c, "C")),
        ("energy", quantity_text(reading.energy_j, "J")),
    )
    print_table((f"{reading.from_s:.9g} s", f"to {reading.to_s:.9g} s"), rows)
