"""The display pyramid of a capture: stored in its file when that is written, beside it when made anew.

A finished capture is never written again. A summary counts while the file shows the very time of its last change that
the summary was made for, and blocks of samples here and there add up to what it says of them. That time is set ten
seconds back and to an even second, so that every file system holds it exactly and any later change shows.
"""

from __future__ import annotations

import contextlib
import logging
import os
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from warm_ember.errors import Cancelled
from warm_ember.model.arrays import Blocks
from warm_ember.signal.bits import BitPyramidBuilder, reduce_bit_blocks, reduce_bits
from warm_ember.signal.pyramid import BLOCK_SAMPLES, RATIO, Pyramid, PyramidBuilder, reduce_blocks, reduce_samples
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop, ignore_progress, never
from warm_ember.store.hdf5_storage import Storage, import_h5py
from warm_ember.store.layout import check_finite
from warm_ember.store.new_file import NewFile
from warm_ember.units import counted

if TYPE_CHECKING:
    import h5py

log = logging.getLogger(__name__)

_STAMP, _BYTES, _SAMPLES = "file_time_ns", "file_bytes", "samples"
_BACK_NS, _EVEN_NS = 10_000_000_000, 2_000_000_000
_TRIED_BLOCKS = 12
_ALL_TRIED = 64
_READ_WHOLE_BYTES = 1 << 20
_ENDING = ".summary"


def stamp_now() -> int:
    """Return the time of its last change that a file with a new summary shall show, in ns."""
    return (time.time_ns() - _BACK_NS) // _EVEN_NS * _EVEN_NS


def write_summary(
    file: h5py.File, samples: int, pyramids: Mapping[str, Pyramid], bits: list[Blocks] | None, stamp_ns: int
) -> None:
    """Write all pyramids of a capture below ``/summary``.

    Parameters
    ----------
    file
        The capture file, or the one beside it, open for writing.
    samples
        Of the capture.
    pyramids
        By channel.
    bits
        The levels of the digital lines, finest first, each of shape ``(blocks,)``; None without lines.
    stamp_ns
        Of the file that they are of.
    """
    group = file.create_group("summary")
    group.attrs[_STAMP] = stamp_ns
    group.attrs[_SAMPLES] = samples
    for name, pyramid in pyramids.items():
        for size, blocks in zip(pyramid.sizes, pyramid.levels, strict=True):
            group.create_dataset(f"{name}/blocks_of_{size}", data=blocks)
    for level, blocks in enumerate(bits or []):
        group.create_dataset(f"lines/blocks_of_{BLOCK_SAMPLES * RATIO**level}", data=blocks)


@dataclass(frozen=True, eq=False)
class Summary:
    """The levels of each channel, finest first: arrays, or datasets that are read on demand.

    Parameters
    ----------
    levels
        By channel: ``current``, ``voltage``, ``power``, ``lines``, ``aux/<name>``.
    file
        The file beside the capture that they are read from, to be closed with it; None for none.
    """

    levels: Mapping[str, list[Any]]
    file: h5py.File | None = None

    def close(self) -> None:
        """Close the file beside the capture."""
        if self.file is not None:
            self.file.close()


def summary_of(
    file: h5py.File, path: Path, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress
) -> Summary:
    """Return the summary of an open capture; where there is none that holds, make it in one pass.

    The new one is stored beside the capture where that can be written, else kept in memory.

    Raises
    ------
    BadFileError
        If the capture holds an infinite value.
    Cancelled
        As soon as `should_stop` answered yes.
    """
    found = _stored(file, file, path) or _beside(file, path)
    if found is None:
        log.info("making the summary of %s anew", path)
        found = _made(file, path, should_stop, progress)
    try:
        for name, levels in found.levels.items():
            if name != "lines" and name != "power":
                top = np.asarray(levels[-1][:])
                lowest, highest = np.fmin.reduce(top["min"]), np.fmax.reduce(top["max"])
                check_finite(float(lowest), float(highest), f"/{name}", path)
    except BaseException:
        found.close()
        raise
    return found


def summary_path(path: Path) -> Path:
    """Return where the summary of a capture lies that is kept beside it."""
    return path.with_name(f".{path.name}{_ENDING}")


def _channels(file: h5py.File) -> list[str]:
    names = [name for name in ("current", "voltage", "lines") if name in file]
    if "voltage" in file:
        names.append("power")
    return names + [f"aux/{name}" for name in file.get("aux", {})]


def _beside(file: h5py.File, path: Path) -> Summary | None:
    beside = summary_path(path)
    try:
        found = import_h5py().File(beside, "r", rdcc_nbytes=0, locking=False)
    except OSError:
        return None
    summary = _stored(found, file, path)
    if summary is None:
        found.close()
        return None
    return Summary(summary.levels, found)


def _stored(holder: h5py.File, file: h5py.File, path: Path) -> Summary | None:
    """Return the summary that a file holds, when it was made from the samples as they are."""
    try:
        group = holder.get("summary")
        samples = int(file["current"].shape[0])
        status = path.stat()
        if group is None or int(group.attrs[_SAMPLES]) != samples or int(group.attrs[_STAMP]) != status.st_mtime_ns:
            return None
        if int(group.attrs.get(_BYTES, status.st_size)) != status.st_size:
            return None
        levels = {name: _levels(group[name], samples) for name in _channels(file)}
        return Summary(levels) if _holds(levels, file, samples) else None
    except (KeyError, ValueError, TypeError, AttributeError, OSError, RuntimeError):
        # Whatever else it holds is no summary of ours.
        log.info("the summary of %s cannot be used", path, exc_info=True)
        return None


