"""What interrupted recordings left: finding it, and making captures of it."""

from __future__ import annotations

import contextlib
import logging
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from warm_ember.errors import BadFileError
from warm_ember.model.capture import CaptureInfo, Event
from warm_ember.model.heard import Heard
from warm_ember.signal.one_clock import events_of
from warm_ember.signal.series import CHUNK_SAMPLES
from warm_ember.store.capture_file import CaptureWriter, read_info
from warm_ember.store.capture_name import CaptureName, is_being_written
from warm_ember.store.hdf5_storage import import_h5py
from warm_ember.store.journaled_storage import complete
from warm_ember.store.layout import open_file
from warm_ember.store.recording_file import ENDING, LOG_ENDING, Note, discard, log_of, path_of
from warm_ember.units import counted

log = logging.getLogger(__name__)


def interrupted(captures: Path) -> tuple[Path, ...]:
    """Return the recordings in a folder of captures that nobody finished and nobody writes any more."""
    found = sorted(captures.glob(f".*.h5{ENDING}"))
    for log_file in captures.glob(f".*.h5{ENDING}{LOG_ENDING}"):
        partial = log_file.with_name(log_file.name.removesuffix(LOG_ENDING))
        if partial not in found and not is_being_written(path_of(partial)):
            # Its recording has become a capture, or never began.
            with contextlib.suppress(OSError):
                log_file.unlink(missing_ok=True)
    return tuple(partial for partial in found if not is_being_written(path_of(partial)))


class NothingRecordedError(BadFileError):
    """A recording that was interrupted before its first sample was safe: there is nothing to keep."""


def recover(partial: Path, path: Path) -> int:
    """Make a capture of what an interrupted recording holds, and remove the recording.

    Its note says that it was interrupted, and what could not be read.

    Parameters
    ----------
    partial
        From `interrupted`.
    path
        Where the capture shall be.

    Returns
    -------
    int
        Number of samples.

    Raises
    ------
    BadArgumentError
        If a capture or another program has the name.
    NothingRecordedError
        If it holds no sample.
    BadFileError
        If nothing can be read from it; it stays as it is.
    OSError
        If the disk is full or gone; the recording stays then.
    """
    own = CaptureName.take(path_of(partial), replace=True)
    try:
        # Under its own name it needs no second claim, which would stand in the way of the first.
        name = own if path == path_of(partial) and not path.exists() else CaptureName.take(path)
        try:
            samples = _recover(partial, path, name)
        finally:
            name.release()
        discard(partial)
    finally:
        own.release()
    return samples


def already_recovered(partial: Path) -> int | None:
    """Return how many samples a capture holds that was made of a recording which a killed program did not remove.

    None where there is no such capture.
    """
    path = path_of(partial)
    try:
        with import_h5py().File(partial, "r", locking=False) as recording, open_file(path) as capture:
            samples, recorded = len(capture["current"]), len(recording["current"])
            same = read_info(capture, path).start_utc == read_info(recording, partial).start_utc
            said = "interrupted" in read_info(capture, path).note
            if not (same and said and samples == recorded):
                return None
            ends = (slice(0, 1000), slice(max(0, samples - 1000), samples))
            same = all(
                np.array_equal(capture["current"][end], recording["current"][end], equal_nan=True) for end in ends
            )
            return samples if same else None
    except (OSError, KeyError, ValueError):
        return None


def _recover(partial: Path, path: Path, name: CaptureName) -> int:
    complete(partial)
    info, events = _notes_of(partial)
    if info is None and log_of(partial).exists():
        raise NothingRecordedError(partial, "this recording was interrupted before it began")
    try:
        file = import_h5py().File(partial, "r", locking=False)
    except OSError as error:
        words = " ".join(str(error).split())[:120]
        raise BadFileError(partial, f"this recording cannot be read ({words})", remedy="it stays as it is") from error
    with file:
        data: dict[str, Any] = {one: file[one] for one in ("current", "voltage", "lines") if one in file}
        samples = min((len(one) for one in data.values()), default=0)
        if not samples:
            raise NothingRecordedError(partial, "this recording was interrupted before its first sample")
        info = info or read_info(file, partial)
        line_names = tuple(map(str, data["lines"].attrs["names"])) if "lines" in data else ()
        aux: dict[str, Any] = dict(file.get("aux", {}))
        samples = min((samples, *map(len, aux.values())))
        units = {one: str(values.attrs.get("unit", "")) for one, values in aux.items()}
        with CaptureWriter(
            path, name=name, with_voltage="voltage" in data, line_names=line_names, aux_units=units
        ) as writer:
            for first in range(0, samples, CHUNK_SAMPLES):
                try:
                    last = min(first + CHUNK_SAMPLES, samples)
                    pieces = {one: values[first:last] for one, values in data.items()}
                    more = {one: values[first:last] for one, values in aux.items()}
                except OSError:
                    log.warning("%s cannot be read from sample %d on", partial, first, exc_info=True)
                    break
                writer.append(pieces["current"], voltage=pieces.get("voltage"), lines=pieces.get("lines"), aux=more)
            writer.copy_readings(file)
            if not writer.samples:
                raise BadFileError(partial, "no sample of this recording can be read", remedy="it stays as it is")
            said = "interrupted"
            if writer.samples < samples:
                said += f", damaged after {counted(writer.samples, 'sample')}"
            note = f"{info.note}; {said}" if info.note else said
            writer.finish(msgspec.structs.replace(info, note=note), events)
            return writer.samples


def _notes_of(partial: Path) -> tuple[CaptureInfo | None, tuple[Event, ...]]:
    """Return what was noted beside the samples; a last line that was cut off is left out."""
    info: CaptureInfo | None = None
    heard: list[Heard] = []
    with contextlib.suppress(FileNotFoundError):
        for line in log_of(partial).read_bytes().splitlines():
            try:
                note = msgspec.json.decode(line, type=Note)
            except msgspec.MsgspecError:
                log.info("a line of %s.log is cut off", partial.name)
                continue
            info = note.info or info
            if note.heard is not None:
                heard.append(note.heard)
    return info, events_of(heard)
