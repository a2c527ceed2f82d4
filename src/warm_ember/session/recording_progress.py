"""How far a recording is, as a record that whoever shows it paints."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from warm_ember.bench.recorder import Recorder
from warm_ember.session.bench_setup import room_beside


@dataclass(frozen=True)
class RecordingProgress:
    """A recording at one moment.

    Parameters
    ----------
    name
        Of the capture that it becomes.
    state
        What it does, in words.
    done_s, length_s
        How much of it there is, and how long it shall be; None until it is stopped.
    samples, missing, gaps
        How many came, how many are lost, in how many gaps.
    room_bytes, room_s
        What is left on the disk, and for how much longer that is enough; None before anything was written.
    """

    name: str
    state: str
    done_s: float
    length_s: float | None
    samples: int
    missing: int
    gaps: int
    room_bytes: int
    room_s: float | None

    @property
    def left_s(self) -> float | None:
        """How much of it is still to come; None where it goes on until it is stopped."""
        return max(0.0, self.length_s - self.done_s) if self.length_s is not None else None


def progress_of(recorder: Recorder, folder: Path) -> RecordingProgress:
    """Return how far a recording is."""
    job, file = recorder.job, recorder.file
    done_s, room = recorder.samples * job.settings.interval_s, room_beside(folder)
    written = file.bytes_written if file is not None else 0
    return RecordingProgress(
        job.path.name.removesuffix(".h5"),
        recorder.state,
        done_s,
        job.settings.duration_s,
        recorder.samples,
        recorder.missing,
        recorder.gaps,
        room,
        room * done_s / written if written else None,
    )
