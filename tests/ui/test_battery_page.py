"""The Battery page as a user drives it: activities, the year, the cell, trade-offs, dragged values."""

from __future__ import annotations

import math
from pathlib import Path

import msgspec
import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog
from pytestqt.qtbot import QtBot

from ui.driving import LEFT, type_into
from warm_ember.battery.cells import cell_of, library
from warm_ember.battery.life import estimate_life
from warm_ember.model.battery import FromWakes, SupplyKind, Typed
from warm_ember.session import edits
from warm_ember.session.cells import read_cell
from warm_ember.session.results import life_model
from warm_ember.ui.pages.battery.page import BatteryPage
from warm_ember.ui.shell.window import MainWindow
from warm_ember.units import DAY_S

PAGE = "Battery"


@pytest.fixture
def battery(window: MainWindow, settle) -> BatteryPage:
    window.show_page("Battery")
    settle()
    return window.pages.battery


@pytest.fixture
def page(battery: BatteryPage, settle) -> BatteryPage:
    battery.show_view("trade-offs")
    settle()
    return battery


@pytest.fixture
def told(window: MainWindow) -> list[str]:
    """What the window says is wrong."""
    messages: list[str] = []
    window.controller.troubled.connect(messages.append)
    return messages


def activity_of(window: MainWindow, name: str):
    return next(one for one in window.controller.project.activities if one.name == name)


def test_the_smallest_single_change_is_said_and_true(window: MainWindow, page: BatteryPage, settle) -> None:
    best = page.tradeoffs.found.ways[0]
    assert f"{best.name}, from {best.now} to **{best.needed}**" in page.sentence()
    assert "Lowering the sleep current alone cannot reach it" in page.sentence()
    assert (best.name, best.factor) == ("capacity", pytest.approx(1.41, abs=0.02))
    edit = edits.SetFields("battery", {"capacity_c": window.controller.project.battery.capacity_c * best.factor})
    window.controller.apply(edit, "a larger battery")
    settle()
    life = window.controller.results.life
    assert life.life_s == pytest.approx(life.target_s, rel=1e-3)
    assert "is met" in page.sentence()


def test_a_parameter_is_chosen_by_mouse_and_key(page: BatteryPage, qtbot: QtBot, settle) -> None:
    view = page.tradeoffs
    row = view.names.index("Passer-by, charge")
    qtbot.mouseClick(view, LEFT, pos=view._row_box(row).center().toPoint())
    settle()
    assert (view.found.course.name, view.found.region.name) == ("Passer-by, charge", "Passer-by")
    qtbot.keyClick(view, Qt.Key.Key_Up)
    settle()
    assert view.found.course.name == view.names[row - 1]
    qtbot.mouseClick(view, LEFT, pos=QPoint(view.width() - 20, 20))
    settle()
    assert view.found.course.name == view.names[row - 1]


def test_without_a_target_one_is_asked_for(window: MainWindow, page: BatteryPage, settle) -> None:
    window.controller.apply(edits.SetFields("project", {"target_s": None}), "forget the target")
    settle()
    assert page.sentence() == "Enter a target to see what would meet it."
    assert page.tradeoffs.found.region is None


def test_each_view_is_copied_as_text(page: BatteryPage, settle) -> None:
    copy = next(action for action in page.page_actions() if action.text().startswith("Copy the view"))
    heads = {
        "trade-offs": "parameter\tnow\tneeded alone\tfactor",
        "years": "year\tbegins\tleft at its end\tleast above stop (V)\tcoldest (°C)",
        "life": "activity\thow often\tcharge each (C)\tadds (A)",
    }
    for view, head in heads.items():
        page.show_view(view)
        settle()
        copy.trigger()
        assert QApplication.clipboard().text().splitlines()[0] == head
    page.show_view("cell")
    copy.trigger()
    assert msgspec.json.decode(QApplication.clipboard().text())["what"] == "lithium iron disulfide, AA"


