"""One run compared with a file of limits."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping

import numpy as np

from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.attribution.wake_ledger import SourceRow, WakeLedger
from warm_ember.battery.life import LifeEstimate
from warm_ember.errors import BadArgumentError
from warm_ember.fleet.expected import Expected
from warm_ember.model.arrays import Flags
from warm_ember.model.estimate import Estimate
from warm_ember.model.figure import Bound, Figure
from warm_ember.model.finding import Finding, FindingKind, confidence_word
from warm_ember.model.gate_limits import FindingLimits, GateLimits
from warm_ember.model.placement import Placement
from warm_ember.model.project import Project
from warm_ember.session.average_figure import average_figure
from warm_ember.session.results import Results
from warm_ember.session.tuning_results import Comparison, TuningResults
from warm_ember.signal.estimates import mean
from warm_ember.signal.series import ShouldStop, never
from warm_ember.tuning.difference import Difference
from warm_ember.tuning.findings.registry import STANDS_ALONE
from warm_ember.tuning.gate import Check, GateResult, Measured, Outcome, at_least, at_most, lasting, lasts, relative
from warm_ember.units import HOUR_S, MONTH_S, counted, format_trimmed, interval_text, percent_text, quantity_text

_LIKELY = 0.5
_BASELINE = ("baseline", "max_worse")
_ANY = "*"
_SHARE = "share"
_HISTORY_FIGURES = {"state": "mean_a", "source": "added_a"}


class MissingNameError(BadArgumentError):
    """A limit of a state or source that the capture does not have.

    Parameters
    ----------
    key
        The limit's table, such as ``("states", "Deep sleep")``.
    known
        What there is instead.
    """

    def __init__(self, key: tuple[str, str], known: tuple[str, ...]) -> None:
        self.key = key
        what = "state" if key[0] == "states" else "source of wakes"
        there = f"it has {', '.join(known)}" if known else "it has none"
        super().__init__(f"{key[0]}.{key[1]}: the capture has no {what} {key[1]!r}; {there}")


class GateResults:
    """Compare runs with limits."""

    def __init__(self, results: Results, tuning: TuningResults) -> None:
        self._results, self._tuning = results, tuning

    def gate(
        self,
        project: Project,
        limits: GateLimits,
        name: str,
        baseline: str = "",
        should_stop: ShouldStop = never,
        *,
        history: Mapping[str, Expected | str] | None = None,
    ) -> GateResult:
        """Compare one run with limits.

        Parameters
        ----------
        project
            The project.
        limits
            What it has to keep to.
        name, baseline
            The run, and what it is compared with: a run, or the words for a history; empty for none.
        history
            What a history expects of the run by figure, as `figures_of` names them, or why it expects nothing; None
            where the baseline is a run.

        Raises
        ------
        MissingNameError
            If a limit speaks of a state or source that the capture does not have.
        BadFileError
            If there is no such capture.
        """
        checks = [*self._of_run(project, limits, name, should_stop)]
        if history is None:
            checks += self._of_baseline(project, limits, name, baseline, should_stop)
        elif limits.baseline.max_worse is not None:
            figures = self.figures_of(project, name, should_stop)
            for name_of, figure in figures.items():
                checks.append(_beside(name_of, figure, history[name_of], limits.baseline.max_worse, baseline))
        return GateResult(name, baseline, tuple(checks), limits.strict)

    def figures_of(self, project: Project, name: str, should_stop: ShouldStop = never) -> dict[str, Figure]:
        """Return what of a run is compared with a history: ``average``, ``state:NAME`` and ``source:NAME``, A."""
        run = self._results.run(project, name, should_stop)
        wakes = self._results.wake_ledger(project, name, should_stop=should_stop)
        found = {"average": average_figure(run)}
        found |= {f"state:{row.name}": row.mean for row in run.ledger.rows}
        found |= {f"source:{row.source}": Figure(row.added.value, bound=row.bound) for row in wakes.sources}
        return {name: one for name, one in found.items() if one.value is not None and math.isfinite(one.value)}

    def _findings(
        self, project: Project, limits: FindingLimits, name: str, should_stop: ShouldStop
    ) -> tuple[Finding, ...]:
        """Return the findings that limits ask about: all, unless they ask about nothing but what stands alone."""
        if limits.max_cost_a is None and STANDS_ALONE.issuperset(limits.forbid):
            kinds = tuple(sorted(map(FindingKind, limits.forbid)))
            return self._results.faults_alone(project, name, kinds, should_stop)
        return self._results.findings(project, name, should_stop)

    def _of_run(self, project: Project, limits: GateLimits, name: str, should_stop: ShouldStop) -> Iterator[Check]:
        run = self._results.run(project, name, should_stop)
        if limits.average.max_a is not None:
            is_capture = limits.average.of == "capture"
            figure = _figure(run.ledger.mean if is_capture else average_figure(run))
            yield _upper(("average", "max_a"), figure, limits.average.max_a, "A", "average")
        if limits.life.min_months is not None:
            yield _life(run.life, limits.life.min_months, limits.life.chance)
        for state, wanted in limits.states.items():
            row = run.ledger.row(state)
            if row is None:
                raise MissingNameError(("states", state), tuple(one.name for one in run.ledger.rows))
            yield from _of_state(state, row, _given(wanted), run.ledger, run.placement)
        if limits.sources:
            wakes = self._results.wake_ledger(project, name, should_stop=should_stop)
            for source, sought in limits.sources.items():
                found = wakes.row(source)
                if found is None:
                    raise MissingNameError(("sources", source), tuple(one.source for one in wakes.sources))
                yield from _of_source(source, found, _given(sought), wakes)
        if limits.findings != FindingLimits():
            yield from _of_findings(self._findings(project, limits.findings, name, should_stop), limits.findings)
        shares = limits.measurement
        if shares.max_missing is not None:
            missing = Measured.exact(1 - run.whole.coverage)
            yield _upper(
                ("measurement", "max_missing"), missing, shares.max_missing, _SHARE, "samples that are missing"
            )
        if shares.max_unplaced is not None:
            unplaced = Measured.exact(run.ledger.unplaced_share)
            yield _upper(
                ("measurement", "max_unplaced"), unplaced, shares.max_unplaced, _SHARE, "charge without a state"
            )

    def _of_baseline(
        self, project: Project, limits: GateLimits, name: str, baseline: str, should_stop: ShouldStop
    ) -> Iterator[Check]:
        most = limits.baseline.max_worse
        if most is None:
            return
        if not baseline:
            text = "nothing to compare with: no baseline was given"
            yield Check(
                "baseline.max_worse", Outcome.UNDECIDED, None, None, None, most, _SHARE, text, _BASELINE, "any baseline"
            )
            return
        compared: Comparison = self._tuning.compare(project, baseline, name, should_stop)
        yield _worse("baseline.average", compared.average, most, baseline)
        # How much flows in a state, or in a wake, is known far better than how often chance lets it come.
        ledgers = [self._results.run(project, one, should_stop).ledger for one in (baseline, name)]
        for difference in compared.states:
            yield _worse(f"baseline.states.{difference.name}.added_a", difference, most, baseline)
            rows = [ledger.row(difference.name) for ledger in ledgers]
            flows = [(row.estimate, row.mean.bound) for row in rows if row is not None]
            yield from _changed(f"baseline.states.{difference.name}.mean_a", flows, most, baseline, "A")
        wakes = [self._results.wake_ledger(project, one, should_stop=should_stop) for one in (baseline, name)]
        for difference in compared.sources:
            yield _worse(f"baseline.sources.{difference.name}.added_a", difference, most, baseline)
            found = [ledger.row(difference.name) for ledger in wakes]
            charges = [(row.charge, row.bound) for row in found if row is not None]
            yield from _changed(f"baseline.sources.{difference.name}.charge_c", charges, most, baseline, "C")


def _given(table: object) -> dict[str, float]:
    """Return the limits of a table that are set."""
    fields: tuple[str, ...] = table.__struct_fields__  # type: ignore[attr-defined]
    return {name: value for name in fields if (value := getattr(table, name)) is not None}


def _figure(figure: Figure) -> Measured:
    """Return a figure with its interval; without an end on a side where it is only bounded."""
    low, high = figure.low, figure.high
    if figure.bound is Bound.AT_LEAST:
        high = None
    elif figure.bound is Bound.AT_MOST:
        low = None
    elif figure.bound is Bound.BELOW:
        low = 0.0
    return Measured(figure.shown, low, high)


def _estimated(estimate: Estimate, bound: Bound | None = None) -> Measured:
    low, high = estimate.interval() or (None, None)
    return _figure(Figure(estimate.value, low, high, bound=bound if bound is not Bound.BELOW else Bound.AT_MOST))


def _of_state(
    state: str, row: LedgerRow, limits: dict[str, float], ledger: Ledger, placement: Placement
) -> Iterator[Check]:
    flows = _figure(row.mean)
    share = row.dwell_s / ledger.charge_c if ledger.charge_c > 0 else 0.0
    figures = {
        "max_mean_a": (flows, "A", "mean"),
        "max_charge_c": (_times(flows, row.charge_c, row.dwell_s), "C", "charge"),
        "max_share": (_times(flows, row.charge_share, share), _SHARE, "share of the charge"),
        "min_dwell_s": (_shortest(row, placement), "s", "shortest stay"),
        "max_dwell_s": (_longest(row, placement), "s", "longest stay"),
        "max_entries": (Measured.exact(row.entries), "", "entries"),
    }
    for key, limit in limits.items():
        figure, unit, words = figures[key]
        check = _lower if key.startswith("min") else _upper
        yield check(("states", state, key), figure, limit, unit, f"{state}, {words}")


def _cut(row: LedgerRow, placement: Placement) -> Flags:
    """Return which entries the capture's ends cut off, shape ``(entries,)``."""
    cut = np.zeros(len(row.entry_dwell_s), dtype=bool)
    if len(cut) and len(placement.state):
        ends = [placement.names[at] if at >= 0 else "" for at in (int(placement.state[0]), int(placement.state[-1]))]
        cut[0] |= ends[0] == row.name
        cut[-1] |= ends[1] == row.name
    return cut


