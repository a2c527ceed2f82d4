"""The Bench page: the wiring, the recording as it comes, the console and the recipe."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QEvent, QObject, Qt, QTimer
from PySide6.QtGui import QAction, QResizeEvent
from PySide6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import BadArgumentError, WarmEmberError
from warm_ember.session.bench_setup import added_by, name_of, read_live, room_beside
from warm_ember.session.live import LiveRun
from warm_ember.session.pace import pace_text, prints_by_itself, size_text
from warm_ember.session.page_links import LinkFigure, QuietestState, bench_doubt, bench_link, quietest_state
from warm_ember.session.recording_progress import progress_of
from warm_ember.session.recovering import (
    Recovered,
    adopt_recovered,
    discard_recording,
    interrupted_recordings,
    recover_file,
)
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Missing, Page
from warm_ember.ui.pages.bench.console_panel import ConsolePanel
from warm_ember.ui.pages.bench.controller import BenchController
from warm_ember.ui.pages.bench.instrument_sheet import InstrumentSheet
from warm_ember.ui.pages.bench.measurement_plan_view import PlanView
from warm_ember.ui.pages.bench.recipe_panel import RecipePanel
from warm_ember.ui.pages.bench.record_strip import RecordStrip
from warm_ember.ui.pages.bench.wiring_panel import WiringPanel
from warm_ember.ui.pages.bench.zero_view import ZeroView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack
from warm_ember.units import duration_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import PlannedCapture


_FRAME_MS = 33
_SPAN_S = 30.0
_FIGURES_S = 0.25
_NOW_S = 0.5
_SIDE = 300
_ROOMY = 1000


class BenchPage(Page):
    """Set up, doubt the set-up, record."""

    title = "Bench"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.bench_controller = BenchController(controller)
        self.results: RunResults | None = None
        self._quietest: QuietestState | None = None
        self._live: LiveRun | None = None
        self._follows = True
        self._is_narrow = False
        self._figures_shown_s = 0.0
        self._doing = ""
        self._interrupted: tuple[Path, ...] = ()
        self.window_on_time = TimeWindow(self)
        self._build()
        self._connect()
        self._make_actions()
        self._frames = QTimer(self)
        self._frames.setInterval(_FRAME_MS)
        self._frames.timeout.connect(self.show_frame)
        self._on_session()

    def _build(self) -> None:
        look = self.look
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        self.wiring = WiringPanel(look)
        row.addWidget(self.wiring)
        self.stack = LaneStack(look, self.window_on_time, with_flags=False, folded=("Power",))
        self.stack.current.copies_itself = True
        self.strip = RecordStrip(look)
        live = QWidget()
        column = QVBoxLayout(live)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self._build_recovery(column)
        column.addWidget(self.stack, 1)
        column.addWidget(self.strip)
        self.plan, self.zero = PlanView(look), ZeroView(look)
        self.views: dict[str, QWidget] = {
            "record": live,
            "plan": _scrolled(self.plan),
            "zero": _scrolled(self.zero),
        }
        self._stacked = ViewStack()
        for view in self.views.values():
            self._stacked.addWidget(view)
        row.addWidget(self._stacked, 1)
        self.console, self.recipe = ConsolePanel(look), RecipePanel(look)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self.console)
        right.addWidget(self.recipe)
        right.setStretchFactor(0, 4)
        right.setStretchFactor(1, 5)
        right.setChildrenCollapsible(False)
        self._right = right
        row.addWidget(right)
        self._fit_sides()

    def _build_recovery(self, column: QVBoxLayout) -> None:
        self.recovery = QWidget()
        self.recovery.setObjectName("panel")
        row = QHBoxLayout(self.recovery)
        self.recovery_words = Label()
        self.recovery_words.setWordWrap(True)
        row.addWidget(self.recovery_words, 1)
        self.recover_key = QPushButton("Recover")
        self.recover_key.clicked.connect(lambda: self.recover())
        self.discard_key = QPushButton("Discard")
        self.discard_key.clicked.connect(lambda: self.discard_interrupted())
        for key in (self.recover_key, self.discard_key):
            row.addWidget(key)
        column.addWidget(self.recovery)
        self.recovery.hide()

    def _connect(self) -> None:
        controller, bench = self.controller, self.bench_controller
        for panel in (self.wiring, self.recipe, self.zero):
            panel.changed.connect(self._on_edit)
        self.recipe.find_asked.connect(bench.find)
        self.recipe.simulated_asked.connect(bench.use_simulated)
        self.recipe.describe_asked.connect(self.describe_instrument)
        self.recipe.marked.connect(bench.mark)
        self.strip.key.clicked.connect(self.record_or_stop)
        self.console.sent.connect(bench.send)
        self.console.address_entered.connect(bench.open_console)
        self.console.patterns_entered.connect(lambda patterns: bench.change("what lines mean", patterns=patterns))
        self.plan.taken.connect(self._take_plan)
        self.zero.stage_asked.connect(bench.read_zero)
        bench.zeroed.connect(self._on_zeroed)
        bench.line_came.connect(self.console.add_line)
        bench.said.connect(self._on_said)
        bench.changed.connect(self._on_bench_changed)
        controller.project_changed.connect(self.show_bench)
        controller.session_changed.connect(self._on_session)
        self.stack.current.bracket_drawn.connect(self._read_stretch)
        self.stack.installEventFilter(self)
        for lane in self.stack.lanes:
            lane.installEventFilter(self)
        self.look.changed.connect(self._on_look)

    def _fit(self) -> None:
        """Where there is no room for three columns, keep the one at the side that goes with the view."""
        narrow, records = self.width() < self.look.px(_ROOMY), self.view == "record"
        if narrow != self._is_narrow:
            self._is_narrow = narrow
            for lane in ("Voltage", "Charge so far"):
                self.stack.set_folded(lane, narrow)
        self.wiring.setVisible(not narrow or not records)
        self._right.setVisible(not narrow or records)

    def _fit_sides(self) -> None:
        self.wiring.setFixedWidth(self.look.px(_SIDE))
        self._right.setFixedWidth(max(self.look.px(_SIDE), self.recipe.least_width))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _on_look(self) -> None:
        self._fit()
        self._fit_sides()
        console = self.bench_controller.console
        self.console.show_lines(list(console.lines) if console is not None else [])

    def _make_actions(self) -> None:
        self._actions = []
        for text, keys, slot in (
            ("Mark this moment", "M", self.bench_controller.mark),
            ("Follow the recording", "End", self.follow),
            ("Find instruments", "Ctrl+F", self.bench_controller.find),
            ("Type to the target", "Ctrl+K", self.console.focus_field),
            ("Save as recipe", "Ctrl+Shift+R", self.recipe.ask_name),
            ("Record view", "R", partial(self.show_view, "record")),
            ("Plan a capture", "P", partial(self.show_view, "plan")),
            ("Set zero", "Z", partial(self.show_view, "zero")),
        ):
            action: Callable[[], object] = slot
            self._actions.append(self.make_action(text, keys, action))

    def missing(self) -> Missing | None:
        return None  # it is where a capture comes from

    def page_actions(self) -> list[QAction]:
        return self._actions

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Stop following the recording as soon as the reader moves through it."""
        kinds = (QEvent.Type.Wheel, QEvent.Type.MouseButtonPress, QEvent.Type.KeyPress)
        if self._live is not None and event.type() in kinds:
            self._follows = False
        return super().eventFilter(watched, event)

    def follow(self) -> None:
        """Show the newest part of the recording, and go on doing so."""
        self._follows = True

    @property
    def view(self) -> str:
        """The view that is open."""
        return next(name for name, widget in self.views.items() if widget is self._stacked.currentWidget())

    def show_view(self, name: str) -> None:
        """Open a view of the page."""
        self._stacked.setCurrentWidget(self.views[name])
        self._fit()
        self.header_changed.emit()

    def take_focus(self) -> None:
        self.stack.current.setFocus()

    def _on_edit(self, what: str, fields: dict[str, object]) -> None:
        self.bench_controller.change(what, **fields)

    def record_or_stop(self) -> None:
        """Start recording by the recipe, or stop."""
        if self.bench_controller.is_recording:
            self.bench_controller.stop()
            return
        if self.controller.session is None:
            self.controller.troubled.emit("Open a project first, or begin one with Ctrl+N.")
            return
        try:
            recipe = self.recipe.recipe()
        except BadArgumentError as error:
            self.controller.troubled.emit(error.one_line)
            return
        self.show_view("record")
        self._follows, self._doing = True, ""
        self.bench_controller.start(recipe=recipe)

    def _take_plan(self, planned: PlannedCapture) -> None:
        self.bench_controller.change_settings(
            "settings from the plan",
            interval_s=planned.interval_s,
            duration_s=planned.duration_s,
            range_a=planned.range_a,
        )
        self.show_view("record")

    def _on_zeroed(self, name: str, level: object) -> None:
        self.zero.take_level(name, level)  # type: ignore[arg-type]
        self.header_changed.emit()

    def _on_said(self, words: str) -> None:
        self._doing = words
        self._show_strip()

    def _on_session(self) -> None:
        self.bench_controller.close_console()
        self.console.lines.clear()
        self.zero.levels.clear()
        session = self.controller.session
        self._interrupted = interrupted_recordings(session) if session is not None else ()
        self._show_recovery()
        if session is not None:
            voltage_v = session.project.bench.settings.voltage_v
            if voltage_v:
                self.plan.expectation = msgspec.structs.replace(self.plan.expectation, supply_v=voltage_v)
            self.plan.refresh()

    def _show_recovery(self) -> None:
        self.recovery.setVisible(bool(self._interrupted))
        if self._interrupted:
            name = name_of(self._interrupted[0])
            more = f", and {len(self._interrupted) - 1} more" if len(self._interrupted) > 1 else ""
            self.recovery_words.setText(f"“{name}” was being recorded when the program ended{more}.")
            self.controller.noted.emit(
                f"“{name}” was being recorded when the program ended: recover it on the Bench page."
            )

    def recover(self) -> None:
        """Make a run of the first interrupted recording."""
        session = self.controller.session
        if session is None or not self._interrupted:
            return
        partial_file = self._interrupted[0]

        def done(recovered: Recovered) -> None:
            try:
                adopt_recovered(session, recovered)
            except WarmEmberError as error:
                self.controller.troubled.emit(error.one_line)
            (self.controller.troubled if recovered.problem else self.controller.noted).emit(
                recovered.sentence[:1].upper() + recovered.sentence[1:] + "."
            )
            self._interrupted = interrupted_recordings(session)
            self._show_recovery()
            self.controller.show_new_run()

        self.controller.work(
            "recover", "recovering a recording", lambda _s, _p: recover_file(session, partial_file), done
        )

    def discard_interrupted(self) -> None:
        """Throw the first interrupted recording away."""
        session = self.controller.session
        if session is None or not self._interrupted:
            return
        try:
            discard_recording(session, name_of(self._interrupted[0]))
        except WarmEmberError as error:
            self.controller.troubled.emit(error.one_line)
        self._interrupted = interrupted_recordings(session)
        self._show_recovery()

    def _on_bench_changed(self) -> None:
        recording = self.bench_controller.is_recording
        if recording and not self._frames.isActive():
            self._frames.start()
        elif not recording:
            self._frames.stop()
            self._doing = ""
            if self._live is not None:
                self._live = None
                self._show_idle()
        self.recipe.set_locked(recording)
        self.show_bench()
        self._show_strip()

    def show_frame(self) -> None:
        """Show the recording as it is now."""
        live = self.bench_controller.live_run()
        if live is not None and live is not self._live:
            self._live = live
            capture = live.capture
            self.stack.set_results(live)
            self.window_on_time.set_capture(capture.duration_s, capture.current.interval_s, capture.info.start_utc)
        if self._live is not None and live is self._live:
            self._live.follow()
            span_s = _SPAN_S if self._follows else None
            if self.isVisible():
                self.window_on_time.grow(self._live.capture.duration_s, span_s)
        now_s = time.monotonic()
        if now_s - self._figures_shown_s > _FIGURES_S:
            self._figures_shown_s = now_s
            latest = self._live.latest(_NOW_S) if self._live is not None else None
            self.wiring.show_now(latest.mean_a if latest is not None else None)
            self._show_strip()
            self.header_changed.emit()

    def _show_strip(self) -> None:
        session = self.controller.session
        folder = session.folder.captures if session is not None else None
        recording = self.bench_controller.is_recording
        settings = self.controller.project.bench.settings
        length = f"{duration_text(settings.duration_s)}" if settings.duration_s is not None else "until it is stopped"
        bench, known = self.controller.project.bench, self.bench_controller.description
        rate = pace_text(bench, known, rich=True)
        rate = rate if prints_by_itself(bench) else f"at {rate}"
        self.strip.figures.size_words = size_text(bench, known, rich=True)
        self.strip.figures.idle = f"Records {length} {rate}" if session is not None else "no project"
        recorder = self.bench_controller.recorder
        progress = progress_of(recorder, folder) if recorder is not None and folder is not None else None
        room_bytes = room_beside(folder) if folder is not None else None
        self.strip.show_progress(progress, room_bytes, recording=recording, doing=self._doing)

    def _show_idle(self) -> None:
        """Show the run that is open while nothing is recorded."""
        results = self.results
        self.stack.set_results(results)
        if results is not None:
            capture = results.capture
            self.window_on_time.set_capture(capture.duration_s, capture.current.interval_s, capture.info.start_utc)

    def show_results(self, results: RunResults | None) -> None:
        before, self.results = self.results, results
        self._quietest = quietest_state(results)
        if self._live is None and (results is None or before is None or before.capture is not results.capture):
            self._show_idle()
        self.show_bench()

    def describe_instrument(self) -> None:
        """Open the sheet on which the instrument that is there is described, and tried."""
        bench = self.bench_controller
        bench.look_up()
        identity = next((one.identity for one in bench.found if one.resource == bench.bench.resource), "")
        sheet = InstrumentSheet(self, self.look, self.controller, bench.description, identity)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.saved.connect(self.show_bench)
        sheet.open()

    def show_bench(self) -> None:
        """Show the bench of the project."""
        bench = self.controller.project.bench
        self.bench_controller.look_up()
        known = self.bench_controller.description
        burden_ohm = known.burden_ohm if known is not None else None
        peak_a = self.results.whole.max_a if self.results is not None and self.results.whole.max_a else 0.1
        self.wiring.show_bench(bench, peak_a=peak_a, quietest=self._quietest, burden_ohm=burden_ohm)
        means = dict(self.results.state_means) if self.results is not None else {}
        self.console.show_bench(bench.console, bench.patterns, means)
        identity = next((one.identity for one in self.bench_controller.found if one.resource == bench.resource), "")
        self.recipe.show_bench(bench, known, identity)
        self.zero.show_bench(bench)
        if self._quietest is not None:
            self.plan.expect(self._quietest.mean_a, peak_a)
        self.plan.show_known(known)
        self._show_strip()
        self.header_changed.emit()

    def _read_stretch(self, from_s: float, to_s: float) -> None:
        """Return what a stretch of the recording reads."""
        shown = self.stack.results
        if shown is None:
            return
        reading = read_live(shown.capture.current, from_s, to_s)
        words = f"{duration_text(reading.length_s)}: {quantity_text(reading.mean_a, 'A')} on average"
        self.controller.noted.emit(
            f"{words}, {quantity_text(reading.charge_c, 'C')}, {quantity_text(reading.max_a, 'A')} at most"
        )

    def sentence(self) -> str:
        if self.view == "plan":
            return self.plan.sentence()
        if self.view == "zero":
            return self.zero.sentence()
        if self._live is not None:
            reading = self._live.reading()
            if reading is not None and reading.mean_a is not None:
                mean, peak = (quantity_text(value, "A").rich for value in (reading.mean_a, reading.max_a))
                charge = quantity_text(reading.charge_c, "C").rich
                return f"Recording {self._live.file.path.stem}: {mean} on average, {peak} at most, {charge} so far."
        if self.bench_controller.is_recording:
            return f"Getting ready: {self._doing or 'opening the instrument'}."
        return self._set_up_sentence()

    def _set_up_sentence(self) -> str:
        bench = self.controller.project.bench
        added = added_by(bench)
        if not added.added_a:
            return "No other load on the rail is entered."
        stays = quantity_text(added.stays_a, "A").rich if added.stays_a else "**nothing**"
        subtracted = quantity_text(added.subtracted_a, "A").rich if added.subtracted_a else "**nothing**"
        text = f"The set-up adds {quantity_text(added.added_a, 'A').rich}, {subtracted} is subtracted: {stays} stays"
        share = added.share_of(self._quietest.mean_a) if self._quietest else None
        if share and self._quietest:
            text += f", **{100 * share:.2g}** % of {self._quietest.name}"
        return text + "."

    def warning(self) -> str:
        bench = self.controller.project.bench
        recorder = self.bench_controller.recorder
        if recorder is not None and recorder.missing:
            return f"**{recorder.missing}** samples lost"
        return bench_doubt(bench, self._quietest)

    def switches(self) -> tuple[Switch, ...]:
        views = Switch("View", tuple(self.views), self.view, self.show_view)
        bench = self.controller.project.bench
        present = [one for one in bench.attached if one.present]
        if not present or self.bench_controller.is_recording:
            return (views,)
        subtracted = [one for one in present if one.subtracted]
        chosen = "none" if not subtracted else "all known" if len(subtracted) == len(present) else "some"
        options = ("all known", "none") if chosen != "some" else ("all known", "some", "none")
        return (Switch("Subtract", options, chosen, self._subtract), views)

    def _subtract(self, option: str) -> None:
        if option == "some":
            return
        attached = tuple(
            msgspec.structs.replace(one, subtracted=one.present and option == "all known")
            for one in self.controller.project.bench.attached
        )
        self.bench_controller.change(f"subtract {option}", attached=attached)

    def link(self) -> LinkFigure:
        bench = self.controller.project.bench
        recorder = self.bench_controller.recorder
        if self.bench_controller.is_recording:
            done_s = recorder.samples * recorder.job.settings.interval_s if recorder is not None else 0.0
            name = recorder.job.path.stem if recorder is not None else ""
            return LinkFigure(duration_text(done_s).rich, f"recording {name}", self.warning().replace("**", ""))
        known = self.bench_controller.description
        return bench_link(bench, known, self.warning())


def _scrolled(view: QWidget) -> QScrollArea:
    """Return a view that scrolls where text is large and the window is not."""
    area = QScrollArea()
    area.setWidgetResizable(True)
    area.setWidget(view)
    area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    return area