def test_a_row_opens_the_activity_and_its_fields_change_it(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle
) -> None:
    day, panel = battery.activities.day, battery.activities.panel
    row = day._ordered().index("Passer-by")
    qtbot.mouseClick(day, LEFT, pos=day.row_box(row).center().toPoint())
    assert panel.isVisible()
    assert (panel.name_edit.text(), panel.per_day.value()) == ("Passer-by", 412)
    assert "6 × Count in the capture" in panel.facts.text()
    before = window.controller.results.load.mean_a
    type_into(qtbot, panel.probability, "50 %")
    settle()
    assert activity_of(window, "Passer-by").probability == 0.5
    assert window.controller.results.load.mean_a < before
    type_into(qtbot, panel.retries, "2")
    settle()
    cost = next(one for one in window.controller.results.load.costs if one.name == "Passer-by")
    assert cost.rate_hz == pytest.approx(412 / DAY_S * (0.5 + 0.25 + 0.125))
    type_into(qtbot, panel.name_edit, "Hiker")
    settle()
    assert battery.activities.day.chosen == "Hiker"
    qtbot.keyClick(panel, Qt.Key.Key_Escape)
    assert battery.panel.isVisible()
    qtbot.keyClick(day, Qt.Key.Key_Down)
    assert battery.activities.day.chosen == battery.activities.day._ordered()[0]


def test_hours_and_months_are_drawn_with_the_mouse_and_by_key(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle
) -> None:
    battery.activities.open("Passer-by")
    strip = battery.activities.panel.months
    qtbot.mousePress(strip, LEFT, pos=strip.bar_box(0).center().toPoint())
    for month in range(1, 12):
        qtbot.mouseMove(strip, strip.bar_box(month).center().toPoint())
    qtbot.mouseRelease(strip, LEFT, pos=strip.bar_box(11).center().toPoint())
    settle()
    assert activity_of(window, "Passer-by").months == ()  # all alike is even
    qtbot.mouseClick(strip, LEFT, pos=QPoint(2, 20))
    settle()
    months = activity_of(window, "Passer-by").months
    assert months[0] < 1.0 == max(months)
    hours = battery.activities.panel.hours
    qtbot.keyClick(hours, Qt.Key.Key_Right)
    qtbot.keyClick(hours, Qt.Key.Key_Up)
    settle()
    assert activity_of(window, "Passer-by").hours[1] == pytest.approx(0.1)
    qtbot.mouseDClick(hours, LEFT, pos=hours.bar_box(5).center().toPoint())
    settle()
    assert activity_of(window, "Passer-by").hours == ()


def test_an_activity_follows_another_and_what_is_impossible_is_refused(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle, told: list[str]
) -> None:
    battery.activities.open("Passer-by")
    panel = battery.activities.panel
    panel.follows.setCurrentText("Report")
    panel.follows.activated.emit(panel.follows.currentIndex())
    settle()
    assert not panel.per_day.isVisible()
    costs = {cost.name: cost.rate_hz for cost in window.controller.results.load.costs}
    assert costs["Passer-by"] == pytest.approx(costs["Report"])
    battery.activities.open("Report")
    panel.follows.setCurrentText("Passer-by")
    panel.follows.activated.emit(panel.follows.currentIndex())
    settle()
    assert "follows itself" in told[-1]
    assert activity_of(window, "Report").follows == ""
    type_into(qtbot, panel.probability, "120 %")
    assert told[-1] == "with chance: expected from 0 % to 100 %, found “120 %”"
    panel.dropped_out.emit("Report")
    settle()
    left = activity_of(window, "Passer-by")
    assert (left.follows, left.interval_s) == ("", 6 * 3600.0)


def test_a_wake_becomes_an_activity(
    window: MainWindow, battery: BatteryPage, settle, monkeypatch: pytest.MonkeyPatch
) -> None:
    offered: list[str] = []

    def choose(_parent, _title, _words, names, *_args, **_more):
        offered.extend(names)
        return next(name for name in names if name.startswith("wake by ")), True

    monkeypatch.setattr(QInputDialog, "getItem", choose)
    window.controller.apply(edits.SetFields("project", {"activities": ()}), "forget the activities")
    settle()
    battery.activities.add()
    settle()
    (made,) = window.controller.project.activities
    assert isinstance(made.source, FromWakes)
    assert {"Deep sleep", "Transmit"} < set(offered)
    (cost,) = window.controller.results.load.costs
    assert cost.measured_hz == pytest.approx(1 / made.interval_s)
    # At the capture's own rates the model is the capture.
    assert abs(window.controller.results.reproduced.difference) < 1e-6


