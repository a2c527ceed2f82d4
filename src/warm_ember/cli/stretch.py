"""``warm-ember stretch``: the reading of one stretch."""

from __future__ import annotations

from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_table
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import ends_json, figure_text, grade_json
from warm_ember.errors import BadArgumentError
from warm_ember.units import duration_text, percent_text, quantity_text


def stretch(
    project: ProjectArgument,
    name: NameArgument,
    from_s: Annotated[float | None, typer.Option("--from", metavar="S", help="Start of the stretch.")] = None,
    to_s: Annotated[float | None, typer.Option("--to", metavar="S", help="End of the stretch.")] = None,
    whole_cycles: Annotated[
        bool, typer.Option("--whole-cycles", help="Take whole cycles: those about the stretch, or all there are.")
    ] = False,
    json: JsonOption = False,
) -> None:
    """Read a stretch of the capture NAME."""
    cycles: dict[str, float | int] = {}
    with open_project(project) as session:
        if whole_cycles:
            found = session.results.whole_cycles(session.project, name, from_s, to_s)
            from_s, to_s = found.from_s, found.to_s
            cycles = {"cycles": found.cycles, "cycle_s": (found.to_s - found.from_s) / found.cycles}
        if from_s is None or to_s is None:
            raise BadArgumentError("a stretch needs --from and --to, or --whole-cycles")
        reading = session.capture(name).reading(from_s, to_s, supply_v=session.project.supply_v)
        figure = session.results.stretch_mean(session.project, name, reading)
    if json:
        print_json(
            {
                "from_s": reading.from_s,
                "to_s": reading.to_s,
                "coverage": reading.coverage,
                "mean_a": reading.mean_a,
                **ends_json("mean_a", (figure.low, figure.high)),
                "min_a": reading.min_a,
                "max_a": reading.max_a,
                "charge_c": reading.charge_c,
                "energy_j": reading.energy_j,
                **grade_json(figure),
                **cycles,
            }
        )
        return
    rows = (
        ("length", duration_text(reading.length_s)),
        ("coverage", percent_text(reading.coverage)),
        *((("whole cycles", f"{cycles['cycles']} of {duration_text(cycles['cycle_s'])}"),) if cycles else ()),
        ("mean current", figure_text(figure, "A")),
        ("lowest", quantity_text(reading.min_a, "A")),
        ("peak", quantity_text(reading.max_a, "A")),
        ("charge", quantity_text(reading.charge_c, "C")),
        ("energy", quantity_text(reading.energy_j, "J")),
    )
    print_table((f"{reading.from_s:.9g} s", f"to {reading.to_s:.9g} s"), rows)
