"""The Bench page as a user drives it, against a simulated bench on a socket."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import textwrap
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QComboBox
from pytestqt.qtbot import QtBot

from bench.benches import address, console_address, serve  # noqa: F401 - a fixture
from ui.driving import LEFT, drag, type_into
from warm_ember.bench.console_line import ConsoleLine
from warm_ember.bench.zero import STAGES, Level
from warm_ember.model.bench import (
    Attached,
    LinePattern,
    SecondGives,
    SecondInstrument,
    Send,
    Take,
    TriggerSource,
)
from warm_ember.model.figure import Grade
from warm_ember.store.project_folder import ProjectFolder
from warm_ember.ui.look.rich_text import plain
from warm_ember.ui.look.theme import DAY
from warm_ember.ui.pages.bench.page import BenchPage
from warm_ember.ui.pages.bench.wiring_panel import KNOWN_PARTS
from warm_ember.ui.shell.window import MainWindow


@pytest.fixture
def page(window: MainWindow) -> Iterator[BenchPage]:
    window.show_page("Bench")
    with ExitStack() as stack:
        stack.callback(window.pages.bench.bench_controller.close)
        yield window.pages.bench


def connect(page: BenchPage, server, qtbot: QtBot) -> None:
    """Type the addresses of instrument and console, as a user does."""
    type_into(qtbot, page.recipe.resource, address(server))
    type_into(qtbot, page.console.address, console_address(server))
    assert page.controller.project.bench.resource == address(server)
    assert page.bench_controller.console is not None


def ended(page: BenchPage) -> bool:
    return not page.bench_controller.is_recording and not page.controller.jobs.is_busy


def test_recording_is_seen_as_it_comes_and_becomes_the_run(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    server = serve("r5", speed=5.0, report_at_s=6.0)
    connect(page, server, qtbot)
    type_into(qtbot, page.recipe.settings["duration_s"], "15 s")
    runs = len(page.controller.project.runs)
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: page._live is not None and page._live.capture.duration_s > 8.0, timeout=30_000)
    assert page.strip.key.text() == "Stop recording"
    assert not page.recipe.fields.isEnabled()
    page.show_frame()
    assert "Recording" in plain(page.sentence())
    assert "recording" in page.link().detail
    assert (
        plain(window.navigation.links["Trace"].shown.detail) == "run 4: divider off"
    )  # the others stay on the last run
    assert page.stack.results is page._live
    assert "Deep sleep" in page._live.placement.names
    assert page.stack.current.value_at(page.window_on_time.to_s - 0.1) > 0
    qtbot.waitUntil(lambda: ended(page), timeout=60_000)
    settle()
    assert len(page.controller.project.runs) == runs + 1
    results = window.controller.results
    assert results.capture.current.samples == 150_000
    assert results.whole.coverage == 1.0
    assert results.ledger.row("Transmit").charge_c == pytest.approx(0.127 * 8.9, rel=0.1)
    assert results.capture.info.target == "trail counter post"
    assert not server.instrument.is_on
    assert "state Deep sleep" in page.console.lines.toPlainText()


def second(page: BenchPage, server, gives: SecondGives, qtbot: QtBot) -> None:
    field = page.recipe.second
    assert field.gives.isHidden()
    type_into(qtbot, field.resource, address(server))
    field.gives.setCurrentIndex(field.gives.findData(gives))
    field.gives.activated.emit(field.gives.currentIndex())
    assert page.controller.project.bench.second == SecondInstrument(address(server), gives)
    assert not field.gives.isHidden()


def test_a_second_instrument_s_current_is_seen_beside_the_first(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    other = serve("r3")
    for message in ("VOLT 3", "CURR:LIM 1", "OUTP ON"):
        other.instrument.run(message)  # that board has its own supply
    connect(page, serve("r5"), qtbot)
    second(page, other, SecondGives.CURRENT, qtbot)
    type_into(qtbot, page.recipe.settings["duration_s"], "2 s")
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: page._live is not None and page._live.capture.duration_s > 0.5, timeout=30_000)
    page.show_frame()
    assert [lane.name for lane in page.stack.aux] == ["another current"]
    qtbot.waitUntil(lambda: ended(page), timeout=60_000)
    settle()
    capture = window.controller.results.capture
    beside, unit = capture.aux["another current"]
    assert unit == "A"
    assert float(np.nanmin(beside.read(1000, beside.samples))) > 5e-4  # the leak of that firmware
    # Both wake each second, and have nothing to do with each other.
    assert "another current of Warm Ember,Simulated bench,0,1 laid on by when they began" in capture.info.note


def test_two_boards_become_two_runs(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    one, other = serve("r5"), serve("r3")
    connect(page, one, qtbot)
    second(page, other, SecondGives.BOARD, qtbot)
    type_into(qtbot, page.recipe.settings["duration_s"], "1 s")
    runs = len(page.controller.project.runs)
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: ended(page), timeout=60_000)
    settle()
    new = page.controller.project.runs[runs:]
    assert len(new) == 2
    assert new[0].name == f"{new[1].name} other board"
    assert window.controller.results.run.name == new[1].name
    assert not one.instrument.is_on
    assert not other.instrument.is_on


def test_one_key_records_and_stops_and_the_moment_is_marked(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    assert page.recipe.mark.isHidden()
    connect(page, serve("r5"), qtbot)
    type_into(qtbot, page.recipe.settings["duration_s"], "0")
    assert page.controller.project.bench.settings.duration_s is None
    window.setFocus()
    qtbot.keyClick(window, Qt.Key.Key_F9)
    qtbot.waitUntil(lambda: page._live is not None and page._live.capture.duration_s > 0.4, timeout=30_000)
    qtbot.mouseClick(page.recipe.mark, LEFT)
    qtbot.keyClick(window, Qt.Key.Key_F9)
    qtbot.waitUntil(lambda: ended(page), timeout=30_000)
    settle()
    assert [event.event for event in window.controller.results.capture.events].count("mark") == 1
    assert page.strip.key.text() == "Record"


def test_what_prints_lines_is_recorded_from_its_address(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    server = serve("r5")
    for message in ("VOLT 3", "CURR:LIM 1", "OUTP ON"):
        server.instrument.run(message)
    type_into(qtbot, page.recipe.resource, f"socket://127.0.0.1:{server.print_lines(100)}")
    assert page.recipe.beside["interval_s"].text() == "as its lines come"
    assert page.recipe.beside["duration_s"].text() == ""  # how many there will be nobody knows
    assert page.strip.figures.size_words == "–"
    assert page.link().detail.startswith("as its lines come")
    type_into(qtbot, page.recipe.settings["duration_s"], "1 s")
    runs = len(page.controller.project.runs)
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: ended(page) and len(page.controller.project.runs) > runs, timeout=60_000)
    settle()
    capture = window.controller.results.capture
    assert (capture.current.samples, capture.current.interval_s) == (100, 0.01)
    assert len(capture.readings.time_s) >= 100
    assert "lines read as any board that prints a time and a current" in window.messages.words.text()


def test_a_fault_is_told_and_what_came_stays(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    server = serve("r5")
    connect(page, server, qtbot)
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: page._live is not None and page._live.capture.duration_s > 0.3, timeout=30_000)
    server.instrument.run("ABORt")
    qtbot.waitUntil(lambda: ended(page), timeout=30_000)
    settle()
    assert "does not go with how it is set" in window.messages.words.text()
    assert "is kept" in window.messages.words.text()
    assert window.controller.results.capture.current.samples > 1000
    assert not server.instrument.is_on


def test_nothing_is_switched_on_above_the_guard(page, window, qtbot: QtBot, serve) -> None:  # noqa: F811
    server = serve("r5")
    connect(page, server, qtbot)
    type_into(qtbot, page.recipe.settings["voltage_v"], "4.5 V")
    qtbot.mouseClick(page.strip.key, LEFT)
    assert not page.bench_controller.is_recording
    assert "above the guard" in window.messages.words.text()
    assert server.instrument.run("VOLT?") == b"0.000000E+00\n"


def test_the_wiring_is_drawn_and_typed_where_it_hangs(page, window, qtbot: QtBot) -> None:
    assert "The set-up adds 1.34 µA" in plain(page.sentence())
    meter = next(part for part in KNOWN_PARTS if part.name == "Meter")
    page.wiring.hang(meter)
    card = page.wiring.attached[-1]
    qtbot.mouseClick(card.subtracted, LEFT, pos=QPoint(8, card.subtracted.height() // 2))
    assert page.controller.project.bench.attached[-1].subtracted
    type_into(qtbot, page.wiring.attached[-1].value, "1M")
    assert page.controller.project.bench.attached[-1].ohm == pytest.approx(1e6)
    assert page.controller.project.bench.attached[-1].grade is Grade.ENTERED
    assert "4.34 µA" in plain(page.sentence())
    page._subtract("none")
    assert not any(one.subtracted for one in page.controller.project.bench.attached)
    assert "floor" in page.warning()
    assert window.navigation.links["Bench"].shown.doubt
    qtbot.mouseClick(page.wiring.attached[-1].remove, LEFT)
    assert meter.name not in {one.name for one in page.controller.project.bench.attached}
    type_into(qtbot, page.wiring.ohm, "0.24")
    assert page.controller.project.bench.burden_ohm == pytest.approx(0.24)
    assert "mV" in page.wiring.burden.detail.text()
    window.controller.undo()
    assert page.controller.project.bench.burden_ohm is None


def test_what_lines_mean_is_edited_in_a_table(page, qtbot: QtBot) -> None:
    console = page.console
    qtbot.mouseClick(console.what, LEFT)
    before = page.controller.project.bench.patterns
    console.add_pattern()
    row = console.table.rowCount() - 1
    for column, text in enumerate(("(", "state", r"\1")):
        if console.table.item(row, column) is None:
            console.table.setItem(row, column, type(console.table.item(0, 0))(""))
        console.table.item(row, column).setText(text)
    assert "can be used" in console.problem.text()
    assert page.controller.project.bench.patterns == before
    console.table.item(row, 0).setText("^cnt ([0-9]+)")
    assert page.controller.project.bench.patterns[-1] == LinePattern("^cnt ([0-9]+)", "state", r"\1")
    console.add_line(ConsoleLine(0.0, "cnt 136"))
    console.add_line(ConsoleLine(0.0, "<b>tail 20 s</b>", sent=True))
    assert "▌ cnt 136" in console.lines.toPlainText().replace("\xa0", " ")
    assert "▸ <b>tail 20 s</b>" in console.lines.toPlainText()


def test_what_is_typed_goes_to_the_target(page, window, qtbot: QtBot, serve) -> None:  # noqa: F811
    page.console.field.setText("lost words")
    qtbot.keyClick(page.console.field, Qt.Key.Key_Return)
    assert "No console is open" in window.messages.words.text()
    server = serve("r5")
    connect(page, server, qtbot)
    server.instrument.run("VOLT 3")
    server.instrument.run("OUTP ON")
    page.console.field.setText("tail?")
    qtbot.keyClick(page.console.field, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: "tail 16 s" in page.console.lines.toPlainText(), timeout=5000)
    window.look.set_theme(DAY)
    assert "tail 16 s" in page.console.lines.toPlainText()


def test_a_recipe_is_written_as_lines_and_kept(page, window, qtbot: QtBot) -> None:
    recipe = page.recipe
    recipe.steps.setPlainText("power on\ndance")
    assert "is no step" in recipe.steps_problem.text()
    qtbot.mouseClick(page.strip.key, LEFT)
    assert not page.bench_controller.is_recording
    recipe.steps.setPlainText("power on\nsend “version”\nrecord 10 s as boot")
    recipe.save_as("boot")
    kept = page.controller.project.bench.recipe("boot")
    assert kept.steps[1:] == (Send("version"), Take(10.0, "boot"))
    type_into(qtbot, recipe.settings["interval_s"], "1 ms")
    recipe.choose("boot")
    assert page.controller.project.bench.settings.interval_s == 1e-4
    recipe.choose("power on, record")
    assert recipe.recipe_name == ""
    window.controller.save()
    assert ProjectFolder(window.controller.session.folder.path).load().bench.recipe("boot") == kept


def test_a_trigger_shows_what_it_needs(page, qtbot: QtBot) -> None:
    recipe = page.recipe
    assert not recipe.level.isVisible()
    choose(recipe.starts, "at a level")
    assert recipe.level.isVisible()
    assert recipe.before.isVisible()
    assert not recipe.line.isVisible()
    type_into(qtbot, recipe.level, "2 mA")
    assert page.controller.project.bench.settings.trigger.level_a == pytest.approx(2e-3)
    assert page.controller.project.bench.settings.trigger.source is TriggerSource.LEVEL


def choose(box: QComboBox, text: str) -> None:
    box.setCurrentText(text)
    box.activated.emit(box.currentIndex())


def test_a_plan_says_what_stays_unseen_and_is_taken(page, qtbot: QtBot) -> None:
    page.show_view("plan")
    plan = page.plan
    assert plan.expectation.peak_a == pytest.approx(page.results.whole.max_a)  # of the run that is open
    type_into(qtbot, plan.fields["shunt_ohm"], "10")
    assert "may reset" in plan.unseen.text()
    type_into(qtbot, plan.fields["shortest_s"], "5 ms")
    qtbot.mouseClick(plan.take, LEFT)
    assert page.controller.project.bench.settings.interval_s == pytest.approx(5e-4)
    assert page.view == "record"
    page.show_view("plan")
    type_into(qtbot, plan.fields["floor_a"], "3 A")
    assert "cannot be planned" in plan.unseen.text()
    assert not plan.take.isEnabled()


def test_the_guided_zero_sets_offset_and_baseline(page, window, qtbot: QtBot, settle, serve) -> None:  # noqa: F811
    server = serve("r5", speed=20.0)
    connect(page, server, qtbot)
    page.show_view("zero")
    zero = page.zero
    qtbot.mouseClick(zero.keys[STAGES[0].name], LEFT)
    settle()
    assert zero.results[STAGES[0].name].text() == "not steady"  # the target hangs there and works
    assert page.controller.project.bench.zero is None
    server.instrument.run("ROUT:OPEN (@5)")
    server.instrument.run("ROUT:CLOS (@2)")
    for stage, bridge in ((STAGES[0], "OPEN"), (STAGES[1], "CLOS")):
        server.instrument.run(f"ROUT:{bridge} (@2)")
        qtbot.mouseClick(zero.keys[stage.name], LEFT)
        settle()
    found = page.controller.project.bench.zero
    assert found.offset_a == pytest.approx(2e-8, abs=1e-8)
    assert found.load_a == pytest.approx(310e-6, rel=0.02)
    qtbot.mouseClick(zero.subtract_load, LEFT)
    load = page.controller.project.bench.attached[-1]
    assert (load.grade, load.subtracted) == (Grade.MEASURED, True)
    assert load.current_a == pytest.approx(310e-6, rel=0.02)
    zero.new_check.setText("leads twisted")
    qtbot.keyClick(zero.new_check, Qt.Key.Key_Return)
    assert page.controller.project.bench.checks[-1].text == "leads twisted"
    zero.take_level(STAGES[2].name, Level(2e-8, 1e-9))
    assert "unplugged tools" in zero.outcome.text()


def test_a_stretch_of_the_recording_is_read(page, window, qtbot: QtBot) -> None:
    lane = page.stack.current
    drag(qtbot, lane, lane.x_of(20.0), lane.x_of(50.0), Qt.KeyboardModifier.AltModifier)
    assert "on average" in window.messages.words.text()


KILLED = """
    import sys
    from pathlib import Path
    import numpy as np
    from warm_ember.model.capture import CaptureInfo
    from warm_ember.store.recording_file import RecordingFile
    recording = RecordingFile(Path(sys.argv[1]), CaptureInfo(1e-4, supply_v=3.0))
    recording.append(np.full(50_000, 1e-5, np.float32))
    recording.flush()
    print("written", flush=True)
    sys.stdin.read()
