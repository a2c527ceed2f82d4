"""``warm-ember timers``: radio sleep timers as their codes and as times."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption
from warm_ember.cli.output import print_json, print_line
from warm_ember.cli.project import open_project
from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.coded import ROUNDED, TimerValue
from warm_ember.tuning.timers.intervals import STANDARDS
from warm_ember.tuning.timers.registry import ANY, KINDS, interval_at, timer_of
from warm_ember.tuning.timers.replies import Reply, decode_line
from warm_ember.units import duration_text, parse_quantity, quantity_text

if TYPE_CHECKING:
    from warm_ember.tuning.timers.period_model import PeriodModel

_DECODE, _ENCODE, _MODEL, _REPLY = "decode", "encode", "model", "at"
_WORDS = {
    "mode": "mode", "stat": "registration", "act": "access", "active_s": "active time", "periodic_s": "periodic update",
    "edrx_s": "requested cycle", "granted_edrx_s": "cycle granted", "ptw_s": "paging window",
}  # fmt: skip


def timers(
    action: Annotated[str, typer.Argument(metavar="decode|encode|model", help="Code to time, back, or a what-if.")],
    kind: Annotated[
        str,
        typer.Argument(metavar="KIND", help=f"{', '.join(KINDS)}, at; for model {', '.join((*STANDARDS, ANY))} too."),
    ],
    value: Annotated[
        list[str], typer.Argument(metavar="VALUE...", help="Bits; times such as 10min; a reply, a command.")
    ],
    charge: Annotated[str, typer.Option("--charge", metavar="C", help="model: what each time takes.")] = "",
    floor: Annotated[str, typer.Option("--floor", metavar="A", help="model: what flows between.")] = "",
    project: Annotated[Path | None, typer.Option("--project", help="model: where a capture shows both.")] = None,
    name: Annotated[str, typer.Option("--name", metavar="NAME", help="model: that capture.")] = "",
    of: Annotated[str, typer.Option("--of", metavar="WHAT", help="model: a wake source or state of it.")] = "",
    skipped: Annotated[int, typer.Option("--skipped", help="model: events that a peripheral sleeps through.")] = 0,
    json: JsonOption = False,
) -> None:
    """Decode radio sleep timers, encode times as the nearest that there is, or ask what a period would take."""
    if action == _MODEL:
        _model(kind, value, _fitted(project, name, of) if project is not None else None, charge, floor, skipped, json)
        return
    if action not in (_DECODE, _ENCODE):
        raise BadArgumentError(f"expected {_DECODE}, {_ENCODE} or {_MODEL}, found {action!r}")
    if kind == _REPLY:
        _reply(action, value, json)
        return
    timer = timer_of(kind)
    values = [timer.decode(one) if action == _DECODE else timer.encode(one) for one in value]
    if json:
        print_json({"values": [asdict(one) for one in values]})
        return
    for one in values:
        print_line(_line(one))
        more = timer.ways(one.seconds) if one.seconds is not None and action == _ENCODE else ()
        if len(more) > 1:
            print_line(f"  the same as {', '.join(code for code in more if code != one.octet)}")


def _fitted(project: Path, name: str, of: str) -> PeriodModel:
    """Return the model of a wake source or a state, as a capture shows it."""
    with open_project(project) as opened:
        session = opened.session
        found = session.tuning.periods(session.project, name)
    model = next((one for one in found if one.name == of), None)
    if model is None:
        there_are = ", ".join(one.name for one in found) or "nothing"
        raise BadArgumentError(f"{of!r} has no period in {name}; there are: {there_are}")
    return model


def _model(
    kind: str, values: list[str], fitted: PeriodModel | None, charge: str, floor: str, skipped: int, json: bool
) -> None:
    """Print what each period would take, and how soon the device would answer."""
    from warm_ember.tuning.timers.period_model import PeriodModel

    charge_c = fitted.charge_c if fitted is not None else _typed(charge, "C", "--charge")
    floor_a = fitted.floor_a if fitted is not None else _typed(floor, "A", "--floor")
    model = PeriodModel(kind, False, 1.0, charge_c, floor_a, 0)
    rows = []
    for one in values:
        wanted_s = _typed(one, "s", "a period")
        found = interval_at(kind, wanted_s, skipped)
        rows.append({"input": one, **asdict(found), "mean_a": model.mean_a(found.wakes_each_s)})
    if json:
        period_s = fitted.period_s if fitted is not None else None
        print_json({"charge_c": charge_c, "floor_a": floor_a, "fitted_period_s": period_s, "values": rows})
        return
    for row in rows:
        print_line(
            f"{duration_text(row['seconds'])} ({row['state']}): {quantity_text(row['mean_a'], 'A')}, answers within "
            f"{duration_text(row['worst_s'])}, {duration_text(row['reacts_s'])} on average"
        )
    if rows and rows[0]["limits"]:
        print_line(f"allowed: {rows[0]['limits']}")


def _typed(text: str, unit: str, what: str) -> float:
    try:
        return parse_quantity(text, unit)
    except ValueError:
        raise BadArgumentError(f"{what}: expected a number such as 12 µ{unit}, found {text!r}") from None


def _line(value: TimerValue) -> str:
    time = str(duration_text(value.seconds)) if value.seconds is not None else "deactivated"
    nearest = f", the nearest to {value.input}" if value.state == ROUNDED else ""
    return f"{value.octet}  {time}{nearest}"


def _reply(action: str, lines: list[str], json: bool) -> None:
    if action != _DECODE or len(lines) != 1:
        raise BadArgumentError("timers decode at takes one reply or command, in quotation marks")
    reply: Reply = decode_line(lines[0])
    if json:
        print_json(asdict(reply))
        return
    for name, found in asdict(reply).items():
        if found is not None:
            print_line(f"{_WORDS[name]}: {duration_text(found) if name.endswith('_s') else found}")