def test_a_run_is_taken_as_the_model(window: MainWindow, battery: BatteryPage, settle) -> None:
    battery.activities.take_run()
    settle()
    results = window.controller.results
    assert {one.name for one in window.controller.project.activities} == {
        row.name for row in results.ledger.rows if row.name != results.load.base_name
    }
    assert results.load.mean_a == pytest.approx(results.ledger.mean_a, rel=1e-6)
    assert abs(results.reproduced.difference) < 1e-6


def test_a_typed_activity_is_changed_where_it_is_shown(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle
) -> None:
    typed = msgspec.structs.replace(activity_of(window, "Report"), name="Typed", source=Typed(0.5, 2.0, 0.1))
    window.controller.apply(edits.set_activity(typed), "type one")
    settle()
    battery.activities.open("Typed")
    panel = battery.activities.panel
    assert panel.charge.isVisible()
    type_into(qtbot, panel.charge, "0.25 C")
    settle()
    assert activity_of(window, "Typed").source == Typed(0.25, 2.0, 0.1)


def test_the_year_is_typed_where_it_is_drawn(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle, told: list[str]
) -> None:
    battery.show_view("years")
    settle()
    years = battery.in_years.years
    assert [year.number for year in years] == [1, 2, 3]
    assert years[0].begins.isoformat() == "2027-06-01"
    assert years[-1].charge_share == pytest.approx(0.12, abs=0.02)
    taken = {effect.name: effect.takes_s for effect in battery.in_years.effects}
    assert taken["reserve"] > taken["self-discharge"] > 0
    assert taken["capacitor across the battery"] is None
    before = window.controller.results.life.life_s
    for month in (0, 1, 11):
        type_into(qtbot, battery.years.months[month], "-39 °C")
        settle()
    assert window.controller.project.climate.months_c[:3] == (-39, -39, 0)
    assert window.controller.results.life.life_s < 0.9 * before  # the first deep winter ends it
    type_into(qtbot, battery.years.months[0], "400 °C")
    assert "from −80 °C to 150 °C" in told[-1]
    type_into(qtbot, battery.years.start_edit, "some day")
    assert "expected a date" in told[-1]
    type_into(qtbot, battery.years.start_edit, "2028-02-01")
    settle()
    assert window.controller.project.climate.start == "2028-02-01"


def test_a_value_is_dragged_and_the_page_follows(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle
) -> None:
    label = battery.panel._labels["battery", "capacity_c"]
    previews = []
    window.pages.battery.header_changed.connect(lambda: previews.append(battery.preview))
    before, life = window.controller.project, window.controller.results.life
    qtbot.mousePress(label, LEFT, pos=QPoint(4, 4))
    qtbot.mouseMove(label, QPoint(54, 4))
    settle()
    assert window.controller.project is before  # nothing is decided yet
    assert previews[-1].life.life_s > 1.2 * life.life_s
    assert battery.sentence().split()[0] != f"**{life.life_s}**"
    qtbot.keyClick(label, Qt.Key.Key_Escape)
    settle()
    assert battery.preview is None
    assert battery.panel.fields["battery", "capacity_c"].value() == before.battery.capacity_c
    qtbot.mousePress(label, LEFT, pos=QPoint(4, 4))
    qtbot.mouseMove(label, QPoint(54, 4))
    settle()
    shown_s = battery.preview.life.life_s
    qtbot.mouseRelease(label, LEFT, pos=QPoint(54, 4))
    settle()
    assert window.controller.project.battery.capacity_c > before.battery.capacity_c
    assert window.controller.results.life.life_s == pytest.approx(shown_s, rel=5e-3)
    window.controller.undo()
    assert window.controller.project.battery == before.battery  # one drag is one edit


def test_what_is_impossible_is_refused_where_it_is_typed(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle, told: list[str]
) -> None:
    before = window.controller.project
    for part, field, text, expected in (
        ("battery", "reserve", "100 %", "reserve: expected from 0 % to below 100 %, found “100 %”"),
        ("battery", "capacity_c", "0 Ah", "capacity: expected above 0 Ah, found “0 Ah”"),
        ("battery", "series", "0", "in series: expected from 1 to 1\u2009000, found “0”"),
        ("supply", "min_v", "-1 V", "least input: expected 0 V or more, found “-1 V”"),
    ):
        type_into(qtbot, battery.panel.fields[part, field], text)
        assert told[-1] == expected
    settle()
    assert window.controller.project is before


