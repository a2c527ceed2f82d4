"""``warm-ember timers``: radio sleep timers as their codes and as times."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption
from warm_ember.cli.output import print_json, print_line
from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.coded import ROUNDED, TimerValue
from warm_ember.tuning.timers.registry import KINDS, timer_of
from warm_ember.tuning.timers.replies import Reply, decode_reply
from warm_ember.units import duration_text

_DECODE, _ENCODE, _REPLY = "decode", "encode", "at"
_WORDS = {
    "mode": "mode", "stat": "registration", "act": "access", "active_s": "active time", "periodic_s": "periodic update",
    "edrx_s": "cycle asked for", "granted_edrx_s": "cycle granted", "ptw_s": "paging window",
}  # fmt: skip


def timers(
    action: Annotated[str, typer.Argument(metavar="decode|encode", help="From code to time, or back.")],
    kind: Annotated[str, typer.Argument(metavar="KIND", help=f"{', '.join(KINDS)}, or at for a modem's reply.")],
    value: Annotated[list[str], typer.Argument(metavar="VALUE...", help="Bits; times such as 10min; a reply line.")],
    json: JsonOption = False,
) -> None:
    """Decode radio sleep timers, or encode times as the nearest that there is."""
    if action not in (_DECODE, _ENCODE):
        raise BadArgumentError(f"expected {_DECODE} or {_ENCODE}, found {action!r}")
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


def _line(value: TimerValue) -> str:
    time = str(duration_text(value.seconds)) if value.seconds is not None else "deactivated"
    nearest = f", the nearest to {value.input}" if value.state == ROUNDED else ""
    return f"{value.octet}  {time}{nearest}"


def _reply(action: str, lines: list[str], json: bool) -> None:
    if action != _DECODE or len(lines) != 1:
        raise BadArgumentError("timers decode at takes one reply line, in quotation marks")
    reply: Reply = decode_reply(lines[0])
    if json:
        print_json(asdict(reply))
        return
    for name, found in asdict(reply).items():
        if found is not None:
            print_line(f"{_WORDS[name]}: {duration_text(found) if name.endswith('_s') else found}")