"""


def test_an_interrupted_recording_is_offered_and_recovered(
    empty_window: MainWindow, demo_copy: Path, qtbot: QtBot, settle
) -> None:
    path = demo_copy / "captures" / "night.h5"
    writer = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(KILLED), str(path)], stdout=subprocess.PIPE, stdin=subprocess.PIPE,
        env=os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)},
    )  # fmt: skip
    assert writer.stdout is not None
    assert writer.stdout.readline() == b"written\n"
    writer.send_signal(signal.SIGKILL)
    writer.communicate()
    assert empty_window.controller.open(demo_copy)
    settle()
    page = empty_window.pages.bench
    empty_window.show_page("Bench")
    assert page.recovery.isVisible()
    assert "night" in page.recovery_words.text()
    qtbot.mouseClick(page.recover_key, LEFT)
    settle()
    assert empty_window.controller.results.run.name == "night"
    assert empty_window.controller.results.capture.current.samples == 50_000
    assert not page.recovery.isVisible()


def test_closing_the_window_keeps_the_recording(
    empty_window: MainWindow,
    demo_copy: Path,
    qtbot: QtBot,
    settle,
    serve,  # noqa: F811
) -> None:
    empty_window.controller.open(demo_copy)
    settle()
    page = empty_window.pages.bench
    empty_window.show_page("Bench")
    server = serve("r5")
    connect(page, server, qtbot)
    before = {run.name for run in empty_window.controller.project.runs}
    qtbot.mouseClick(page.strip.key, LEFT)
    qtbot.waitUntil(lambda: page._live is not None and page._live.capture.duration_s > 0.3, timeout=30_000)
    empty_window.close()
    (new,) = {run.name for run in ProjectFolder(demo_copy).load().runs} - before
    assert (demo_copy / "captures" / f"{new}.h5").exists()
    assert not server.instrument.is_on


def test_with_no_project_the_page_says_so(empty_window: MainWindow, qtbot: QtBot) -> None:
    empty_window.show_page("Bench")
    qtbot.mouseClick(empty_window.pages.bench.strip.key, LEFT)
    assert "Open a project first" in empty_window.messages.words.text()
    assert empty_window.pages.bench.controller.project.bench.attached == ()


def test_long_names_stay_inside(page, qtbot: QtBot) -> None:
    page.wiring.hang(Attached("A debug probe with a very long name " * 3, 1e-6, detail="with much to say " * 6))
    card = page.wiring.attached[-1]
    qtbot.waitUntil(lambda: card.geometry().right() <= page.wiring.drawing.width(), timeout=5000)
    assert page.wiring.width() == page.look.px(300)
