"""A run compared with limits."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from warm_ember.errors import BadFileError
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.fleet.expected import Expected
    from warm_ember.session.session import Session
    from warm_ember.tuning.gate import GateResult


DATA_SET = "dataset:"
"""What a baseline begins with that is a data set's history, not a run."""


class Check(Record, frozen=True, kw_only=True):
    """One limit: ``pass`` or ``fail`` where the 90 % interval lies wholly on one side of it, else ``undecided``."""

    name: str
    outcome: str
    value: float | None
    low: float | None
    high: float | None
    limit: float | None
    text: str


class Gate(Record, frozen=True, kw_only=True):
    """All limits of a file, compared with one run."""

    ROWS: ClassVar[str] = "checks"
    KEY: ClassVar[str] = "name"

    capture: str
    baseline: str | None
    outcome: str
    checks: tuple[Check, ...]

    @property
    def passed(self) -> bool:
        """Whether no limit was missed; what is undecided was not, unless the limits are strict."""
        return self.outcome != "fail"

    @property
    def failures(self) -> tuple[Check, ...]:
        """The checks that failed."""
        return tuple(check for check in self.checks if check.outcome == "fail")


def gate_in(session: Session, limits: Path, run: str, baseline: str = "") -> GateResult:
    """Compare a run of a project with a limits file.

    Raises
    ------
    BadFileError
        If the file cannot be read, or names a state or a source that the run does not have, with line and key.
    """
    from warm_ember.session.gate_results import MissingNameError
    from warm_ember.store.limits_file import place_of, read_limits_file

    wanted = read_limits_file(limits)
    history = _history(session, run, baseline.removeprefix(DATA_SET)) if baseline.startswith(DATA_SET) else None
    try:
        return session.gate.gate(session.project, wanted, run, baseline, history=history)
    except MissingNameError as error:
        raise BadFileError(limits, str(error), where=place_of(limits, *error.key)) from error


def _history(session: Session, run: str, address: str) -> dict[str, Expected | str]:
    """Return what a data set expects of a run, by figure; the run itself may stand in it, and is left out."""
    from warm_ember.fleet.data_set import DataSet
    from warm_ember.fleet.expected import expect
    from warm_ember.fleet.history import read_histories
    from warm_ember.fleet.trend import find_trend

    capture, wanted = session.capture(run), session.gate.figures_of(session.project, run)
    # Of another device, or at another voltage, nothing would be told of this one.
    only = (("target", capture.info.target),) if capture.info.target else ()
    histories = read_histories(DataSet(address), tuple(wanted), only=only)
    mine = capture.content_hash()
    return {figure: expect(find_trend(one), capture.info.board, mine) for figure, one in histories.items()}


def gate_of(found: GateResult) -> Gate:
    """Return a gate's result as an answer."""
    fields = Check.__struct_fields__
    return Gate(
        capture=found.capture,
        baseline=found.baseline or None,
        outcome=found.outcome.value,
        checks=tuple(Check(**{name: getattr(check, name) for name in fields}) for check in found.checks),
    )
