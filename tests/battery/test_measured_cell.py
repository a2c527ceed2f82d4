"""Cells made from discharges whose truth is known."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from warm_ember.battery.cells import library
from warm_ember.battery.measured_cell import cell_from, check_cell_against, constant_discharge
from warm_ember.errors import BadArgumentError, BadFileError
from warm_ember.formats.battery_table import read_battery_table
from warm_ember.formats.discharge_table import read_discharge
from warm_ember.model.battery import Cell
from warm_ember.model.measured_discharge import MeasuredDischarge


def a_discharge(current_a: float, ohm: float, charge_c: float, noise: int = 0) -> MeasuredDischarge:
    """A cell that falls from 3.2 V to 2.4 V in a straight line, and harder the emptier it is."""
    drawn_c = np.linspace(0, charge_c, 200)
    share = 1 - drawn_c / 5000
    volts = 2.4 + 0.8 * share - current_a * ohm * (2 - share)
    if noise:
        volts = volts + 1e-3 * np.random.default_rng(noise).standard_normal(200)
    return MeasuredDischarge(current_a, drawn_c, volts)


@given(st.floats(1e-3, 0.02), st.floats(0.1, 3.0), st.floats(1.5, 5.0))
@settings(max_examples=15)
def test_two_currents_tell_the_resistance_and_give_the_discharge_back(slow_a: float, ohm: float, ratio: float) -> None:
    slow, fast = a_discharge(slow_a, ohm, 5000.0), a_discharge(slow_a * ratio, ohm, 4500.0)
    cell = cell_from((fast, slow), library()["CR2450"], "mine")
    assert cell.resistance_ohm == pytest.approx(ohm, rel=0.02)
    assert dict(cell.resistance_by_charge)[1.0] == 1.0
    assert cell.capacity_c == 5000.0
    assert cell.capacity_by_load == ((slow_a, 1.0), (slow_a * ratio, pytest.approx(0.9)))
    for measured in (slow, fast):
        check = check_cell_against(cell, measured)
        assert abs(check.charge_difference) < 0.01
        assert check.worst_v < 0.02 + 0.03 * measured.current_a * ohm


def test_one_current_keeps_the_resistance_of_the_cell_at_hand() -> None:
    like = library()["CR2450"]
    cell = cell_from((a_discharge(0.01, 2.0, 5000.0, noise=1),), like, "mine")
    assert (cell.resistance_ohm, cell.resistance_by_charge) == (like.resistance_ohm, like.resistance_by_charge)
    assert cell.self_discharge_per_year == like.self_discharge_per_year
    assert cell.origin == "measured, 1 discharge"
    assert check_cell_against(cell, a_discharge(0.01, 2.0, 5000.0)).worst_v < 0.02


@pytest.mark.parametrize(
    ("measured", "problem"),
    [
        (MeasuredDischarge(0.0, np.arange(9.0), np.ones(9)), "a current above 0"),
        (MeasuredDischarge(0.1, np.arange(2.0), np.ones(2)), "4 points or more"),
        (MeasuredDischarge(0.1, np.array([0.0, 2, 1, 3]), np.ones(4)), "must rise, but falls at point 3"),
        (MeasuredDischarge(0.1, np.arange(5.0), np.zeros(5)), "voltage must stay above 0"),
    ],
)
def test_discharges_that_cannot_be_used(measured: MeasuredDischarge, problem: str) -> None:
    with pytest.raises(BadArgumentError, match=problem):
        cell_from((measured,), Cell(()), "mine")


def test_a_cell_without_a_capacity_cannot_be_emptied() -> None:
    with pytest.raises(BadArgumentError, match="capacity is not known"):
        constant_discharge(Cell(((0.0, 2.0), (1.0, 3.0))), 0.1, 2.0, 20.0)


@pytest.mark.parametrize(
    "text",
    [
        "charge_mAh,voltage_V,current_mA\n0,1.6,20\n500,1.5,20\n1000,1.4,20\n1500,1.2,20\n2000,1.0,20\n",
        "Capacity (Ah);Voltage (mV);I (A)\n0;1600;-0,02\n0,5;1500;-0,02\n1;1400;-0,02\n1,5;1200;-0,02\n2;1000;-0,02\n",
        "time_h\tvoltage_V\tcurrent_mA\n0\t1.6\t20\n25\t1.5\t20\n50\t1.4\t20\n75\t1.2\t20\n100\t1.0\t20\n",
    ],
)
def test_tables_are_told_by_their_units(tmp_path: Path, text: str) -> None:
    table = tmp_path / "cell.csv"
    table.write_text(text)
    found = read_discharge(table)
    assert found.current_a == pytest.approx(0.02)
    assert found.charge_c == pytest.approx(2 * 3600)
    assert found.voltage_v.tolist() == pytest.approx([1.6, 1.5, 1.4, 1.2, 1.0])


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("0,1.6\n1,1.5\n2,1.4\n3,1.2\n4,1.0\n", "expected a header row"),
        ("charge_mAh,current_mA\n0,20\n1,20\n2,20\n3,20\n4,20\n", "a column with a voltage"),
        ("charge_mAh,voltage_V\n0,1.6\n1,1.5\n2,1.4\n3,1.2\n4,1.0\n", "no current column"),
        ("voltage_V,current_mA\n1.6,20\n1.5,20\n1.4,20\n1.2,20\n1.0,20\n", "a column with a charge or time"),
        ("charge_mAh,voltage_V,current_mA\n0,1.6,20\n1,1.5,90\n2,1.4,5\n3,1.2,20\n4,1.0,60\n", "constant current"),
        ("charge_mAh,voltage_V,current_mA\n0,1.6,20\n1,0,20\n2,1.4,20\n3,1.2,20\n4,1.0,20\n", "voltage above 0"),
        ("charge_mAh,voltage_V,current_mA\n0,1.6,20\n0,1.5,20\n0,1.4,20\n0,1.2,20\n", "rising charge"),
    ],
)
def test_tables_that_cannot_be_read(tmp_path: Path, text: str, problem: str) -> None:
    table = tmp_path / "cell.csv"
    table.write_text(text)
    with pytest.raises(BadFileError, match=problem):
        read_discharge(table)


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("drawn_c,open_v\n0,3\n1,2\n2,1\n", "resistance_ohm is missing"),
        ("drawn_c,open_v,resistance_ohm\n0,3,1\n0,2,1\n1,1,1\n", "rising drawn_c"),
        ("drawn_c,open_v,resistance_ohm\n0,3,1\n1,-2,1\n2,1,1\n", "0 or more"),
    ],
)
def test_battery_tables_that_cannot_be_played(tmp_path: Path, text: str, problem: str) -> None:
    table = tmp_path / "pack.csv"
    table.write_text(text)
    with pytest.raises(BadFileError, match=problem):
        read_battery_table(table)
