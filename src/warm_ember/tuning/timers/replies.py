"""What a modem's replies, and commands to it, say of its timers: registration, power saving, discontinuous reception.

3GPP TS 27.007: ``+CEREG`` (10.1.22), ``+CPSMS`` (7.38), ``+CEDRXS`` (7.40) and ``+CEDRXRDP`` (7.41).
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.coded import TimerCode
from warm_ember.tuning.timers.discontinuous import NARROW_CYCLE, NARROW_WINDOW, WIDE_CYCLE, WIDE_WINDOW
from warm_ember.tuning.timers.power_saving import ACTIVE_TIME, PERIODIC_UPDATE

_REPLY = re.compile(r"\+(CEREG|CPSMS|CEDRXS|CEDRXP|CEDRXRDP)\s*:\s*(.*)", re.IGNORECASE)
_COMMAND = re.compile(r"AT\s*\+(CPSMS|CEDRXS)\s*=\s*(\d.*)", re.IGNORECASE)
_FIELD = re.compile(r'\s*(?:"([^"]*)"|([^,]*))\s*(?:,|$)')
_NARROW_BAND = 5


@dataclass(frozen=True)
class Reply:
    """What a reply or a command says; None where it is silent or the timer is deactivated.

    Parameters
    ----------
    mode, stat, act
        Mode of reporting or of power saving, state of registration, access technology.
    active_s, periodic_s
        Active time and periodic update.
    edrx_s, granted_edrx_s, ptw_s
        Cycle as asked for, as granted, and the paging window.
    """

    mode: int | None = None
    stat: int | None = None
    act: int | None = None
    active_s: float | None = None
    periodic_s: float | None = None
    edrx_s: float | None = None
    granted_edrx_s: float | None = None
    ptw_s: float | None = None


def find_line(text: str) -> str:
    """Return the command or reply in a line of a log, which may have more before it; empty without one."""
    found = [match[0] for match in (_COMMAND.search(text), _REPLY.search(text)) if match is not None]
    return found[0] if found else ""


def decode_line(text: str) -> Reply:
    """Read a reply, or a command as it is sent.

    Raises
    ------
    BadArgumentError
        If it is neither, or not on these timers, or one of its codes is none.
    """
    command, reply = _COMMAND.fullmatch(text.strip()), _REPLY.fullmatch(text.strip())
    found = Reply()
    if command is not None:
        found = _requested(command[1].upper(), _fields(command[2]))
    elif reply is not None:
        name, fields = reply[1].upper(), _fields(reply[2])
        read = {"CEREG": _registration, "CPSMS": _saving}.get(name, _reception)
        found = read(fields)
    if found == Reply():
        there_are = "a reply such as +CEREG: or +CEDRXRDP:, or a command such as AT+CPSMS=1 or AT+CEDRXS=1"
        raise BadArgumentError(f"expected {there_are}, with its values, found {text!r}")
    return found


def _requested(name: str, fields: list[str]) -> Reply:
    """Read ``mode,,,periodic update,active time``, or ``mode,AcT,cycle``."""
    if name == "CPSMS":
        return _saving(fields)
    asked = _reception(fields[1:])
    return replace(asked, mode=_number(fields, 0), granted_edrx_s=None, ptw_s=None)


def _saving(fields: list[str]) -> Reply:
    # The second and third are for another access, as is the rest.
    return Reply(
        mode=_number(fields, 0),
        periodic_s=_seconds(PERIODIC_UPDATE, fields, 3),
        active_s=_seconds(ACTIVE_TIME, fields, 4),
    )


def _fields(text: str) -> list[str]:
    found, at = [], 0
    while at <= len(text):
        match = _FIELD.match(text, at)
        if match is None:
            break
        found.append(match[1] if match[1] is not None else match[2].strip())
        if match.end() == at or (match.end() == len(text) and not text.endswith(",")):
            break
        at = match.end()
    return found


def _registration(fields: list[str]) -> Reply:
    """Read ``[n,]stat[,tac,ci,AcT[,cause_type,reject_cause[,active time[,periodic update]]]]``.

    What comes by itself has no ``n``: its second field is an area code, which has four digits and quotation marks.
    """
    with_mode = len(fields) > 1 and fields[1].isdigit() and len(fields[1]) == 1
    shift = 0 if with_mode else -1
    return Reply(
        mode=_number(fields, 0) if with_mode else None,
        stat=_number(fields, 1 + shift),
        act=_number(fields, 4 + shift),
        active_s=_seconds(ACTIVE_TIME, fields, 7 + shift),
        periodic_s=_seconds(PERIODIC_UPDATE, fields, 8 + shift),
    )


def _reception(fields: list[str]) -> Reply:
    """Read ``AcT[,asked for[,granted[,paging window]]]``."""
    act = _number(fields, 0)
    narrow = act == _NARROW_BAND
    cycle, window = (NARROW_CYCLE, NARROW_WINDOW) if narrow else (WIDE_CYCLE, WIDE_WINDOW)
    return Reply(
        act=act,
        edrx_s=_seconds(cycle, fields, 1),
        granted_edrx_s=_seconds(cycle, fields, 2),
        ptw_s=_seconds(window, fields, 3),
    )


def _number(fields: list[str], at: int) -> int | None:
    if at >= len(fields) or not fields[at]:
        return None
    if not fields[at].isdigit():
        raise BadArgumentError(f"expected a number as field {at + 1} of the reply, found {fields[at]!r}")
    return int(fields[at])


def _seconds(timer: TimerCode, fields: list[str], at: int) -> float | None:
    return timer.decode(fields[at]).seconds if at < len(fields) and fields[at] else None
