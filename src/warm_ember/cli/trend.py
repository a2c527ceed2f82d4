"""``warm-ember trend``: one figure over all runs of a data set, and where it changed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from warm_ember.cli.arguments import DataSetArgument, JsonOption, pairs
from warm_ember.cli.output import print_json, print_line, print_table
from warm_ember.model.finding import confidence_word
from warm_ember.units import HOUR_S, MONTH_S, counted, format_significant, interval_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.library.data_set import Lot, Trend, TrendChange


def trend(
    dataset: DataSetArgument,
    of: Annotated[
        str,
        typer.Option("--of", metavar="WHAT", help="average, life, state:NAME, source:NAME or finding:KIND."),
    ] = "average",
    by: Annotated[
        str, typer.Option("--by", metavar="KEY", help="commit, firmware, a tag, or time for each run alone.")
    ] = "",
    only: Annotated[
        list[str] | None,
        typer.Option("--only", metavar="KEY=VALUE", help="Only runs with this value in a column; repeatable."),
    ] = None,
    json: JsonOption = False,
) -> None:
    """Show where a figure of a data set changed: at which build, by how much, how sure that is."""
    from warm_ember.library.data_set import DataSet

    found = DataSet(dataset).trend(of, by, pairs("--only", only or []))
    if json:
        print_json(found.as_json())
    else:
        _print(found)


def _print(found: Trend) -> None:
    is_life = found.of == "life"
    unit = "months" if is_life else "A"
    scale = HOUR_S / MONTH_S if is_life else 1.0

    def write(value: float) -> str:
        return f"{format_significant(scale * value)} months" if is_life else str(quantity_text(value, "A"))

    if found.changes:
        rows = [
            (one.at, write(one.before), write(one.after), _share(one.before, one.after),
             _interval(one, scale, unit), confidence_word(one.confidence))
            for one in found.changes
        ]  # fmt: skip
        print_table((found.by, "before", "after", "change", "90 %", "confidence"), rows)
        print_line()
    places = len({one.key for one in found.series})
    what = "run" if found.by == "time" else found.by
    changes = counted(len(found.changes), "change") if found.changes else "no change"
    last = write(found.changes[-1].after) if found.changes else ""
    words = f"{found.of} of {counted(len(found.series), 'run')}"
    words += "" if found.by == "time" else f", {counted(places, what)}"
    print_line(f"{words}: {changes}" + (f"; now {last}" if last else ""))
    odd = [one for one in found.series if one.outlier]
    if odd:
        print_line(f"{counted(len(odd), 'run')} far off and no change, such as {odd[0].run} of {odd[0].key}")
    for board in found.boards:
        if board.odd and board.from_others is not None:
            side = "more" if board.from_others > 0 else "less"
            by = format_significant(abs(board.from_others) * 100)
            print_line(f"board {board.board} draws {by} % {side} than the others")
    if found.lot is not None:
        print_line(_lot_words(found.lot))
    for note in found.notes:
        print_line(note)


def _lot_words(lot: Lot) -> str:
    p10, p50, p90 = (
        format_significant(hours * HOUR_S / MONTH_S) for hours in (lot.life_h_p10, lot.life_h_p50, lot.life_h_p90)
    )
    words = f"the lot, {counted(lot.boards, 'board')} and cells together: 1 in 10 ends before {p10} months, "
    words += f"half before {p50}, 9 in 10 before {p90}"
    if lot.chance is not None and lot.target_h is not None:
        months = format_significant(lot.target_h * HOUR_S / MONTH_S)
        words += f"; {percent_text(lot.chance)} reach {months} months"
    if lot.life_h_p10_without_odd is not None:
        words += f"; without what is odd {format_significant(lot.life_h_p10_without_odd * HOUR_S / MONTH_S)}"
    return f"{words}; least certain input: {lot.weakest}" if lot.weakest else words


def _interval(one: TrendChange, scale: float, unit: str) -> str:
    if one.low is None or one.high is None:
        return "or more, a level is only bounded"
    return interval_text(scale * one.low, scale * one.high, unit)


def _share(before: float, after: float) -> str:
    return f"{'+' if after > before else '−'}{format_significant(abs(after / before - 1) * 100)} %" if before else "–"
