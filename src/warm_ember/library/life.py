"""How long the battery lasts."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, NamedTuple

from warm_ember.errors import BadArgumentError, BadFileError, ProjectError
from warm_ember.library.grades import Graded
from warm_ember.library.record import Record
from warm_ember.library.states import Window, window_of
from warm_ember.model.figure import Bound, Grade
from warm_ember.units import HOUR_S

if TYPE_CHECKING:
    from warm_ember.attribution.window import Window as FoundWindow
    from warm_ember.battery.life import LifeEstimate
    from warm_ember.session.battery_results import UnseenLife
    from warm_ember.session.session import Session


class Weakest(Record, frozen=True, kw_only=True):
    """The input that is known least, of those that matter to the life."""

    what: str
    grade: str


class Unseen(Graded, frozen=True, kw_only=True):
    """What may be too seldom to be in the capture: how seldom, how much, and the life with it."""

    interval_s: float
    charge_c: float | None
    life_h: float | None


class Life(Graded, frozen=True, kw_only=True):
    """The life in hours with what ends it; ``window`` where the capture itself stands for the life."""

    OPTIONAL: ClassVar[frozenset[str]] = frozenset({"window", "unseen"})

    mean_a: float
    life_h: float
    life_h_p10: float
    life_h_p50: float
    life_h_p90: float
    limit: str
    used_capacity_c: float
    target_h: float | None
    budget_a: float | None
    weakest: Weakest
    window: Window | None = None
    unseen: Unseen | None = None

    @property
    def months(self) -> float:
        """The life in months, each a twelfth of 8760 h."""
        return self.life_h / (8760 / 12)


class LifeFound(NamedTuple):
    """A life, the part of a capture that stands for it, and what that cannot tell; None where activities do."""

    life: LifeEstimate
    window: FoundWindow | None = None
    unseen: UnseenLife | None = None


def life_in(session: Session, run: str = "", unseen_c: float | None = None) -> LifeFound:
    """Estimate the life of a run of a project, by default of the latest.

    Raises
    ------
    ProjectError
        If there is no run.
    BadArgumentError
        If `unseen_c` is given where activities say what happens how often.
    """
    if not session.project.runs:
        raise ProjectError(session.folder.path, "there is no capture yet", remedy="import one first")
    found = session.run(run or session.current)
    other = session.battery.unseen(session.project, found.run.name, unseen_c)
    if unseen_c is not None and other is None:
        raise BadArgumentError("--unseen is of no use here: the project's activities say what happens how often")
    return LifeFound(other.life if other is not None and other.life is not None else found.life, found.window, other)


def life_in_file(path: Path) -> LifeFound:
    """Estimate the life that a file of battery and activities gives.

    Raises
    ------
    BadFileError
        If it cannot be read, or what it says is impossible.
    """
    from warm_ember.battery.life import estimate_life
    from warm_ember.formats.activity_file import read_activity_file

    file = read_activity_file(path)
    try:
        return LifeFound(estimate_life(file.model, file.target_s))
    except BadArgumentError as error:
        raise BadFileError(path, str(error)) from error


def life_of(life: LifeEstimate, window: FoundWindow | None = None, unseen: UnseenLife | None = None) -> Life:
    """Return a life as an answer; where a capture stands for it, with what part of that does."""
    return Life(
        mean_a=life.mean_a,
        life_h=life.life_s / HOUR_S,
        life_h_p10=life.p10_s / HOUR_S,
        life_h_p50=life.p50_s / HOUR_S,
        life_h_p90=life.p90_s / HOUR_S,
        limit=life.limit.value,
        used_capacity_c=life.used_c,
        target_h=None if life.target_s is None else life.target_s / HOUR_S,
        budget_a=life.budget_a,
        weakest=Weakest(what=life.weakest.origin, grade=life.weakest.grade.value),
        window=None if window is None else window_of(window),
        unseen=None if unseen is None else _unseen_of(unseen),
        grade=life.weakest.grade.value,
        bound=life.bound and life.bound.value,
    )


def _unseen_of(found: UnseenLife) -> Unseen:
    return Unseen(
        interval_s=found.unseen.interval_s,
        charge_c=found.unseen.charge_c,
        life_h=None if found.at_limit_s is None else found.at_limit_s / HOUR_S,
        grade=(Grade.ENTERED if found.unseen.is_asked else Grade.ASSUMED).value,
        bound=Bound.AT_LEAST.value,
    )
