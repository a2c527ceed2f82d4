"""A data set as notebooks and the command line use it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, ClassVar

from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.fleet.trend import Trend as FoundTrend


class TrendPoint(Record, frozen=True, kw_only=True):
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


class TrendChange(Record, frozen=True, kw_only=True):
    """A change of level: the key it begins at, both levels, and the difference with its 90 % interval."""

    at: str
    before: float
    after: float
    change: float
    low: float
    high: float
    confidence: float


class Trend(Record, frozen=True, kw_only=True):
    """A figure of all runs in their order, and where it changed; its rows are the runs.

    Currents are in A, a life is in h.
    """

    ROWS: ClassVar[str] = "series"

    of: str
    by: str
    series: tuple[TrendPoint, ...]
    changes: tuple[TrendChange, ...]
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
        from warm_ember.fleet.history import read_history
        from warm_ember.fleet.trend import find_trend

        return trend_of(find_trend(read_history(Files(self.address), of, by, tuple((only or {}).items()))))


def trend_of(found: FoundTrend) -> Trend:
    """Return a trend as an answer."""
    history = found.history
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
            )
            for run, outlier in zip(history.runs, found.outlier, strict=True)
        ),
        changes=tuple(
            TrendChange(**{name: getattr(one, name) for name in TrendChange.__struct_fields__}) for one in found.changes
        ),
        notes=history.notes,
    )
