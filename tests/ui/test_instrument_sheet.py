"""An instrument that nobody knows is described in the window, tried, saved, and recorded from."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import Qt
from pytestqt.qtbot import QtBot

from bench.fake_instrument import FakeInstrument
from bench.fake_meter import FakeMeter
from ui.driving import LEFT, type_into
from warm_ember.bench.description import known_descriptions
from warm_ember.ui.pages.bench.instrument_sheet import InstrumentSheet
from warm_ember.ui.pages.bench.page import BenchPage
from warm_ember.ui.shell.window import MainWindow

PAGE = "Bench"


@pytest.fixture
def page(window: MainWindow, settle) -> BenchPage:
    window.show_page("Bench")
    settle()
    return window.pages.bench


def opened(page: BenchPage, address: str, qtbot: QtBot, settle) -> InstrumentSheet:
    type_into(qtbot, page.recipe.resource, address)
    qtbot.mouseClick(page.recipe.find_key, LEFT)
    settle()
    qtbot.mouseClick(page.recipe.describe_key, LEFT)
    (sheet,) = (one for one in page.findChildren(InstrumentSheet) if one.isVisible())
    return sheet


def rows(sheet: InstrumentSheet) -> dict[str, tuple[str, str]]:
    table = sheet.table
    return {table.cell_text(k, 0): (table.cell_text(k, 1), table.cell_text(k, 2)) for k in range(table.row_count())}


def place(sheet: InstrumentSheet, what: str) -> int:
    return next(k for k in range(sheet.table.row_count()) if sheet.table.cell_text(k, 0) == what)


def test_a_sweep_is_described_tried_mended_and_saved(page: BenchPage, qtbot: QtBot, settle) -> None:
    with FakeInstrument(np.full(4000, 2e-3, dtype=np.float32), np.full(4000, 3.0, dtype=np.float32)) as peer:
        peer.refuse = "SOURCE:CURRENT:LIM"
        sheet = opened(page, peer.address, qtbot, settle)
        assert sheet.name.text() == "Any Maker Model 1"
        assert sheet.identity.text() == "^Any Maker,Model 1"
        assert "its ranges" in sheet.missing.text()
        sheet.voltage.setChecked(True)
        qtbot.mouseClick(sheet.try_key, LEFT)
        settle()
        assert "1 problem" in sheet.state.text()
        assert rows(sheet)["current limit of the source"][1].startswith("▲ taken: the value is outside")
        assert rows(sheet)["answers voltages"][1].endswith("the first 3.00 V")
        assert rows(sheet)["range of its own choice"] == ("", "not sent")
        sheet.table.type_into(place(sheet, "current limit of the source"), 1, "CURR:LIM {value}")
        qtbot.mouseClick(sheet.try_key, LEFT)
        settle()
        assert "all answered as hoped" in sheet.state.text()
        type_into(qtbot, sheet.shortest, "1 ms to 1 s")
        qtbot.mouseClick(sheet.save_key, LEFT)
        settle()
        assert not peer.is_on
    saved = known_descriptions()[0]
    assert (saved.name, saved.interval_s) == ("Any Maker Model 1", (1e-3, 1.0))
    assert saved.commands.limit == "CURR:LIM {value}"
    assert saved.sense == ("current", "voltage")
    assert page.bench_controller.description == saved
    assert not page.findChildren(InstrumentSheet)


def test_a_meter_is_recognised_as_one_and_its_pace_is_filled_in(page: BenchPage, qtbot: QtBot, settle) -> None:
    with FakeMeter(lambda number: "+1.5E-03") as meter:
        sheet = opened(page, meter.address, qtbot, settle)
        sheet.mode.setCurrentIndex(sheet.mode.findData("polled"))
        assert "answers currents" not in rows(sheet)
        assert not sheet.data_format.isVisible()
        qtbot.mouseClick(sheet.try_key, LEFT)
        settle()
        assert rows(sheet)["answers one reading"][1].startswith("“+1.5E-03”")
        assert sheet.quantities["max_rate_hz"].text()
        assert "how often it answers" not in sheet.missing.text()
        sheet.ranges.setPlainText("10 mA, width 3")
        qtbot.mouseClick(sheet.save_key, LEFT)
        assert "expected one of step, noise, offset, shunt" in sheet.state.text()
        sheet.ranges.setPlainText("10 mA, step 1 µA")
        qtbot.mouseClick(sheet.save_key, LEFT)
        settle()
    assert known_descriptions()[0].ranges[0].step_a == pytest.approx(1e-6)


def test_what_is_wrong_is_said_on_the_sheet_and_closing_stops_the_trying(page: BenchPage, qtbot: QtBot, settle) -> None:
    sheet = opened(page, "TCPIP::127.0.0.1::9::SOCKET", qtbot, settle)
    qtbot.mouseClick(sheet.save_key, LEFT)
    assert sheet.state.text() == "give it a name"
    type_into(qtbot, sheet.name, "nobody")
    qtbot.mouseClick(sheet.try_key, LEFT)
    settle()
    assert "127.0.0.1::9" in sheet.state.text()
    sheet.mode.setCurrentIndex(sheet.mode.findData("lines"))
    assert sheet.pattern.isVisible()
    qtbot.mouseClick(sheet.save_key, LEFT)
    assert "pattern" in sheet.state.text()
    qtbot.mouseClick(sheet.try_key, LEFT)
    qtbot.keyClick(sheet, Qt.Key.Key_Escape)
    settle()
    assert not page.findChildren(InstrumentSheet)
    assert known_descriptions()[0].name != "nobody"