def _shortest(row: LedgerRow, placement: Placement) -> Measured:
    """Return the shortest stay of which both ends were seen."""
    whole_s = row.entry_dwell_s[~_cut(row, placement)]
    return Measured.exact(float(whole_s.min())) if len(whole_s) else Measured(None)


def _longest(row: LedgerRow, placement: Placement) -> Measured:
    """Return the longest stay; one that was cut off is at least as long."""
    if not len(row.entry_dwell_s):
        return Measured(None)
    at = int(row.entry_dwell_s.argmax())
    longest_s = float(row.entry_dwell_s[at])
    return Measured(longest_s, longest_s, None if _cut(row, placement)[at] else longest_s)


def _times(flows: Measured, value: float, factor: float) -> Measured:
    """Return a figure that is so much of a current: its interval is as wide as that one's."""
    low, high = (None if end is None else end * factor for end in (flows.low, flows.high))
    return Measured(value, low if low is None else min(low, value), high if high is None else max(high, value))


def _of_source(source: str, row: SourceRow, limits: dict[str, float], wakes: WakeLedger) -> Iterator[Check]:
    mine = wakes.wakes.by(source)
    figures = {
        "max_charge_c": (_estimated(row.charge, row.bound), "C", "charge of a wake"),
        "max_rate_per_h": (_rate(row, wakes.duration_s), "", "wakes an hour"),
        "max_awake_s": (_estimated(mean(wakes.awake_s[mine])), "s", "time awake"),
        "max_added_a": (_estimated(row.added, row.bound), "A", "adds to the average"),
    }
    for key, limit in limits.items():
        figure, unit, words = figures[key]
        yield _upper(("sources", source, key), figure, limit, unit, f"{source}, {words}")


