"""What data quality shows of a run: each fault with what it does to the figures, what mends it, and what passed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

import numpy as np

from warm_ember.attribution.ledger import LedgerRow
from warm_ember.battery.life import life_of
from warm_ember.model.bench import Attached
from warm_ember.model.figure import Bound, Figure, signed
from warm_ember.model.finding import Finding, FindingKind, confidence_word
from warm_ember.model.load import LifeModel, Load
from warm_ember.model.placement import SAME_CLOCK
from warm_ember.model.project import Project
from warm_ember.session.graph import look_up, remembered
from warm_ember.session.page_links import quietest_state
from warm_ember.session.quality_pictures import PlacePicture, picture_of_fault, pictures_of_checks
from warm_ember.session.results import Results, attached
from warm_ember.session.run_results import RunResults
from warm_ember.signal.hum import Hum
from warm_ember.signal.series import ShouldStop, never
from warm_ember.signal.stretch import total
from warm_ember.tuning.findings.registry import Fact
from warm_ember.units import MONTH_S, counted, duration_text, format_significant, percent_text, quantity_text

_HARDLY = 5e-5


class Mend(StrEnum):
    """A step that mends a fault, or shows how."""

    JOIN = "Join with …"
    RECORD = "Record again"
    CYCLES = "Show whole cycles"
    CORRECT = "Correct a copy"
    CLOCK = "See the clock"


class Effect(NamedTuple):
    """What a fault does to a figure, as rich text, and of what."""

    words: str = "–"
    of: str = ""


@dataclass(frozen=True)
class AddedPart:
    """How much of the quietest level the set-up adds, A."""

    device_a: float
    added_a: float


@dataclass(frozen=True, eq=False)
class FaultRow:
    """A kind of fault in a capture.

    Parameters
    ----------
    word, confidence, text
        What it is, how sure that is, and the evidence.
    findings
        Its places, the earliest first.
    mean, charge, life
        What it does to the mean current, to the charge of a state and to the life.
    weight
        How much it matters, to sort by: relative change of the mean, infinite for a bound.
    mends
        Steps that mend it, the best first.
    picture
        Of its first place; or, of a load that the set-up adds, how much that is of the quietest level.
    added_a
        What the set-up adds; 0 for another fault.
    """

    word: str
    confidence: str
    text: str
    findings: tuple[Finding, ...]
    mean: Effect
    charge: Effect
    life: Effect
    weight: float
    mends: tuple[Mend, ...]
    picture: PlacePicture | AddedPart | None
    added_a: float = 0.0


@dataclass(frozen=True, eq=False)
class PassedCheck:
    """What was looked at without finding a fault, what was seen, and a picture of the place if there is one."""

    what: str
    words: str
    picture: PlacePicture | None


@dataclass(frozen=True, eq=False)
class QualityShown:
    """What data quality shows of a run: faults in the order of time, and what was looked at without finding any."""

    rows: tuple[FaultRow, ...]
    passed: tuple[PassedCheck, ...]

    @property
    def by_effect(self) -> tuple[FaultRow, ...]:
        """The faults, what matters most first."""
        return tuple(sorted(self.rows, key=lambda row: -row.weight))


class QualityResults:
    """Compute and remember what data quality shows."""

    def __init__(self, results: Results) -> None:
        self._results, self.graph = results, results.graph

    @remembered
    def shown(self, project: Project, name: str, should_stop: ShouldStop = never) -> QualityShown:
        """Return what data quality shows of one run."""
        run, report = self._results.run(project, name, should_stop), self._results.quality(project, name, should_stop)
        kinds = dict.fromkeys(finding.kind for finding in report.findings)
        effects = _Effects(run, LifeModel(run.load, project.battery, project.supply, project.climate))
        hum = self._results.hum(project, name, should_stop) if FindingKind.HUM in kinds else None
        rows = [effects.row(tuple(one for one in report.findings if one.kind is kind), hum) for kind in kinds]
        rows.append(effects.gaps())
        names = run.capture.info.attached
        added = [one for one in look_up(project, attached) if one.name in names and not one.subtracted]
        if added:
            rows.append(effects.added_load(tuple(added), run.capture.info.supply_v or project.supply_v or 3.0))
        kept = tuple(row for row in rows if row is not None)
        if not run.whole.coverage:
            return QualityShown(kept, ())  # where nothing was measured nothing is passed
        pictures = pictures_of_checks(run, self._results.levels(project, name, should_stop))
        passed = (PassedCheck(f.what, f.words, pictures.get(f.what)) for f in (*report.facts, *_more_facts(run)))
        return QualityShown(kept, tuple(passed))


def _more_facts(run: RunResults) -> tuple[Fact, ...]:
    """Return what the analysis saw of gaps and of the log's clock."""
    samples, facts = run.capture.current.samples, []
    if run.whole.coverage >= 1:
        facts.append(Fact("gaps", f"none in {counted(samples, 'sample')}"))
    clock = run.placement.alignment
    if clock is not None and clock.matched and not clock.is_unusable:
        ppm = f"{abs(clock.drift) * 1e6:.2g} ppm" if clock.method != SAME_CLOCK else "none"
        sample_s = run.capture.current.interval_s
        # When the current changed is known to a sample, whatever is left over.
        within = "a sample" if clock.residual_s < sample_s else duration_text(clock.residual_s)
        facts.append(Fact("clock", f"drift {ppm} against the log, {counted(clock.matched, 'change')} within {within}"))
    if run.capture.info.checked:
        facts.append(Fact("set-up", f"checked before: {', '.join(run.capture.info.checked)}"))
    return tuple(facts)


