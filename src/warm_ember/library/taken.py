"""What came of an import and of a recording."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, TypedDict

from warm_ember.errors import BadArgumentError
from warm_ember.library.record import Record

if TYPE_CHECKING:
    from warm_ember.bench.recorder import Recorded
    from warm_ember.session.importing import ImportRequest
    from warm_ember.session.new_capture import ImportReport


class Imported(Record, frozen=True, kw_only=True):
    """The new capture, with what was assumed of its file and what of it was left out, in words."""

    capture: str
    samples: int
    sample_interval_s: float
    duration_s: float
    events: int
    assumed: tuple[str, ...]
    left_out: tuple[str, ...]


class Recording(Record, frozen=True, kw_only=True):
    """One capture that was recorded; ``ending`` says how it ended."""

    capture: str
    samples: int
    missing: int
    sample_interval_s: float
    duration_s: float
    events: int
    lost_lines: int
    ending: str


class Recordings(Recording, frozen=True, kw_only=True):
    """All captures of one recording, and the last of them itself."""

    ROWS: ClassVar[str] = "captures"

    captures: tuple[Recording, ...]


class ImportChoices(TypedDict, total=False):
    """What may be said of a file that is imported; see the options of ``warm-ember import``."""

    name: str
    reading: str
    rate_hz: float
    unit: str
    current_column: str
    time_column: str
    voltage_column: str
    shunt_ohm: float
    gain: float
    offset_v: float
    sample_format: str
    scale_a: float
    delimiter: str
    decimal: str
    dates: str
    gaps_hold: bool
    supply_v: float
    lines_file: Path | str
    wanted_lines: tuple[str, ...]
    events_file: Path | str
    kernel_file: Path | str
    cpuidle_folder: Path | str
    trace_file: Path | str
    elf_file: Path | str
    trace_clock_hz: float
    replace: bool


def import_request(file: Path, choices: ImportChoices) -> ImportRequest:
    """Return a request to import a file.

    Raises
    ------
    BadArgumentError
        If a choice is not known or impossible.
    """
    from dataclasses import fields

    from warm_ember.formats.reading import load
    from warm_ember.formats.source import ImportOptions
    from warm_ember.session.importing import ImportRequest

    unknown = sorted(choices.keys() - ImportChoices.__annotations__.keys())
    if unknown:
        known = ", ".join(sorted(ImportChoices.__annotations__))
        raise BadArgumentError(f"{unknown[0]!r} is nothing that can be chosen; there are: {known}")
    given = {
        name: Path(str(value)) if name.endswith(("_file", "_folder")) else value for name, value in choices.items()
    }
    reading, of_file = given.pop("reading", None), {one.name for one in fields(ImportOptions)}
    options = ImportOptions(**{name: value for name, value in given.items() if name in of_file})  # type: ignore[arg-type]
    if reading is not None:
        options = load(str(reading)).applied_to(options)
    more = {name: value for name, value in given.items() if name not in of_file}
    return ImportRequest(file, options, **more)  # type: ignore[arg-type]


def imported_of(report: ImportReport) -> Imported:
    """Return what came of an import as an answer."""
    return Imported(
        capture=report.name,
        samples=report.samples,
        sample_interval_s=report.sample_interval_s,
        duration_s=report.duration_s,
        events=report.events,
        assumed=report.notes,
        left_out=report.left_out,
    )


def recording_of(one: Recorded) -> Recording:
    """Return one recorded capture as an answer."""
    return Recording(**_fields(one))


def recordings_of(taken: tuple[Recorded, ...]) -> Recordings:
    """Return all captures of a recording, at least one, as an answer."""
    return Recordings(captures=tuple(map(recording_of, taken)), **_fields(taken[-1]))


def _fields(one: Recorded) -> dict[str, Any]:
    return {
        "capture": one.name,
        "samples": one.samples,
        "missing": one.missing,
        "sample_interval_s": one.sample_interval_s,
        "duration_s": one.samples * one.sample_interval_s,
        "events": one.events,
        "lost_lines": one.lost_lines,
        "ending": one.ending.value,
    }
