"""``warm-ember sweep``: a target's settings are tried by the bench, and the best is found."""

from __future__ import annotations

import select
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.cli.project import open_project, say
from warm_ember.cli.signals import Asked, Stopped
from warm_ember.units import HOUR_S, MONTH_S, counted, format_significant, interval_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.library.sweep import Sweep, SweepPoint
    from warm_ember.model.sweep import Value
    from warm_ember.signal.series import ShouldStop

_STEP_S = 0.2


def sweep(
    project: ProjectArgument,
    recipe: Annotated[Path, typer.Option(metavar="FILE", help="The sweep's recipe, JSON.")],
    source: Annotated[str, typer.Option("--from", metavar="VISA", help="TCPIP::host::port::SOCKET or ASRL…")] = "",
    json: JsonOption = False,
) -> int:
    """Try a target's settings on the bench, where the answer is decided, and say which is best."""
    from warm_ember.library.sweep import nobody, read_recipe, sweep_in
    from warm_ember.session.sweeping import SweepTold, sweep_bench_of

    wanted = read_recipe(recipe)
    with open_project(project, create=True) as opened:
        sweep_bench_of(opened.session, wanted, source)
        asked = Asked()
        told = SweepTold(ask=nobody if json or not sys.stdin.isatty() else _ask, said=_quiet if json else _said)
        with asked.listening():
            found = sweep_in(opened, wanted, source, asked, told)
    if json:
        print_json(found.as_json())
    else:
        _print(found)
    if asked.number is None:
        return 0
    stopped = Stopped(asked.number)
    done = f"{found.measured} of {found.of} settings measured"
    say(f"{stopped}: the output is off, {done}; the same command goes on there")
    return stopped.exit_code


def _quiet(_words: str) -> None:
    """Say nothing."""


def _said(words: str) -> None:
    if sys.stdout.isatty():
        print_line(words)


def _ask(words: str, seconds: float, should_stop: ShouldStop) -> bool:
    """Ask whoever sits at the terminal, as long as somebody may come."""
    print_line(f"{words}, then press Enter")
    until_s = time.monotonic() + seconds
    while time.monotonic() < until_s and not should_stop():
        if select.select([sys.stdin], [], [], _STEP_S)[0]:
            return bool(sys.stdin.readline())
    return False


def _words_of(values: dict[str, Value]) -> str:
    from warm_ember.model.sweep import value_text

    return ", ".join(f"{name} {value_text(value)}" for name, value in values.items())


def _print(found: Sweep) -> None:
    from warm_ember.model.figure import Bound, signed
    from warm_ember.model.sweep import value_text

    rows = [
        (
            _words_of(one.values),
            _mean(one),
            interval_text(one.mean_a_low, one.mean_a_high, "A")
            if one.mean_a_low is not None and one.mean_a_high is not None
            else "",
            _months(one.life_h) if one.life_h is not None else "",
            one.state,
            one.reason,
        )
        for one in found.points
        if one.state != "left out"
    ]
    if rows:
        print_table(("setting", "mean", "90 %", "months", "state", "why"), rows)
    left: dict[str, int] = {}
    for one in found.points:
        if one.state == "left out":
            left[one.reason] = left.get(one.reason, 0) + 1
    for reason, count in left.items():
        print_line(f"{counted(count, 'setting')} left out: {reason}")
    for fit in found.fits:
        if fit.floor_a is not None and fit.charge_c is not None:
            ends = [(fit.floor_a_low, fit.floor_a_high, "A"), (fit.charge_c_low, fit.charge_c_high, "C")]
            floor, charge = (
                f" ({interval_text(low, high, unit)})" if low is not None and high is not None else ""
                for low, high, unit in ends
            )
            words = f"{fit.parameter}: floor {quantity_text(fit.floor_a, 'A')}{floor}"
            if fit.bound is not None and fit.floor_a_high is not None:
                words = f"{fit.parameter}: floor {signed(Bound(fit.bound), quantity_text(fit.floor_a_high, 'A'))}"
            words += f", {quantity_text(fit.charge_c, 'C')}{charge} each time"
            print_line(words + ("" if fit.fits else "; the model does not fit"))
    for even in found.break_evens:
        between = " and ".join(map(value_text, even.between))
        print_line(f"{even.of} {between}: break-even at {even.parameter} {format_significant(even.at)}")
    print_line(f"{found.measured} of {counted(found.of, 'setting')} measured; {found.ended}")
    best = found.chosen
    if best is None:
        print_line("no setting that is allowed was measured")
        return
    words = f"best: {_words_of(best.values)}: "
    if best.bound is not None or best.life_h_high is None:
        words += f"at least {_months(best.life_h)} months, at most {quantity_text(best.mean_a, 'A')}"
    else:
        reach = interval_text(best.life_h_low * HOUR_S / MONTH_S, best.life_h_high * HOUR_S / MONTH_S, "months")
        words += f"{_months(best.life_h)} months ({reach}), {quantity_text(best.mean_a, 'A')}"
    if best.chance_best is None:
        words += "; others may be better: of them no more than a bound is known"
    else:
        words += f"; chance that none is better by 1 %: {percent_text(best.chance_best)}"
    print_line(words + ("" if best.meets_goal else "; that is less than wanted"))


def _mean(point: SweepPoint) -> str:
    from warm_ember.model.figure import Bound, signed

    if point.mean_a is None:
        return ""
    bound = None if point.bound is None else Bound(point.bound)
    shown_a = point.mean_a_high if bound is Bound.BELOW and point.mean_a_high is not None else point.mean_a
    return signed(bound, quantity_text(shown_a, "A"))


def _months(life_h: float) -> str:
    return format_significant(life_h * HOUR_S / MONTH_S)
