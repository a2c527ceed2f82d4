"""``warm-ember states``: the ledger of one capture."""

from __future__ import annotations

from warm_ember.attribution.clock import clock_sentence
from warm_ember.attribution.window import Window
from warm_ember.cli.arguments import JsonOption, NameArgument, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project
from warm_ember.cli.tables import ledger_json, print_ledger, window_json
from warm_ember.units import quantity_text


def states(project: ProjectArgument, name: NameArgument, json: JsonOption = False) -> None:
    """Show where the charge of the capture NAME goes, by state."""
    session = open_project(project)
    try:
        ledger = session.results.ledger(session.project, name)
        alignment = session.results.placement(session.project, name).alignment
        cycles, reading = session.results.window(session.project, name), None
        if cycles.cycles is not None or cycles.left_out:
            reading = session.capture(name).reading(cycles.from_s, cycles.to_s)
    finally:
        session.close()
    if json:
        whole = Window(0.0, ledger.duration_s)
        print_json(
            {
                **ledger_json(ledger),
                "window": window_json(whole),
                "whole_cycles": None if reading is None else {**window_json(cycles), "mean_a": reading.mean_a},
            }
        )
    else:
        print_ledger(ledger)
        over = "" if reading is None else f"; {cycles.words[5:]}: {quantity_text(reading.mean_a, 'A')}"
        print_line(f"over the whole capture{over}")
        if alignment is not None:
            print_line(clock_sentence(alignment).replace("**", ""))