def _rate(row: SourceRow, duration_s: float) -> Measured:
    """Return a rate: of timers it is as it was counted, of what comes by chance with Garwood's interval."""
    if sum(len(period.members) for period in row.periods) >= row.count:
        return Measured.exact(row.rate_per_h)
    from scipy.special import chdtri

    hours = duration_s / HOUR_S
    low = float(chdtri(2 * row.count, 0.95)) / 2 if row.count else 0.0
    return Measured(row.rate_per_h, low / hours, float(chdtri(2 * row.count + 2, 0.05)) / 2 / hours)


def _life(life: LifeEstimate, months: float, chance: float) -> Check:
    draws = (life.draws_s / MONTH_S).tolist()
    outcome = lasts(draws, months, chance)
    reach = sum(one >= months for one in draws) / len(draws) if draws else math.nan
    if (life.bound is Bound.AT_MOST and outcome is Outcome.PASS) or (
        life.bound is Bound.AT_LEAST and outcome is Outcome.FAIL
    ):
        outcome = Outcome.UNDECIDED  # a current that was cut off says nothing of the other side
    low, high = lasting(draws, chance) if draws else (None, None)
    text = (
        f"{outcome.value}: it lasts {format_trimmed(life.life_s / MONTH_S)} months; a chance of "
        f"{percent_text(reach)} to reach {format_trimmed(months)}, wanted are {percent_text(chance)}"
    )
    title, months_s = f"months, at chance {chance:g}", life.life_s / MONTH_S
    key = ("life", "min_months")
    return Check(
        "life.min_months", outcome, months_s, low, high, months, "months", str(text), key, title, is_least=True
    )


