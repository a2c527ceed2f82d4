"""``warm-ember stretch``: the reading of one stretch."""

from __future__ import annotations

from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_table
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import figure_text
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
    with open_project(project) as opened:
        reading = opened.runs[name].stretch(from_s, to_s, whole_cycles=whole_cycles)
    if json:
        print_json(reading.as_json())
        return
    from warm_ember.model.figure import Bound, Figure

    bound = Bound(reading.bound) if reading.bound else None
    mean = Figure(reading.mean_a, reading.mean_a_low, reading.mean_a_high, bound=bound)
    rows = (
        ("length", duration_text(reading.to_s - reading.from_s)),
        ("coverage", percent_text(reading.coverage)),
        *((("whole cycles", f"{reading.cycles} of {duration_text(reading.cycle_s)}"),) if reading.cycles else ()),
        ("mean current", figure_text(mean, "A")),
        ("lowest", quantity_text(reading.min_a, "A")),
        ("peak", quantity_text(reading.max_a, "A")),
        ("charge", quantity_text(reading.charge_c, "C")),
        ("energy", quantity_text(reading.energy_j, "J")),
    )
    print_table((f"{reading.from_s:.9g} s", f"to {reading.to_s:.9g} s"), rows)
