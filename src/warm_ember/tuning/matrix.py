"""The shutdown matrix: what is on in which state, what that should draw together, and which rules it breaks."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from warm_ember.attribution.ledger import Ledger, LedgerRow
from warm_ember.model.figure import Figure
from warm_ember.model.parts import Group, Part, PartIn, Power, PowerRule
from warm_ember.model.project import ExpectedValue
from warm_ember.model.wake_plan import ModePower, WakePath, WakePlan
from warm_ember.tuning.wake_plan import check_plan
from warm_ember.units import quantity_text

WAKES = "wake source"
ARMED, DEAF = "armed", "not armed"


@dataclass(frozen=True)
class MatrixCell:
    """One part in one state.

    Parameters
    ----------
    mode
        The mode it is in; empty where nothing is said of it.
    power
        How far it is on.
    current_a
        What it draws; None where nothing is said of it.
    """

    mode: str = ""
    power: Power = Power.OFF
    current_a: float | None = None


@dataclass(frozen=True)
class MatrixRow:
    """One part, clock, memory, regulator, domain or wake source.

    Parameters
    ----------
    name, detail
        What it is.
    group
        A `Group` or ``wake source``.
    cells
        One for each column.
    modes
        Between which a cell can be changed; of domains and clocks of the wake plan ``on`` and ``off``.
    """

    name: str
    detail: str
    group: str
    cells: tuple[MatrixCell, ...]
    modes: tuple[str, ...]


@dataclass(frozen=True)
class StateColumn:
    """One state: the sum of its parts against what was measured.

    Parameters
    ----------
    state
        Its name.
    time_share
        Its share of the capture.
    sum_a
        What its parts draw together; None where nothing is said of any.
    tolerance
        Of the sum, as a share.
    measured
        What it draws.
    """

    state: str
    time_share: float
    sum_a: float | None
    tolerance: float
    measured: Figure

    @property
    def unexplained_a(self) -> float | None:
        """What is measured beyond the sum; None where either is not known."""
        if self.sum_a is None or self.measured.value is None:
            return None
        return self.measured.value - self.sum_a

    @property
    def is_open(self) -> bool:
        """Whether more is unexplained than the sum's tolerance and the noise of the measurement explain."""
        left_a = self.unexplained_a
        if left_a is None or self.sum_a is None or self.measured.value is None:
            return False
        noise_a = max(
            (abs(end - self.measured.value) for end in (self.measured.low, self.measured.high) if end is not None),
            default=0.0,
        )
        return abs(left_a) > self.tolerance * abs(self.sum_a) + noise_a


@dataclass(frozen=True)
class RuleViolation:
    """A rule that does not hold.

    Parameters
    ----------
    words
        Which, and what would mend it.
    state
        Where.
    rows
        The rows whose cells it joins.
    """

    words: str
    state: str
    rows: tuple[str, ...]


@dataclass(frozen=True)
class Matrix:
    """Rows by group, columns from the lowest state up, and the rules that do not hold."""

    rows: tuple[MatrixRow, ...]
    columns: tuple[StateColumn, ...]
    broken: tuple[RuleViolation, ...]

    def row(self, name: str) -> MatrixRow | None:
        """Return a row, or None."""
        return next((row for row in self.rows if row.name == name), None)

    def column(self, state: str) -> StateColumn | None:
        """Return a column, or None."""
        return next((column for column in self.columns if column.state == state), None)

    def cell(self, name: str, state: str) -> MatrixCell | None:
        """Return a cell, or None."""
        row = self.row(name)
        states = [column.state for column in self.columns]
        return row.cells[states.index(state)] if row is not None and state in states else None


def make_matrix(
    ledger: Ledger,
    parts: tuple[Part, ...],
    expected: Iterable[ExpectedValue],
    rules: Iterable[PowerRule],
    wake_plan: WakePlan,
    mode_of: Mapping[str, str],
) -> Matrix:
    """Lay the parts out by state and hold the sums against what was measured.

    Parameters
    ----------
    ledger
        The states of a capture.
    parts, expected, rules
        The device's parts, in which modes they should be in each state, summed, and what they need of each other.
    wake_plan
        What the sources need that wake the device.
    mode_of
        The sleep mode that each state of sleep is.
    """
    known = {value.state: value for value in expected}
    rows_of = [row for row in ledger.rows if row.mean.value is not None]
    columns = tuple(_column(row, known.get(row.name)) for row in sorted(rows_of, key=lambda row: row.mean.value or 0.0))
    states = [column.state for column in columns]
    powers = [next((one for one in wake_plan.modes if one.mode == mode_of.get(state, "")), None) for state in states]
    rows = [_part_row(part, states, known) for part in parts]
    rows += _plan_rows(wake_plan, powers, {part.name for part in parts})
    rows += [_source_row(path, powers) for path in wake_plan.paths]
    order = [group.value for group in Group]
    order.append(WAKES)
    rows.sort(key=lambda row: order.index(row.group))
    matrix = Matrix(tuple(rows), columns, ())
    broken = [one for rule in rules for state in states for one in _check(matrix, rule, state)]
    broken += _of_plan(wake_plan, states, powers)
    return Matrix(matrix.rows, columns, tuple(broken))


