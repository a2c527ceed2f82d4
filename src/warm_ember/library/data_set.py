"""A data set as notebooks and the command line use it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.grades import Graded
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.fleet.history import History
    from warm_ember.fleet.trend import Trend as FoundTrend


class TrendPoint(Graded, frozen=True, kw_only=True):
    """One run of the series; ``outlier`` where it lies far off its level, and is no change."""

    key: str
    run: str
    value: float
    low: float | None
    high: float | None
    project: str
    board: str
    recorded_utc: str
    outlier: bool


class TrendChange(Graded, frozen=True, kw_only=True):
    """A change of level: the key it begins at, both levels, and the difference with its 90 % interval.

    Where a level is only bounded, so is the difference, and the interval has no end on that side.
    """

    at: str
    before: float
    after: float
    change: float
    low: float | None
    high: float | None
    confidence: float


class BoardRow(Graded, frozen=True, kw_only=True):
    """A board since the last change: the middle of its runs, what 8 in 10 lie between, how far from the others."""

    board: str
    runs: int
    median: float
    p10: float
    p90: float
    from_others: float | None
    odd: bool


class Lot(Graded, frozen=True, kw_only=True):
    """The life of any post of the lot, boards and cells together; without the odd boards where there are any."""

    boards: int
    life_h_p10: float
    life_h_p50: float
    life_h_p90: float
    target_h: float | None
    chance: float | None
    life_h_p10_without_odd: float | None
    weakest: str


class Trend(Record, frozen=True, kw_only=True):
    """A figure of all runs in their order, and where it changed; its rows are the runs.

    Currents are in A, a life is in h.
    """

    ROWS: ClassVar[str] = "series"

    of: str
    by: str
    series: tuple[TrendPoint, ...]
    changes: tuple[TrendChange, ...]
    boards: tuple[BoardRow, ...]
    lot: Lot | None
    notes: tuple[str, ...]


class DataSet:
    """Many runs of many projects, as ``warm-ember collect`` wrote them."""

    def __init__(self, address: str) -> None:
        self.address = address

    def __repr__(self) -> str:
        return f"<data set {self.address!r}>"

    def trend(self, of: str = "average", by: str = "", only: Mapping[str, str] | None = None) -> Trend:
        """Return one figure of all runs in their order, and where it changed.

        Parameters
        ----------
        of
            ``average``, ``life``, ``state:NAME``, ``source:NAME`` or ``finding:KIND``.
        by
            A column such as ``commit``, or ``time``.
        only
            Values that runs must have, by column.

        Raises
        ------
        BadFileError
            If there is no data set.
        BadArgumentError
            If there is no such figure or column.
        """
        from warm_ember.fleet.data_set import DataSet as Files
        from warm_ember.fleet.history import read_histories
        from warm_ember.fleet.trend import find_trend

        asked = dict.fromkeys((of, "life") if of == "average" else (of,))
        histories = read_histories(Files(self.address), tuple(asked), by, tuple((only or {}).items()))
        return trend_of(find_trend(histories[of]), histories.get("life") if of == "average" else None)


def trend_of(found: FoundTrend, lives: History | None = None) -> Trend:
    """Return a trend as an answer; with the lives of the same runs, those of the lot."""
    from warm_ember.fleet.boards import find_boards
    from warm_ember.fleet.trend import weakest_grade

    history, boards = found.history, find_boards(found)
    grade = weakest_grade(history, found.since, len(history.keys)).value
    return Trend(
        of=history.of,
        by=history.by,
        series=tuple(
            TrendPoint(
                key=run.key,
                run=run.run,
                value=run.value,
                low=run.low,
                high=run.high,
                project=run.project,
                board=run.board,
                recorded_utc=run.recorded_utc,
                outlier=bool(outlier),
                grade=run.grade,
                bound=run.bound,
            )
            for run, outlier in zip(history.runs, found.outlier, strict=True)
        ),
        changes=tuple(
            TrendChange(
                at=one.at,
                before=one.before,
                after=one.after,
                change=one.change,
                low=one.low,
                high=one.high,
                confidence=one.confidence,
                grade=one.grade.value,
                bound=one.bound and one.bound.value,
            )
            for one in found.changes
        ),
        boards=tuple(
            BoardRow(
                board=one.name,
                runs=len(one.values),
                median=one.median,
                p10=one.low,
                p90=one.high,
                from_others=one.from_others,
                odd=one.is_odd,
                grade=grade,
            )
            for one in boards
        ),
        lot=_lot(found, lives, frozenset(one.name for one in boards if one.is_odd)) if lives is not None else None,
        notes=found.notes,
    )


def _lot(found: FoundTrend, lives: History, odd: frozenset[str]) -> Lot | None:
    from warm_ember.fleet.boards import find_lot
    from warm_ember.fleet.trend import weakest_grade

    target_h = lives.target_h
    lot = find_lot(found, lives, target_h=target_h)
    if lot is None:
        return None
    usual = find_lot(found, lives, target_h=target_h, without=odd) if odd else None
    return Lot(
        boards=lot.boards,
        life_h_p10=lot.p10_h,
        life_h_p50=lot.p50_h,
        life_h_p90=lot.p90_h,
        target_h=target_h,
        chance=lot.chance,
        life_h_p10_without_odd=usual.p10_h if usual is not None else None,
        weakest=lives.weakest,
        grade=weakest_grade(lives, 0, len(lives.keys)).value,
    )
