"""What a sweep has measured so far, in the project's folder: started again, it goes on there."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import blake2b
from pathlib import Path

import msgspec

from warm_ember.errors import BadFileError, ProjectError
from warm_ember.model.figure import Bound
from warm_ember.model.sweep import Setting, SweepRecipe
from warm_ember.store.lock import Lock
from warm_ember.store.new_file import write_new
from warm_ember.store.room import not_written

FORMAT = 1
_ENDING = ".json"


class SweepRecording(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One recording of one setting.

    Parameters
    ----------
    setting
        The values, in the order of the parameters.
    capture
        Its capture.
    mean_a
        Mean current of what counts of it, A.
    from_s, to_s
        That stretch.
    bound
        On which side of the mean the truth lies, where the instrument tells no more.
    least_a
        What the instrument resolves there; 0 where that was not asked, as the mean is far above.
    """

    setting: Setting
    capture: str
    mean_a: float
    from_s: float
    to_s: float
    bound: Bound | None = None
    least_a: float = 0.0


class LeftOut(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A setting that was tried and not measured.

    Parameters
    ----------
    setting
        The values.
    is_refused
        Whether the target refused it.
    reason
        Why, in words.
    """

    setting: Setting
    is_refused: bool
    reason: str


class SweepProgress(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How far a sweep has come.

    Parameters
    ----------
    recipe
        The sweep.
    begun_utc
        When it was started first, ISO 8601.
    recordings
        In the order made.
    left_out
        Settings that could not be measured.
    ended
        Why it ended, in words; empty while there is more to do.
    spent_s
        How long it has run in all.
    """

    recipe: SweepRecipe
    begun_utc: str = ""
    recordings: tuple[SweepRecording, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    ended: str = ""
    spent_s: float = 0.0
    format: int = FORMAT


def sweep_name(recipe: SweepRecipe) -> str:
    """Return what a sweep is known by: 8 characters of what decides which recordings there are.

    What is wanted of the best, when it ends, and which values are tried may change afterwards: the recordings stay.
    """
    set_by = [(one.name, one.send, one.confirm, one.settle_s, one.has_periods) for one in recipe.parameters]
    asked = (set_by, recipe.record_s, recipe.settings, recipe.console, recipe.prepare, recipe.note)
    return blake2b(msgspec.json.encode(asked, order="sorted"), digest_size=4).hexdigest()


class SweepJournal:
    """The progress of one sweep of a project.

    Parameters
    ----------
    project
        The project's folder.
    recipe
        The sweep.
    """

    def __init__(self, project: Path, recipe: SweepRecipe) -> None:
        self.name = sweep_name(recipe)
        self.path = project / "sweeps" / f"{self.name}{_ENDING}"
        self._recipe = recipe

    def read(self) -> SweepProgress:
        """Return what was done so far.

        Raises
        ------
        BadFileError
            If the file is there and cannot be read.
        """
        if not self.path.exists():
            return SweepProgress(self._recipe)
        return msgspec.structs.replace(read_progress(self.path), recipe=self._recipe, ended="")

    def write(self, progress: SweepProgress) -> None:
        """Write what was done.

        Raises
        ------
        ProjectError
            If it cannot be written.
        """
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            write_new(self.path, msgspec.json.format(msgspec.json.encode(progress), indent=1))
        except OSError as error:
            raise not_written(self.path, error, "the sweep stopped") from error

    @contextmanager
    def held(self) -> Iterator[None]:
        """Hold the sweep, so that no other program goes on with it.

        Raises
        ------
        ProjectError
            If another one does, or the folder cannot be written.
        """
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            lock = Lock(self.path.with_suffix(".lock"))
            is_mine = lock.take()
        except OSError as error:
            raise not_written(self.path, error, "nothing was measured") from error
        if not is_mine:
            raise ProjectError(self.path, "another program runs this sweep", remedy="wait for it, or stop it first")
        try:
            yield
        finally:
            lock.release()


def read_progress(path: Path) -> SweepProgress:
    """Read a sweep's file.

    Raises
    ------
    BadFileError
        If it is none, or of a newer version.
    """
    try:
        content = path.read_bytes()
        return msgspec.json.decode(content, type=SweepProgress)
    except OSError as error:
        raise BadFileError(path, f"it cannot be read: {error.strerror}") from error
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, f"this is no sweep of this version: {error}") from error


def sweeps_of(project: Path) -> tuple[Path, ...]:
    """Return the files of a project's sweeps, the newest first."""
    try:
        found = [(one.stat().st_mtime, one) for one in (project / "sweeps").glob(f"*{_ENDING}")]
    except OSError:
        return ()
    return tuple(path for _, path in sorted(found, reverse=True))