def _column(row: LedgerRow, value: ExpectedValue | None) -> StateColumn:
    if value is None:
        return StateColumn(row.name, row.time_share, None, 0.0, row.mean)
    return StateColumn(row.name, row.time_share, value.current_a, value.tolerance, row.mean)


def _part_row(part: Part, states: list[str], known: Mapping[str, ExpectedValue]) -> MatrixRow:
    cells = []
    for state in states:
        value = known.get(state)
        mode_name = next((one.mode for one in value.parts if one.part == part.name), "") if value is not None else ""
        mode = part.mode(mode_name)
        cells.append(MatrixCell() if mode is None else MatrixCell(mode.name, mode.power, mode.current_a))
    return MatrixRow(part.name, part.kind, part.group.value, tuple(cells), tuple(mode.name for mode in part.modes))


def _plan_rows(plan: WakePlan, powers: list[ModePower | None], taken: set[str]) -> list[MatrixRow]:
    """Return a row for each domain and oscillator that sources of wakes need; those that are parts have theirs."""
    domains = [path.domain for path in plan.paths] + [name for mode in plan.modes for name in mode.domains]
    clocks = [path.oscillator for path in plan.paths] + [name for mode in plan.modes for name in mode.oscillators]
    rows = []
    for group, names in ((Group.DOMAIN, domains), (Group.CLOCK, clocks)):
        for name in dict.fromkeys(one for one in names if one and one not in taken):
            cells = []
            for power in powers:
                on = power is None or name in (power.domains if group is Group.DOMAIN else power.oscillators)
                cells.append(MatrixCell("on" if on else "off", Power.ON if on else Power.OFF))
            rows.append(MatrixRow(name, "", group.value, tuple(cells), ("on", "off")))
    return rows


def _source_row(path: WakePath, powers: list[ModePower | None]) -> MatrixRow:
    is_armed = path.enabled and path.wired and path.rearmed
    word = ARMED if is_armed else DEAF
    cells = tuple(
        MatrixCell() if power is None else MatrixCell(word, Power.ON if is_armed else Power.OFF) for power in powers
    )
    return MatrixRow(path.source, path.pin, WAKES, cells, ())


def _check(matrix: Matrix, rule: PowerRule, state: str) -> list[RuleViolation]:
    """Return where a rule does not hold in a state."""
    here = matrix.cell(rule.when.part, state)
    if here is None or not _is(here, rule.when):
        return []
    why = f": {rule.why}" if rule.why else ""
    found = []
    for need in rule.needs:
        other = matrix.cell(need.part, state)
        # Of what nothing is said nothing is known.
        if other is not None and other.mode and not _is(other, need):
            words = f"{rule.when.part} {here.mode} in {state} needs {_words(need)}, which is {other.mode}{why}."
            found.append(RuleViolation(words, state, (rule.when.part, need.part)))
    for bar in rule.excludes:
        other = matrix.cell(bar.part, state)
        if other is not None and other.mode and _is(other, bar):
            words = f"{rule.when.part} {here.mode} does not go with {bar.part} {other.mode} in {state}{why}."
            found.append(RuleViolation(words, state, (rule.when.part, bar.part)))
    return found


def _is(cell: MatrixCell, wanted: PartIn) -> bool:
    if not cell.mode:
        return False
    return cell.mode in wanted.modes if wanted.modes else cell.power is not Power.OFF


def _words(wanted: PartIn) -> str:
    return f"{wanted.part} in {' or '.join(wanted.modes)}" if wanted.modes else f"{wanted.part} on"


def _of_plan(plan: WakePlan, states: list[str], powers: list[ModePower | None]) -> list[RuleViolation]:
    """Return the sources that cannot wake the device from a state."""
    found = []
    checked = check_plan(plan, {})
    for state, power in zip(states, powers, strict=True):
        for path in plan.paths if power is not None else ():
            verdict = checked.of(path.source, power.mode) if power is not None else None
            if verdict is None or verdict.works or power is None:
                continue
            missing = [path.domain] if path.domain and path.domain not in power.domains else []
            if path.oscillator and path.oscillator not in power.oscillators:
                missing.append(path.oscillator)
            words = f"{path.source} cannot wake the device from {state}: {verdict.words}."
            found.append(RuleViolation(words, state, (path.source, *missing[:1])))
    return found


def lead_words(column: StateColumn) -> str:
    """Return what of a state is unexplained, or that its parts draw less than they should."""
    left_a, sum_a = column.unexplained_a or 0.0, column.sum_a or 0.0
    if left_a < 0:
        return f"{column.state} draws {quantity_text(-left_a, 'A')} less than its parts should: is one of them off?"
    return (
        f"{quantity_text(left_a, 'A')} in {column.state} is unexplained: its parts account for "
        f"{quantity_text(sum_a, 'A')}."
    )