class _Effects:
    """What faults do to the figures of a run."""

    def __init__(self, run: RunResults, model: LifeModel) -> None:
        self._run, self._model = run, model
        self._current = run.capture.current
        self._mean_a = run.ledger.mean_a or 0.0

    def row(self, findings: tuple[Finding, ...], hum: Hum | None) -> FaultRow | None:
        """Return the row of the findings of one kind."""
        kind, longest = findings[0].kind, max(findings, key=lambda one: one.to_s - one.from_s)
        effects = {
            FindingKind.CLIPPED: self._of_clipping,
            FindingKind.TRUNCATED: self._of_the_end,
            FindingKind.HUM: lambda found: self._of_hum(found, hum),
            FindingKind.BELOW_RESOLUTION: self._of_resolution,
            FindingKind.RANGE_GLITCH: self._of_glitches,
            FindingKind.AMBIGUOUS_CLOCK: self._of_clock,
        }
        mean, charge, life, weight = effects.get(kind, self._not_known)(findings)
        return FaultRow(
            kind.value,
            confidence_word(longest.confidence),
            longest.text,
            findings,
            mean,
            charge,
            life,
            weight,
            _MENDS.get(kind, (Mend.RECORD,)),
            picture_of_fault(self._run, findings[0], hum),
        )

    def _of_clipping(self, findings: tuple[Finding, ...]) -> _Four:
        ledger, life = self._run.ledger, self._run.life
        state = self._state_at(findings)
        mean = Effect(signed(Bound.AT_LEAST, quantity_text(ledger.mean_a, "A").rich), "a lower bound")
        charge = Effect()
        if state is not None:
            charge = Effect(signed(Bound.AT_LEAST, quantity_text(state.charge_c, "C").rich), state.name)
        return _Four(mean, charge, _months(life.life_s, bound=life.bound), math.inf)

    def _of_the_end(self, findings: tuple[Finding, ...]) -> _Four:
        """Compare with the capture up to the activity that is cut off."""
        finding = findings[-1]
        first = round(finding.from_s / self._current.interval_s)
        before = total(self._current, 0, first)
        without_a = before.total / before.count if before.count else 0.0
        mean = Effect(quantity_text(without_a, "A").rich, "without it")
        window = self._run.window
        if window is None or window.to_s <= finding.from_s + self._current.interval_s:
            words = "by activities" if window is None else "over whole cycles"
            return _Four(mean, self._cut_entry(), Effect("unchanged", words), self._moved(without_a))
        life = _months(self._life_at(without_a), "without it")
        return _Four(mean, self._cut_entry(), life, self._moved(without_a))

    def _cut_entry(self) -> Effect:
        """Return how much of a usual entry the last one is."""
        number = int(self._run.placement.state[-1])
        row = self._run.ledger.row(self._run.placement.names[number]) if number >= 0 else None
        if row is None or row.entries < 2:
            return Effect("–", "seen once" if row is not None else "unplaced")
        usual = float(np.median(row.entry_dwell_s[:-1]))
        return Effect(percent_text(float(row.entry_dwell_s[-1]) / usual).rich, f"of a usual {row.name}")

    def _of_hum(self, _findings: tuple[Finding, ...], hum: Hum | None) -> _Four:
        """Bound what a sine leaves of itself in a mean: at most its half period, whatever the length."""
        if hum is None:
            return self._not_known(_findings)
        left_c = hum.amplitude_a / (math.pi * hum.mains_hz)
        duration_s = self._current.samples * self._current.interval_s
        share = left_c / duration_s / self._mean_a if self._mean_a else 0.0
        quiet = quietest_state(self._run)
        row = self._run.ledger.row(quiet.name) if quiet is not None else None
        charge = (
            Effect(_plus_minus(left_c * row.entries / row.charge_c), row.name) if row and row.charge_c else Effect()
        )
        return _Four(Effect(_plus_minus(share), "mean"), charge, Effect(_plus_minus(share), "life"), share)

    def _of_resolution(self, _findings: tuple[Finding, ...]) -> _Four:
        ledger, life, quiet = self._run.ledger, self._run.life, quietest_state(self._run)
        row = ledger.row(quiet.name) if quiet is not None else None
        mean = Effect(_figure_words(ledger.mean), "what is below it may add" if ledger.mean.bound else "hardly changed")
        charge = Effect(_figure_words(row.mean), row.name) if row is not None else Effect()
        weight = self._run.limits.least_a / self._mean_a if self._mean_a else 0.0
        return _Four(mean, charge, _months(life.life_s, bound=life.bound), weight)

    def _of_glitches(self, findings: tuple[Finding, ...]) -> _Four:
        """Return what lies in the glitches at most: all that was read in them."""
        charge_c = sum(self._charge(finding) for finding in findings)
        share = abs(charge_c / self._run.ledger.charge_c) if self._run.ledger.charge_c else 0.0
        state = self._state_at(findings)
        of_state = abs(charge_c / state.charge_c) if state is not None and state.charge_c else None
        words = f"≤ {percent_text(share).rich}"
        charge = Effect(f"≤ {percent_text(min(of_state, 1.0)).rich}", state.name) if state and of_state else Effect()
        return _Four(Effect(words, "lies in them"), charge, Effect(words, "life"), share)

    def _of_clock(self, _findings: tuple[Finding, ...]) -> _Four:
        life = Effect("unchanged", "the mean decides") if not self._run.load.costs else Effect("not known", "by states")
        return _Four(Effect("unchanged", "needs no log"), Effect("not known", "states may be shifted"), life, 0.5)

    def _not_known(self, _findings: tuple[Finding, ...]) -> _Four:
        missed = Effect("not known", "pulses are missed")
        return _Four(missed, missed, missed, 1.0)

    def gaps(self) -> FaultRow | None:
        """Return the row of what was not measured; None where all was."""
        missing = 1 - self._run.whole.coverage
        if missing <= 0:
            return None
        lost = round(missing * self._current.samples)
        of = "of what was measured" if missing < 1 else "nothing was measured"
        mean = Effect(quantity_text(self._run.whole.mean_a, "A").rich, of)
        bounds = self._run.capture.bounds(self._run.whole.from_s, self._run.whole.to_s)
        if bounds is not None and bounds.low_a is not None:
            most = quantity_text(bounds.high_a, "A").rich if bounds.high_a is not None else "more"
            mean = Effect(f"{quantity_text(bounds.low_a, 'A').rich} to {most}", "by what is known of the gaps")
        unknown = Effect("not known", "what was missed")
        return FaultRow(
            "gaps",
            "certain",
            f"{counted(lost, 'sample')} of {counted(self._current.samples, 'sample')} were not measured "
            f"({percent_text(missing)}): the mean is that of the rest.",
            (),
            mean,
            unknown,
            _months(self._run.life.life_s, of) if missing < 1 else unknown,
            missing,
            (Mend.RECORD,),
            None,
        )

    def added_load(self, parts: tuple[Attached, ...], voltage_v: float) -> FaultRow:
        """Return the row of what the set-up adds and nobody subtracts."""
        added_a = sum(part.draws_a(voltage_v) for part in parts)
        quiet, names = quietest_state(self._run), " and ".join(part.name for part in parts)
        share = added_a / self._mean_a if self._mean_a else 0.0
        charge, picture = Effect(), None
        if quiet is not None:
            charge = Effect(f"−{percent_text(min(added_a / quiet.mean_a, 1.0)).rich}", quiet.name)
            picture = AddedPart(max(quiet.mean_a - added_a, 0.0), added_a)
        life = _months(self._life_less(added_a), "without it")
        verb = "adds" if len(parts) == 1 else "add"
        return FaultRow(
            "added load",
            "certain, entered",
            f"{names} {verb} {quantity_text(added_a, 'A')} to the reading: take it out of a copy, or unplug it.",
            (),
            Effect(f"−{percent_text(share).rich}", f"to {quantity_text(self._mean_a - added_a, 'A')}"),
            charge,
            life,
            share,
            (Mend.CORRECT, Mend.RECORD),
            picture,
            added_a,
        )

    def _life_less(self, added_a: float) -> float:
        model = self._model
        base = Figure(max(model.load.base_a - added_a, 0.0), grade=model.load.base.grade)
        load = Load(base, model.load.base_name, model.load.costs)
        return life_of(LifeModel(load, model.battery, model.supply, model.climate))

    def _life_at(self, mean_a: float) -> float:
        model = self._model
        load = Load(Figure(max(mean_a, 0.0)), "constant", ())
        return life_of(LifeModel(load, model.battery, model.supply, model.climate))

    def _moved(self, to_a: float) -> float:
        return abs(to_a - self._mean_a) / self._mean_a if self._mean_a else 0.0

    def _charge(self, finding: Finding) -> float:
        first, last = (round(at_s / self._current.interval_s) for at_s in (finding.from_s, finding.to_s))
        return total(self._current, first, max(last, first + 1)).total * self._current.interval_s

    def _state_at(self, findings: tuple[Finding, ...]) -> LedgerRow | None:
        """Return the state that most of a fault lies in."""
        placement = self._run.placement
        lengths_s: dict[int, float] = {}
        edges_s = placement.edges * self._current.interval_s
        for finding in findings:
            inside = np.minimum(edges_s[1:], finding.to_s) - np.maximum(edges_s[:-1], finding.from_s)
            for piece in np.flatnonzero(inside > 0).tolist():
                number = int(placement.state[piece])
                lengths_s[number] = lengths_s.get(number, 0.0) + float(inside[piece])
        if not lengths_s:
            return None
        most = max(lengths_s, key=lambda number: lengths_s[number])
        return self._run.ledger.row(placement.names[most]) if most >= 0 else None


class _Four(NamedTuple):
    mean: Effect
    charge: Effect
    life: Effect
    weight: float


_MENDS = {
    FindingKind.CLIPPED: (Mend.JOIN, Mend.RECORD),
    FindingKind.TRUNCATED: (Mend.CYCLES, Mend.RECORD),
    FindingKind.AMBIGUOUS_CLOCK: (Mend.CLOCK, Mend.RECORD),
}


def _months(life_s: float, of: str = "", *, bound: Bound | None = None) -> Effect:
    if not math.isfinite(life_s):
        return Effect("no end", of)
    return Effect(signed(bound, f"**{format_significant(life_s / MONTH_S)}**"), f"months {of}".strip())


def _plus_minus(share: float) -> str:
    return "unchanged" if abs(share) < _HARDLY else f"± {percent_text(abs(share)).rich}"


def _figure_words(figure: Figure) -> str:
    if figure.bound is Bound.BELOW and figure.high is not None:
        return signed(Bound.BELOW, quantity_text(figure.high, "A").rich)
    return signed(figure.bound, quantity_text(figure.value, "A").rich)
