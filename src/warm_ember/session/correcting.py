"""Making a corrected copy of a capture; the one it comes from stays as it was measured."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import msgspec

from warm_ember.battery.life import life_of
from warm_ember.model.correction import Burden, Correction, InputResistance, KnownLoad, Scaling
from warm_ember.model.figure import Figure
from warm_ember.model.load import LifeModel, Load
from warm_ember.model.project import Project, Run, RunKind
from warm_ember.session.new_capture import ImportReport, new_capture_path
from warm_ember.session.page_links import quietest_state
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.signal.corrections import CorrectionEffect, check_corrections, correct, effect_of
from warm_ember.signal.series import CHUNK_SAMPLES, Progress, ShouldStop, chunks, ignore_progress, never
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.units import quantity_text


class CorrectionField(NamedTuple):
    """Something that a measurement may add, as it is entered."""

    name: str
    unit: str
    reason: str


FIELDS = (
    CorrectionField("shunt", "", "factor, checked against a reference"),
    CorrectionField("offset", "A", "amplifier, target detached"),
    CorrectionField("burden", "Ω", "shunt and leads in series"),
    CorrectionField("meter", "Ω", "input resistance across the rail"),
    CorrectionField("probe", "Ω", "oscilloscope on the rail"),
    CorrectionField("debugger", "A", "debugger or programmer attached"),
    CorrectionField("serial line", "A", "feeds the chip through a pin"),
    CorrectionField("leakage", "A", "of the supply capacitor"),
    CorrectionField("other load", "A", "something else on the rail"),
)
"""All that a measurement may add."""


class Entered(NamedTuple):
    """A value that was entered in a field, and why."""

    value: float
    reason: str


def corrections_of(entered: Mapping[str, Entered]) -> tuple[Correction, ...]:
    """Return the corrections that were entered, by the names of `FIELDS`, in their order."""
    made: list[Correction] = []
    factor, offset = entered.get("shunt"), entered.get("offset")
    if factor is not None or offset is not None:
        reasons = ", ".join(one.reason for one in (factor, offset) if one is not None)
        made.append(Scaling(factor.value if factor else 1.0, offset.value if offset else 0.0, reasons))
    for field in FIELDS[2:]:
        if field.name in entered:
            value, reason = entered[field.name]
            kind = KnownLoad if field.unit == "A" else Burden if field.name == "burden" else InputResistance
            made.append(kind(value, reason))
    return tuple(made)


class BeforeAfter(NamedTuple):
    """A figure as it is, and after corrections; None where it is not known."""

    before: float | None
    after: float | None


@dataclass(frozen=True)
class CorrectionPreview:
    """What corrections would do to a run.

    Parameters
    ----------
    taken_out
        What each takes out, by its field: rich text, and how it comes about.
    floor_name, floor_a, parts_a
        The quietest state, its current, and what its parts add up to; None where nobody entered them.
    mean_a, target_v, life_s
        Mean current, lowest voltage at the target and life.
    needed_v
        What the target needs.
    """

    taken_out: Mapping[str, tuple[str, str]]
    floor_name: str
    floor_a: BeforeAfter
    parts_a: float | None
    mean_a: BeforeAfter
    target_v: BeforeAfter
    life_s: BeforeAfter
    needed_v: float

    @property
    def warning(self) -> str:
        """What cannot be true of the corrections; empty where all can."""
        if self.floor_a.after is not None and self.floor_a.after < 0 <= (self.floor_a.before or 0.0):
            taken = f"{self.floor_name} would draw {quantity_text(self.floor_a.after, 'A')}"
            return f"More is taken out than was measured: {taken}."
        if self.starves:
            needed, left = quantity_text(self.needed_v, "V"), quantity_text(self.target_v.after, "V")
            seen = f"At the peak the target sees {left}, less than the {needed} it needs"
            return f"{seen}: it may have reset or drawn less."
        return ""

    @property
    def starves(self) -> bool:
        """Whether the target gets less voltage than it needs."""
        return self.target_v.after is not None and self.target_v.after < self.needed_v


def preview_corrections(project: Project, results: RunResults, entered: Mapping[str, Entered]) -> CorrectionPreview:
    """Return what corrections would do to a run.

    Raises
    ------
    BadArgumentError
        If the corrections cannot be made.
    """
    whole, capture, corrections = results.whole, results.capture, corrections_of(entered)
    supply_v = capture.info.supply_v if capture.info.supply_v is not None else project.supply_v
    if corrections:
        check_corrections(corrections, has_voltage=supply_v is not None or capture.voltage is not None)

    def corrected(current_a: float) -> CorrectionEffect:
        if not corrections:
            return CorrectionEffect(current_a, whole.max_a or 0.0, None, None)
        return effect_of(corrections, mean_a=current_a, peak_a=whole.max_a or 0.0, supply_v=supply_v)

    load, mean = results.load, corrected(whole.mean_a or 0.0)
    factor = entered["shunt"].value if "shunt" in entered else 1.0
    costs = tuple(replace(cost, charge_c=cost.charge_c * factor) for cost in load.costs)
    base_a = max(corrected(load.base_a).mean_a, 0.0)
    life_s = life_of(
        LifeModel(Load(Figure(base_a), load.base_name, costs), project.battery, project.supply, project.climate)
    )
    quiet = quietest_state(results)
    row = results.ledger.row(quiet.name) if quiet is not None else None
    return CorrectionPreview(
        {name: _taken_out(name, one.value, supply_v, mean) for name, one in entered.items()},
        quiet.name if quiet is not None else "",
        BeforeAfter(quiet.mean_a, corrected(quiet.mean_a).mean_a) if quiet is not None else BeforeAfter(None, None),
        row.expected.current_a if row is not None and row.expected is not None else None,
        BeforeAfter(whole.mean_a, mean.mean_a if whole.mean_a is not None else None),
        BeforeAfter(supply_v, mean.lowest_v if mean.lowest_v is not None else supply_v),
        BeforeAfter(results.life.life_s, life_s),
        max(project.supply.min_v, project.battery.cutoff_v),
    )


def _taken_out(name: str, value: float, supply_v: float | None, effect: CorrectionEffect) -> tuple[str, str]:
    """Return what a correction takes out, and how it comes about."""
    if name == "shunt":
        return f"× **{value:.6g}**", "of each reading"
    if name == "burden":
        drop = quantity_text(effect.drop_v, "V").rich if effect.drop_v is not None else "–"
        return drop, "at the peak"
    if name in ("meter", "probe"):
        if supply_v is None:
            return "–", "by the measured voltage"
        return f"−{quantity_text(supply_v / value, 'A').rich}", f"{quantity_text(supply_v, 'V').rich} over it"
    return f"−{quantity_text(value, 'A').rich}" if value >= 0 else f"+{quantity_text(-value, 'A').rich}", "everywhere"


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
