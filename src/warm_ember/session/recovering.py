"""Finishing what interrupted recordings left in a project."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from pathlib import Path

from warm_ember.errors import BadArgumentError, WarmEmberError
from warm_ember.model.project import Run
from warm_ember.session.new_capture import free_name
from warm_ember.session.session import Session
from warm_ember.store import interrupted_recording, recording_file
from warm_ember.store.room import not_written
from warm_ember.units import counted

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Recovered:
    """What became of one interrupted recording.

    Parameters
    ----------
    recording
        The name that it was to have.
    capture
        The capture that it is now; empty when there is none.
    samples
        How many were kept.
    problem
        Why there is no capture of it, in one line; empty when there is one, or when it held nothing.
    """

    recording: str
    capture: str = ""
    samples: int = 0
    problem: str = ""

    @property
    def sentence(self) -> str:
        """What to tell the user."""
        if self.capture:
            other = "" if self.capture == self.recording else f" as {self.capture!r}"
            return (
                f"finished the interrupted recording {self.recording!r}: {counted(self.samples, 'sample')} kept{other}"
            )
        if self.problem:
            return f"the interrupted recording {self.recording!r} could not be finished: {self.problem}"
        return f"the interrupted recording {self.recording!r} held no sample yet and was removed"


def interrupted_recordings(session: Session) -> tuple[Path, ...]:
    """Return the recordings of the project that a killed program left."""
    return interrupted_recording.interrupted(session.folder.captures)


def recover_all(session: Session) -> tuple[Recovered, ...]:
    """Make runs of all interrupted recordings that nobody writes any more, and save the project."""
    found = []
    for partial in interrupted_recordings(session):
        recovered = recover_file(session, partial)
        adopt_recovered(session, recovered)
        found.append(recovered)
    return tuple(found)


def recover_file(session: Session, partial: Path) -> Recovered:
    """Make a capture of an interrupted recording; what cannot be read stays as it is.

    The project itself is left to `adopt_recovered`.
    """
    recording = recording_file.name_of(partial)
    done = interrupted_recording.already_recovered(partial)
    if done is not None:
        recording_file.discard(partial)
        return Recovered(recording, recording, done)
    try:
        name = free_name(session, recording)
        samples = interrupted_recording.recover(partial, session.folder.capture_path(name))
    except interrupted_recording.NothingRecordedError:
        recording_file.discard(partial)
        return Recovered(recording)
    except WarmEmberError as error:
        log.warning("%s cannot be recovered", partial, exc_info=True)
        return Recovered(recording, problem=error.one_line)
    except OSError as error:
        log.warning("%s cannot be recovered", partial, exc_info=True)
        problem = not_written(partial, error, "what was recorded stays, and is finished by the next command")
        return Recovered(recording, problem=problem.one_line)
    return Recovered(recording, name, samples)


def adopt_recovered(session: Session, recovered: Recovered) -> None:
    """Make what was recovered a run of the project and save the project.

    Raises
    ------
    ProjectError
        If the project cannot be written.
    """
    if recovered.capture:
        session.forget_capture(recovered.capture)
        session.add_run(Run(recovered.capture, changed="interrupted"))
        session.save()


def discard_recording(session: Session, name: str) -> None:
    """Throw an interrupted recording away.

    Raises
    ------
    BadArgumentError
        If there is none of that name, or a living program writes it.
    """
    for partial in interrupted_recordings(session):
        if recording_file.name_of(partial) == name:
            recording_file.discard(partial)
            return
    known = ", ".join(map(recording_file.name_of, interrupted_recordings(session))) or "none"
    raise BadArgumentError(f"there is no interrupted recording {name!r}; there are: {known}")
