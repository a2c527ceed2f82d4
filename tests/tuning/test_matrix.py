"""The shutdown matrix: sums, what is unexplained, and rules, against a device put together at random."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from warm_ember.attribution.ledger import Ledger, LedgerRow, Verdict
from warm_ember.model.figure import Figure
from warm_ember.model.parts import Part, PartIn, PartMode, PartOn, Power, PowerRule
from warm_ember.model.project import ExpectedValue
from warm_ember.model.wake_plan import ModePower, WakePath, WakePlan
from warm_ember.tuning.matrix import ARMED, DEAF, WAKES, Matrix, StateColumn, lead_words, make_matrix

STATES = ("Sleep", "Count", "Report")
MODES = (
    PartMode("off", 0.0, power=Power.OFF), PartMode("watch", 2e-6), PartMode("on", 3e-4)
)  # fmt: skip
PARTS = tuple(Part(name, MODES) for name in ("Rowan", "Thrush", "Dipper"))
MODE_NAMES = st.sampled_from([mode.name for mode in MODES])


def ledger_of(means_a: dict[str, float]) -> Ledger:
    """A ledger in which each state lasts a second."""
    entry = np.zeros(1)
    rows = tuple(
        LedgerRow(state, "log", 1, 1.0, 1 / len(means_a), Figure(mean_a), mean_a, mean_a / sum(means_a.values()), None,
                  mean_a, None, Verdict.NONE, entry, entry, entry)
        for state, mean_a in means_a.items()
    )  # fmt: skip
    return Ledger("r1", 3.0, 3.0, sum(means_a.values()) / 3, sum(means_a.values()), None, rows, None)


@st.composite
def set_ups(draw: st.DrawFn) -> dict[str, dict[str, str]]:
    """In which mode each part is in each state, where that is said at all."""
    return {
        state: {part.name: draw(MODE_NAMES) for part in PARTS if draw(st.booleans())} for state in STATES
    }  # fmt: skip


def current_of(mode: str) -> float:
    return next(one.current_a for one in MODES if one.name == mode)


def laid_out(said, means_a, rules=(), plan=None, mode_of=None) -> Matrix:
    expected = [
        ExpectedValue(state, sum(map(current_of, modes.values())), parts=tuple(PartOn(*one) for one in modes.items()))
        for state, modes in said.items()
        if modes
    ]
    ledger = ledger_of(dict(zip(STATES, means_a, strict=True)))
    return make_matrix(ledger, PARTS, expected, rules, plan or WakePlan(), mode_of or {})


MEANS = st.lists(st.floats(1e-7, 1e-1), min_size=3, max_size=3, unique=True)


@given(set_ups(), MEANS)
def test_columns_rise_and_cells_show_what_was_said(said, means_a) -> None:
    matrix = laid_out(said, means_a)
    found = [column.measured.value for column in matrix.columns]
    assert found == sorted(found)
    for state in STATES:
        for part in PARTS:
            cell, mode = matrix.cell(part.name, state), said[state].get(part.name, "")
            assert cell is not None
            assert cell.mode == mode
            assert cell.current_a == (current_of(mode) if mode else None)
            assert (cell.power is Power.OFF) == (mode in ("", "off"))
    assert matrix.cell("nobody", STATES[0]) is matrix.cell(PARTS[0].name, "nowhere") is None


@given(set_ups(), MEANS)
def test_what_is_unexplained_is_the_rest(said, means_a) -> None:
    matrix = laid_out(said, means_a)
    for state, mean_a in zip(STATES, means_a, strict=True):
        column = matrix.column(state)
        assert column is not None
        if not said[state]:
            assert column.sum_a is column.unexplained_a is None
            assert not column.is_open
            continue
        sum_a = sum(map(current_of, said[state].values()))
        assert column.sum_a == pytest.approx(sum_a)
        assert column.unexplained_a == pytest.approx(mean_a - sum_a, rel=1e-6)


@given(st.floats(1e-9, 1), st.floats(1e-9, 1), st.floats(0, 0.5), st.floats(0, 0.5))
def test_a_cell_glows_only_beyond_tolerance_and_noise(sum_a, mean_a, tolerance, noise) -> None:
    measured = Figure(mean_a, mean_a * (1 - noise), mean_a * (1 + noise))
    column = StateColumn("Sleep", 1.0, sum_a, tolerance, measured)
    margin_a = abs(mean_a - sum_a) - tolerance * sum_a - noise * mean_a
    assume(abs(margin_a) > 1e-12)
    assert column.is_open is (margin_a > 0)
    words = lead_words(column)
    assert ("less than its parts should" in words) is (mean_a < sum_a)
    assert not StateColumn("Sleep", 1.0, None, tolerance, measured).is_open
    assert not StateColumn("Sleep", 1.0, sum_a, tolerance, Figure(None)).is_open


WANTED = st.lists(MODE_NAMES, max_size=2, unique=True).map(tuple)


def holds(mode: str, wanted: tuple[str, ...]) -> bool:
    return bool(mode) and (mode in wanted if wanted else mode != "off")


@given(set_ups(), WANTED, WANTED, st.booleans())
def test_a_rule_is_broken_where_its_words_are_not_true(said, when, other, needs) -> None:
    about, wanted = PartIn("Rowan", when), (PartIn("Thrush", other),)
    rule = PowerRule(about, needs=wanted if needs else (), excludes=() if needs else wanted, why="so it is wired")
    matrix = laid_out(said, (1e-6, 1e-4, 1e-2), (rule,))
    broken = {one.state for one in matrix.broken}
    for state in STATES:
        mine, its = said[state].get("Rowan", ""), said[state].get("Thrush", "")
        is_broken = holds(mine, when) and bool(its) and holds(its, other) is not needs
        assert (state in broken) is is_broken
    for one in matrix.broken:
        assert one.rows == ("Rowan", "Thrush")
        assert "so it is wired" in one.words


@given(st.booleans(), st.booleans(), st.booleans(), st.booleans(), st.booleans())
def test_a_source_wakes_only_from_where_what_it_needs_is_on(enabled, wired, domain_on, clock_on, probed) -> None:
    path = WakePath("pir", domain="always on", oscillator="32 kHz", enabled=enabled, wired=wired)
    mode = ModePower(
        "deep", ("always on",) if domain_on else (), ("32 kHz",) if clock_on else (), probe_attaches=probed
    )
    plan = WakePlan((path,), (mode,))
    matrix = laid_out({state: {} for state in STATES}, (1e-6, 1e-4, 1e-2), plan=plan, mode_of={"Sleep": "deep"})
    row = matrix.row("pir")
    assert row is not None
    assert row.group == WAKES
    asleep, awake = matrix.cell("pir", "Sleep"), matrix.cell("pir", "Count")
    assert asleep is not None
    assert asleep.mode == (ARMED if enabled and wired else DEAF)
    assert awake is not None
    assert awake.mode == ""
    works = enabled and wired and domain_on and clock_on
    assert [one.state for one in matrix.broken] == ([] if works else ["Sleep"])
    for name, on in (("always on", domain_on), ("32 kHz", clock_on)):
        cell = matrix.cell(name, "Sleep")
        assert cell is not None
        assert cell.mode == ("on" if on else "off")