def test_a_chosen_cell_brings_its_typical_figures_along(window: MainWindow, battery: BatteryPage, settle) -> None:
    box = battery.panel.cell_box
    box.setCurrentText("LR6")
    box.activated.emit(box.currentIndex())
    settle()
    chosen = window.controller.project.battery
    assert chosen.capacity_c == 2 * library()["LR6"].capacity_c
    assert chosen.typical == ("capacity_c", "self_discharge_per_year")
    assert window.controller.results.life.weakest.grade.value == "assumed"
    battery.panel.changed.emit("battery", "capacity_c", 20_000.0)
    settle()
    assert window.controller.project.battery.typical == ("self_discharge_per_year",)


def test_a_switching_stage_takes_its_efficiency_by_load(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle, told: list[str]
) -> None:
    battery.panel.changed.emit("supply", "kind", SupplyKind.SWITCHING)
    settle()
    even = window.controller.results.life.life_s
    field = battery.panel.by_load
    assert field.isVisible()
    type_into(qtbot, field, "10 uA: 0.5, 0.1: 0.9")
    settle()
    assert window.controller.project.supply.efficiency_by_load == ((1e-5, 0.5), (0.1, 0.9))
    assert window.controller.results.life.life_s < even
    type_into(qtbot, field, "10 uA, 0.5")
    assert "expected pairs such as" in told[-1]
    type_into(qtbot, field, "0.1: 1.9")
    settle()
    assert "efficiency_by_load" in told[-1]
    assert window.controller.project.supply.efficiency_by_load[0] == (1e-5, 0.5)


def discharge_file(path: Path, current_a: float, ohm: float, charge_c: float) -> Path:
    """Write the discharge of a cell that falls from 3.2 V to 2.4 V in a straight line."""
    drawn_c = np.linspace(0, charge_c, 60)
    volts = 3.2 - 0.8 * drawn_c / 5000 - current_a * ohm
    rows = [f"{c / 3.6:.4f},{v:.5f},{1000 * current_a:g}" for c, v in zip(drawn_c, volts, strict=True)]
    path.write_text("\n".join(["charge_mAh,voltage_V,current_mA", *rows]))
    return path


def test_a_cell_is_made_from_discharges_checked_changed_saved_and_opened(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle, tmp_path: Path, told: list[str],
    monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    battery.show_view("cell")
    settle()
    files = [
        str(discharge_file(tmp_path / "slow.csv", 0.01, 2.0, 5000.0)),
        str(discharge_file(tmp_path / "fast.csv", 0.05, 2.0, 4000.0)),
    ]
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *_: (files, ""))
    battery.cell.from_discharges()
    settle()
    made = cell_of(window.controller.project.battery)
    assert (made.what, made.resistance_ohm) == ("slow", pytest.approx(2.0, rel=1e-3))
    assert made.capacity_by_load == ((0.01, 1.0), (0.05, pytest.approx(0.8)))
    assert window.controller.project.battery.capacity_c == pytest.approx(2 * 5000)
    # Emptied as it was measured it gives the same.
    assert abs(battery.cell.run.check.charge_difference) < 0.01
    assert battery.cell.run.check.worst_v < 0.01
    assert "reproduces the discharge" in battery.sentence()
    type_into(qtbot, battery.cell.view.numbers["resistance_ohm"], "3")
    settle()
    assert cell_of(window.controller.project.battery).resistance_ohm == 3.0
    type_into(qtbot, battery.cell.view.edits["ocv_v"], "0: 2.4, 1: 3.3")
    settle()
    assert cell_of(window.controller.project.battery).ocv_v == ((0.0, 2.4), (1.0, 3.3))
    type_into(qtbot, battery.cell.view.edits["ocv_v"], "1: 2.4, 0: 3.3")
    settle()
    assert "rising" in told[-1]
    battery.cell.save_file(tmp_path / "mine.json")
    assert read_cell(tmp_path / "mine.json") == cell_of(window.controller.project.battery)
    battery.cell.view.current.value_entered.emit(0.02)
    settle()
    assert battery.cell.run.current_a == 0.02
    (tmp_path / "bad.json").write_text('{"ocv_v": [[0, 1]], "colour": 3}')
    battery.cell.open_file(tmp_path / "bad.json")
    assert "bad.json" in told[-1]
    window.controller.apply(edits.SetFields("battery", {"cell": "FR6"}), "the old cell")
    settle()
    battery.cell.open_file(tmp_path / "mine.json")
    settle()
    assert cell_of(window.controller.project.battery).ocv_v == ((0.0, 2.4), (1.0, 3.3))