def _levels(group: h5py.Group, samples: int) -> list[Any]:
    levels = [group[key] for key in sorted(group, key=lambda key: int(key.rsplit("_", 1)[1]))]
    for index, level in enumerate(levels):
        size = BLOCK_SAMPLES * RATIO**index
        if level.name.rsplit("_", 1)[1] != str(size) or level.shape[0] != -(-samples // size):
            raise ValueError(f"{level.name} has {level.shape[0]} blocks for {counted(samples, 'sample')}")
    if not levels:
        raise ValueError(f"{group.name} is empty")
    return levels


def _holds(levels: Mapping[str, list[Any]], file: h5py.File, samples: int) -> bool:
    """Compare some blocks of each level with the samples or the finer blocks that they stand for."""
    for name, of_channel in levels.items():
        reduce, finer = (reduce_bit_blocks if name == "lines" else reduce_blocks), None
        for kept in of_channel:
            level = kept[:] if kept.nbytes <= _READ_WHOLE_BYTES else kept  # one read costs as much as ten blocks more
            tried = _tried(level.shape[0])
            if finer is not None:
                made = [reduce(np.asarray(finer[first * RATIO : last * RATIO])) for first, last in tried]
            else:
                channel = file[name] if name != "power" else None
                made = [] if channel is None else [_reduced(name, channel[_samples_of(*blocks)]) for blocks in tried]
            if made and not _equal(np.concatenate(made), np.concatenate([level[slice(*blocks)] for blocks in tried])):
                return False
            finer = level
    return True


def _tried(blocks: int) -> list[tuple[int, int]]:
    if blocks <= _ALL_TRIED:
        return [(0, blocks)]
    return [(block, block + 1) for block in np.linspace(0, blocks - 1, _TRIED_BLOCKS).astype(int).tolist()]


def _samples_of(first_block: int, last_block: int) -> slice:
    return slice(first_block * BLOCK_SAMPLES, last_block * BLOCK_SAMPLES)


def _reduced(name: str, samples: Any) -> Blocks:
    if name == "lines":
        return reduce_bits(samples)
    with np.errstate(over="ignore", invalid="ignore"):
        return reduce_samples(samples.astype(np.float32, copy=False))


def _equal(made: Blocks, stored: Blocks) -> bool:
    if made.dtype != stored.dtype or made.shape != stored.shape:
        return False
    for field in made.dtype.names or ():
        one, other = made[field], stored[field]
        with np.errstate(over="ignore", invalid="ignore"):
            same = np.isclose(one, other, rtol=1e-6, atol=0.0) if field == "sum" else one == other
        if not (same | (one != one) & (other != other)).all():
            return False
    return True


class MadeSummary(NamedTuple):
    """The pyramids of a capture by channel, and the levels of its digital lines; None without lines."""

    pyramids: dict[str, Pyramid]
    bits: list[Blocks] | None


def _made(file: h5py.File, path: Path, should_stop: ShouldStop, progress: Progress) -> Summary:
    status = path.stat()
    made = rebuild(file, should_stop=should_stop, progress=progress)
    in_memory = {name: list(pyramid.levels) for name, pyramid in made.pyramids.items()}
    in_memory |= {"lines": made.bits} if made.bits else {}
    try:
        _store_beside(file, path, status, made)
    except OSError:
        log.info("the summary of %s cannot be kept beside it", path, exc_info=True)
    return Summary(in_memory)


def _store_beside(file: h5py.File, path: Path, status: os.stat_result, made: MadeSummary) -> None:
    with NewFile(summary_path(path)) as new:
        storage = Storage(new.descriptor)
        with import_h5py().File(storage, "w") as beside:
            write_summary(beside, int(file["current"].shape[0]), made.pyramids, made.bits, status.st_mtime_ns)
            beside["summary"].attrs[_BYTES] = status.st_size
        storage.raise_failure()
        new.keep()


def remove_beside(path: Path) -> None:
    """Remove the summary that lies beside a capture which is replaced or goes."""
    with contextlib.suppress(OSError):
        summary_path(path).unlink(missing_ok=True)


def rebuild(
    capture_file: h5py.File, *, should_stop: ShouldStop = never, progress: Progress = ignore_progress
) -> MadeSummary:
    """Make the pyramids of a capture anew, in one pass and bounded memory.

    Parameters
    ----------
    capture_file
        Open for reading; its channels have shape ``(samples,)``.

    Raises
    ------
    Cancelled
        As soon as `should_stop` answers yes.
    """
    current = capture_file["current"]
    voltage = capture_file.get("voltage")
    lines = capture_file.get("lines")
    aux = {f"aux/{name}": data for name, data in capture_file.get("aux", {}).items()}
    builders = {"current": PyramidBuilder()} | {name: PyramidBuilder() for name in aux}
    if voltage is not None:
        builders |= {"voltage": PyramidBuilder(), "power": PyramidBuilder()}
    line_builder = BitPyramidBuilder()
    samples = current.shape[0]
    for first in range(0, samples, CHUNK_SAMPLES):
        if should_stop():
            raise Cancelled("stopped")
        piece = slice(first, first + CHUNK_SAMPLES)
        # What does not fit a float32 becomes infinite, and is refused where the channel is opened.
        with np.errstate(over="ignore", invalid="ignore"):
            amperes = current[piece].astype(np.float32, copy=False)
            builders["current"].append(amperes)
            if voltage is not None:
                volts = voltage[piece].astype(np.float32, copy=False)
                builders["voltage"].append(volts)
                builders["power"].append(amperes * volts)
            for name, data in aux.items():
                builders[name].append(data[piece].astype(np.float32, copy=False))
        if lines is not None:
            line_builder.append(lines[piece])
        progress(min(1.0, (first + CHUNK_SAMPLES) / samples))
    pyramids = {name: builder.finish() for name, builder in builders.items()}
    return MadeSummary(pyramids, line_builder.finish() if lines is not None else None)
