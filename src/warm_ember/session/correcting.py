"""Making a corrected copy of a capture; the one it comes from stays as it was measured."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec

from warm_ember.model.correction import Burden, Correction
from warm_ember.model.project import Project, Run, RunKind
from warm_ember.session.new_capture import ImportReport, new_capture_path
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.signal.corrections import CorrectionEffect, check_corrections, correct, effect_of
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop, chunks, ignore_progress, never
from warm_ember.store.capture_file import CaptureWriter


def effect_on(project: Project, results: RunResults, corrections: Sequence[Correction]) -> CorrectionEffect:
    """Return what corrections would make of a run's mean, and what the target gets at its peak.

    Raises
    ------
    BadArgumentError
        If the corrections cannot be made.
    """
    whole, capture = results.whole, results.capture
    supply_v = capture.info.supply_v if capture.info.supply_v is not None else project.supply_v
    check_corrections(corrections, has_voltage=supply_v is not None or capture.voltage is not None)
    return effect_of(corrections, mean_a=whole.mean_a or 0.0, peak_a=whole.max_a or 0.0, supply_v=supply_v)


def correct_capture(
    session: Session,
    name: str,
    corrections: Sequence[Correction],
    new_name: str,
    *,
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> ImportReport:
    """Write a corrected copy of a capture; the project itself is left to `adopt_as_condition`.

    Raises
    ------
    BadArgumentError
        If the corrections cannot be made or the name is taken.
    BadFileError
        If the capture cannot be read.
    Cancelled
        If `should_stop` answered yes; nothing is left then.
    """
    path = new_capture_path(session, new_name)
    capture = session.capture(name)
    supply_v = capture.info.supply_v if capture.info.supply_v is not None else session.project.supply_v
    check_corrections(corrections, has_voltage=capture.voltage is not None or supply_v is not None)
    with_voltage = capture.voltage is not None or any(isinstance(one, Burden) for one in corrections)
    lines, aux = capture.lines, capture.aux
    with CaptureWriter(
        path,
        with_voltage=with_voltage,
        line_names=lines.names if lines is not None else (),
        aux_units={channel: unit for channel, (_, unit) in aux.items()},
    ) as writer:
        samples = capture.current.samples
        for first, values in chunks(capture.current, should_stop=should_stop):
            last = first + len(values)
            volts = capture.voltage.read(first, last) if capture.voltage is not None else None
            made = correct(values, volts, corrections, supply_v=supply_v)
            writer.append(
                made.current,
                voltage=made.voltage,
                lines=lines.read(first, last) if lines is not None else None,
                aux={channel: series.read(first, last) for channel, (series, _) in aux.items()},
            )
            progress(min(1.0, (first + CHUNK_SAMPLES) / samples))
        sentences = tuple(correction.sentence for correction in corrections)
        info = msgspec.structs.replace(capture.info, corrections=(*capture.info.corrections, *sentences))
        writer.finish(info, capture.events, capture.program)
    return ImportReport(new_name, samples, info.sample_interval_s, len(capture.events), sentences)


def adopt_as_condition(session: Session, report: ImportReport, of: str, title: str) -> None:
    """Make a capture that was made from others a side rung beside the run it comes from, and save the project.

    Raises
    ------
    ProjectError
        If the project cannot be written.
    """
    session.forget_capture(report.name)
    run = session.project.run(of)
    label = run.label if run is not None else of
    session.add_run(Run(report.name, f"{label}, {title}", "; ".join(report.notes), RunKind.CONDITION))
    session.save()