def test_a_table_without_a_current_asks_for_it(
    battery: BatteryPage, settle, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, told: list[str]
) -> None:
    battery.show_view("cell")
    table = tmp_path / "bare.csv"
    table.write_text("time_h,voltage_V\n0,1.7\n50,1.5\n100,1.4\n140,1.1\n150,1.0\n")
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("20 mA", True))
    battery.cell.check_against(table)
    settle()
    assert battery.cell.run.check.measured.charge_c == pytest.approx(150 * 3600 * 0.02)
    monkeypatch.setattr(QInputDialog, "getText", lambda *_: ("much", True))
    battery.cell.check_against(table)
    settle()
    assert "expected a current" in told[-1]


def test_a_library_cell_that_is_changed_becomes_ones_own(
    window: MainWindow, battery: BatteryPage, qtbot: QtBot, settle
) -> None:
    battery.show_view("cell")
    type_into(qtbot, battery.cell.view.numbers["resistance_ohm"], "1")
    settle()
    cell = window.controller.project.battery.cell
    assert (cell.what, cell.origin, cell.resistance_ohm) == ("FR6, changed", "entered, from FR6", 1.0)
    assert library()["FR6"].resistance_ohm == 0.15
    assert battery.panel.cell_box.currentText() == "FR6, changed"


def test_a_model_that_never_ends_says_so(window: MainWindow, battery: BatteryPage, settle) -> None:
    nothing = msgspec.structs.replace(activity_of(window, "Report"), source=Typed(0.0))
    fields = {"activities": (nothing,), "target_s": None}
    window.controller.apply(edits.SetFields("project", fields), "nothing at all")
    window.controller.apply(
        edits.SetFields("battery", {"cell": None, "self_discharge_per_year": 0.0}), "an ideal battery"
    )
    settle()
    model = life_model(window.controller.project, window.controller.results.load)
    from dataclasses import replace

    from warm_ember.model.figure import Figure

    endless = replace(model, load=replace(model.load, base=Figure(0.0), costs=()))
    assert math.isinf(estimate_life(endless).life_s)
    battery.results = replace(window.controller.results, life=estimate_life(endless), load=endless.load)
    battery._show()
    assert "never ends" in battery.sentence()


def test_a_view_leaves_the_ramp_as_it_was(window: MainWindow, battery: BatteryPage, settle) -> None:
    ramp = window.look.theme.ramp
    before = [ramp.color(10.0**decade).rgba() for decade in range(-9, 0)]
    for view in ("trade-offs", "years", "cell", "life"):
        battery.show_view(view)
        settle()
        window.grab()
    assert [ramp.color(10.0**decade).rgba() for decade in range(-9, 0)] == before
    ramp.color(1e-5).setAlpha(0)
    assert ramp.color(1e-5).alpha() == 255


@pytest.mark.parametrize(
    ("part", "fields", "words"),
    [
        ("battery", {"cutoff_v": 3.9}, "impossible with this battery"),
        ("supply", {"kind": SupplyKind.SWITCHING, "output_v": 5000.0}, "impossible with this battery"),
        ("battery", {"cell": None, "capacity_c": 1e12, "self_discharge_per_year": 0.0}, ": met."),
    ],
)
def test_what_hardly_makes_sense_is_shown_all_the_same(
    window: MainWindow, battery: BatteryPage, settle, part: str, fields: dict[str, object], words: str
) -> None:
    window.controller.apply(edits.SetFields(part, fields), "something odd")
    settle()
    assert words in battery.sentence()
    for view in ("years", "trade-offs", "cell", "life"):
        battery.show_view(view)
        settle()
        window.grab()