def _of_findings(found: tuple[Finding, ...], limits: FindingLimits) -> Iterator[Check]:
    for kind in limits.forbid:
        mine = [one for one in found if kind in (_ANY, one.kind.value)]
        sure = max((one.confidence for one in mine), default=0.0)
        outcome = Outcome.PASS if not mine else Outcome.FAIL if sure > _LIKELY else Outcome.UNDECIDED
        kinds = ", ".join(dict.fromkeys(f"{one.kind.value} ({confidence_word(one.confidence)})" for one in mine))
        text = f"{outcome.value}: found {kinds}" if mine else f"{outcome.value}: none found"
        figure = float(len(mine))
        key, title = ("findings", "forbid"), "any finding" if kind == _ANY else kind
        yield Check(f"findings.forbid.{kind}", outcome, figure, figure, figure, 0.0, "", text, key, title)
    if limits.max_cost_a is not None:
        costs = [(one.cost_a, one.kind.value) for one in found if one.cost_a is not None]
        dearest, kind = max(costs, default=(0.0, "no finding"))
        yield _upper(("findings", "max_cost_a"), Measured.exact(dearest), limits.max_cost_a, "A", f"cost of {kind}")


def _upper(key: tuple[str, ...], figure: Measured, limit: float, unit: str, words: str) -> Check:
    return _check(key, at_most(figure, limit), figure, limit, unit, words, "at most")


def _lower(key: tuple[str, ...], figure: Measured, limit: float, unit: str, words: str) -> Check:
    return _check(key, at_least(figure, limit), figure, limit, unit, words, "at least")


def _check(
    key: tuple[str, ...], outcome: Outcome, figure: Measured, limit: float, unit: str, words: str, side: str
) -> Check:
    def told(value: float | None) -> str:
        if value is None or math.isnan(value):
            return "unknown"
        if unit == _SHARE:
            return str(percent_text(value))
        return str(quantity_text(value, unit)) if unit else format_trimmed(value)

    reach = ", and nothing is known of its spread"
    if figure.low is not None and figure.high is not None:
        wide = interval_text(figure.low, figure.high, unit) if unit not in ("", _SHARE) else ""
        wide = wide or f"{told(figure.low)} to {told(figure.high)}"
        reach = f" ({wide})" if figure.low != figure.high else ""
    elif figure.low is not None or figure.high is not None:
        reach = f" (at least {told(figure.low)})" if figure.high is None else f" (at most {told(figure.high)})"
    text = f"{outcome.value}: {words}: {told(figure.value)}{reach}, {side} {told(limit)}"
    name = ".".join(key)
    is_least = side == "at least"
    return Check(name, outcome, figure.value, figure.low, figure.high, limit, unit, text, key, words, is_least)


