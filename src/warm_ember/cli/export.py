"""``warm-ember export``: take tables and pictures out of a project."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from warm_ember.cli.arguments import NameArgument, ProjectArgument
from warm_ember.cli.project import open_project
from warm_ember.errors import BadArgumentError
from warm_ember.model.fold import AlignBy
from warm_ember.report.contents import REPORT_DATA, TABLES, Choice

_PICTURES = (".svg", ".png")
_WHAT = f"{', '.join(TABLES)}, {REPORT_DATA}, or trace for a picture."
_ENDINGS = ".csv or .parquet; .h5 for a capture, .json for report-data, .svg or .png for trace."


def export_(
    project: ProjectArgument,
    name: NameArgument,
    what: Annotated[
        str, typer.Argument(metavar="WHAT", help=f"{', '.join(TABLES)}, {REPORT_DATA}, or trace for a picture.")
    ],
    output: Annotated[
        Path, typer.Option("-o", "--output", metavar="FILE", help=".csv, .parquet, .h5, .json, .svg or .png.")
    ],
    from_s: Annotated[float | None, typer.Option("--from", metavar="S", help="Start, of a capture or trace.")] = None,
    to_s: Annotated[float | None, typer.Option("--to", metavar="S", help="End, of a capture or trace.")] = None,
    align: Annotated[AlignBy | None, typer.Option(help="Fold on what.")] = None,
    of: Annotated[str, typer.Option(metavar="NAME", help="The wake source, state or line.")] = "",
    falling: Annotated[bool, typer.Option("--falling", help="On falling edges.")] = False,
    threshold: Annotated[float | None, typer.Option(metavar="A", help="Fold on crossing it.")] = None,
    period: Annotated[float | None, typer.Option(metavar="S", help="Fold by it.")] = None,
    before: Annotated[float, typer.Option(metavar="S", help="Show so much before the alignment.")] = 0.0,
    length: Annotated[float | None, typer.Option(metavar="S", help="Length of a cycle.")] = None,
    width: Annotated[int | None, typer.Option(metavar="PIXELS", help="How wide a picture is to be.")] = None,
) -> None:
    """Write WHAT of the capture NAME to FILE, as its ending says."""
    import msgspec

    from warm_ember.model.fold import FoldPlan
    from warm_ember.report.data import write_report_data
    from warm_ember.report.export import export

    if align is None and (threshold is not None or period is not None):
        align = AlignBy.PERIOD if period is not None else AlignBy.THRESHOLD
    with open_project(project) as opened:
        session = opened.session
        if what == REPORT_DATA:
            write_report_data(opened, Choice((name,)), output)
            return
        if what == "trace":
            if output.suffix.lower() not in _PICTURES:
                raise BadArgumentError(f"{output}: expected a picture ending in .svg or .png")
            from warm_ember.cli.open_window import save_trace

            save_trace(session, name, output, (from_s, to_s), width)
            return
        plan = None
        if align is not None:
            plan = FoldPlan(name, align, of, not falling, threshold, period, before, length)
        elif what in ("fold", "cycles"):
            known = session.results.fold_plan(session.project, name)
            plan = msgspec.structs.replace(known, before_s=before or known.before_s, length_s=length or known.length_s)
        export(session, name, what, output, plan=plan, stretch=(from_s, to_s))