def _changed(
    name: str, sides: list[tuple[Estimate, Bound | None]], most: float, baseline: str, unit: str
) -> Iterator[Check]:
    """Check a figure that both runs have, before and after."""
    if len(sides) < 2 or not all(math.isfinite(estimate.value) for estimate, _ in sides):
        return
    (before, before_bound), (after, after_bound) = sides
    change = after.less(before)
    low, high = change.interval() or (None, None)
    if before_bound is not None or after_bound is not None:
        low, high = None, None
    yield _of_change(
        name, before.value, after.value, Measured(change.value, low, high), most, baseline, unit,
    )  # fmt: skip


def _worse(name: str, difference: Difference, most: float, baseline: str) -> Check:
    change = Measured(difference.change_a, difference.low_a, difference.high_a)
    return _of_change(name, difference.before_a, difference.after_a, change, most, baseline, "A")


def _of_change(
    name: str, before: float, after: float, change: Measured, most: float, baseline: str, unit: str
) -> Check:
    share = relative(before, change)
    outcome = at_most(share, most)
    value, low, high = (
        None if one is None or not math.isfinite(one) else one for one in (share.value, share.low, share.high)
    )
    side = "less" if after < before else "more"
    by = f" by {percent_text(abs(value))}" if value is not None else ""
    reach = f" ({percent_text(low)} to {percent_text(high)})" if low is not None and high is not None else ""
    words = (
        f"{outcome.value}: {side}{by}{reach} than in {baseline}, {quantity_text(after, unit)} against "
        f"{quantity_text(before, unit)}; at most {percent_text(most)} more"
    )
    title = name.removeprefix("baseline.").removeprefix("states.").removeprefix("sources.")
    return Check(name, outcome, value, low, high, most, _SHARE, words, _BASELINE, _of_baseline_words(title))


def _beside(name_of: str, figure: Figure, expected: Expected | str, most: float, baseline: str) -> Check:
    """Compare a figure with what a history expects of it."""
    kind, _, name = name_of.partition(":")
    place = "baseline.average" if kind == "average" else f"baseline.{kind}s.{name}.{_HISTORY_FIGURES[kind]}"
    title = _of_baseline_words(place.removeprefix("baseline.").removeprefix("states.").removeprefix("sources."))
    if figure.bound is not None and not isinstance(expected, str):
        expected = "it is only bounded in this run, which says nothing of a change"
    if isinstance(expected, str):
        text = f"undecided: {expected}"
        return Check(place, Outcome.UNDECIDED, None, None, None, most, _SHARE, text, _BASELINE, title)
    value = float(figure.value or 0.0)
    share, low, high = expected.worse(value)
    outcome = at_most(Measured(share, low, high), most)
    since = f" since {expected.since}" if expected.since else ""
    words = (
        f"{outcome.value}: {'less' if share < 0 else 'more'} by {percent_text(abs(share))} ({percent_text(low)} to "
        f"{percent_text(high)}) than {counted(expected.runs, 'run')} of {baseline}{since}, {quantity_text(value, 'A')} "
        f"against {quantity_text(expected.level, 'A')}; at most {percent_text(most)} more"
    )
    return Check(place, outcome, share, low, high, most, _SHARE, words, _BASELINE, title)


def _of_baseline_words(name: str) -> str:
    """Return what of a state or source is compared with the baseline, in words."""
    ends = {".added_a": "adds", ".mean_a": "mean", ".charge_c": "charge of a wake"}
    for end, words in ends.items():
        if name.endswith(end):
            return f"{name.removesuffix(end)}, {words}"
    return name


def tally(result: GateResult) -> str:
    """Return how many checks passed, failed and are undecided, in words."""
    of = {outcome: sum(check.outcome is outcome for check in result.checks) for outcome in Outcome}
    words = f"{counted(len(result.checks), 'check')}: {of[Outcome.PASS]} passed, {of[Outcome.FAIL]} failed"
    return f"{words}, {of[Outcome.UNDECIDED]} undecided"
