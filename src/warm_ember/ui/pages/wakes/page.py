"""The Wakes page: who woke the device, what it cost, and whether it was worth it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember.model.figure import Figure
from warm_ember.model.kinds import UNSORTED
from warm_ember.model.wake_plan import WakePlan
from warm_ember.model.wakes import SleepMode
from warm_ember.session import edits, wake_edits
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.kind_words import kinds_sentence
from warm_ember.session.page_links import LinkFigure, wakes_doubt, wakes_link
from warm_ember.session.run_results import RunResults
from warm_ember.session.wake_results import WakesShown
from warm_ember.session.wake_words import plan_sentence, wakes_sentence
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.pages.wakes.kind_editing import KindEditing
from warm_ember.ui.pages.wakes.kinds_view import KindsView
from warm_ember.ui.pages.wakes.modes_view import ModesView
from warm_ember.ui.pages.wakes.raster_lane import CHARGE, LENGTH, UNKNOWN_LETTER, RasterLane
from warm_ember.ui.pages.wakes.slack_strip import SlackStrip
from warm_ember.ui.pages.wakes.sleep_depth_map import DepthMap
from warm_ember.ui.pages.wakes.source_editing import SourceEditing
from warm_ember.ui.pages.wakes.source_table import SourceTable
from warm_ember.ui.pages.wakes.wake_plan_view import UNPLANNED, WakePlanView
from warm_ember.ui.pages.wakes.wake_rate_chart import OverTime
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack

if TYPE_CHECKING:
    from warm_ember.session.records import Saving, WakeLedger


_KINDS, _SOURCES, _MODES, _PLAN, _OVER_TIME = "kinds", "sources", "modes", "plan", "over time"
_DEPTH_WIDTH, _LEAST_TABLE = 408, 120
_ALL, _MOST_CPUS = "all", 8
_LANE = 96
_AROUND = 1.5
_MATTERS = 0.01


class WakesPage(Page):
    """Wakes, their sources, and the sleep between them.

    Signals
    -------
    activity_asked
        The name of a source whose wakes shall be an activity of the battery's.
    """

    title = "Wakes"
    activity_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self.found: WakesShown | None = None
        self.chosen = ""
        self.cpu: int | None = None
        self._window, self._was_shown = window, False
        self.raster = RasterLane(look, window)
        folded = ("States", "Lines", "Charge so far", "Voltage", "Power")
        self.stack = LaneStack(look, window, with_flags=False, above=(self.raster,), folded=folded)
        self.stack.current.setMinimumHeight(look.px(_LANE))
        self.sources, self.depth_map, self.slack = SourceTable(look), DepthMap(look), SlackStrip(look)
        self.modes, self.plan, self.over_time = ModesView(look), WakePlanView(look), OverTime(look)
        self.kinds = KindsView(look)
        self.kind_editing = KindEditing(controller, self.kinds)
        self.source_editing = SourceEditing(controller, self.sources)
        self._build()
        self._connect()
        self._actions = self._make_actions()

    def _build(self) -> None:
        left = QWidget()
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        sources = self._scrolled(self.sources)
        sources.setMinimumHeight(self.look.px(_LEAST_TABLE))
        column.addWidget(sources, 1)
        column.addWidget(self.slack)
        self._main = QWidget()
        row = QHBoxLayout(self._main)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(left, 1)
        row.addWidget(self.depth_map)
        self.depth_map.setFixedWidth(self.look.px(_DEPTH_WIDTH))
        self._stacked = ViewStack()
        self._views = {
            _KINDS: self.kinds,
            _SOURCES: self._main,
            _MODES: self._scrolled(self.modes),
            _PLAN: self._scrolled(self.plan),
            _OVER_TIME: self.over_time,
        }
        for view in self._views.values():
            self._stacked.addWidget(view)
        self._stacked.setCurrentWidget(self._main)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.stack, 3)
        layout.addWidget(self._stacked, 5)

    def _scrolled(self, widget: QWidget) -> QScrollArea:
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(widget)
        scroll.setWidgetResizable(True)
        return scroll

    def _connect(self) -> None:
        self.raster.wake_chosen.connect(self.show_wake)
        self.raster.source_chosen.connect(self._on_raster_source)
        self.sources.source_chosen.connect(self.choose)
        self.sources.gap_asked.connect(self._on_gap)
        self.depth_map.stretch_asked.connect(self._on_idle)
        self.over_time.stretch_asked.connect(self.show_stretch)
        self.slack.slack_entered.connect(self.source_editing.set_slack)
        self.modes.source_changed.connect(self.source_editing.set_deadline)
        self.modes.mode_changed.connect(self._on_mode)
        self.modes.mode_dropped.connect(
            lambda name: self.controller.apply(wake_edits.drop_mode(name), "forget a sleep mode")
        )
        self.plan.plan_changed.connect(self._on_plan)
        self.kinds.kind_chosen.connect(self.choose_kind)
        self.kinds.wake_asked.connect(self.show_wake_of_kind)
        self.controller.wakes_changed.connect(self._on_wakes)
        for view in (self.modes, self.plan):
            view.refused.connect(self.controller.troubled)

    def _make_actions(self) -> list[QAction]:
        self.addActions([a for a in self.stack.actions_for_menu() if "state edge" not in a.text()])
        return [
            self.make_action(text, keys, slot)
            for text, keys, slot in (
                ("Next wake", "]", lambda: self.step_wake(1)),
                ("Previous wake", "[", lambda: self.step_wake(-1)),
                ("Rename the source or kind, or join a source with another", "F2", self._rename),
                ("Split the source by what ran, or a kind's odd ones …", "K", self._split),
                ("Join the kind with the one most like it", "J", self._join_kind),
                ("Split the source by its period …", "Shift+K", self.source_editing.ask_split_by_period),
                ("Name sources as the log does", "Ctrl+Shift+L", self.source_editing.name_as_logged),
                ("Take the source as an activity", "A", self._take_as_activity),
                ("Batch what the source does, or sort the bracket's wake into the kind …", "B", self._on_b),
                ("Let hardware do it without the core …", "H", self.source_editing.ask_without_core),
                ("Take the kinds as the battery's model", "Ctrl+Return", self.kind_editing.take_model),
                ("Sort the wakes into kinds anew", "Ctrl+Shift+J", self.kind_editing.forget),
                ("Wakes: kinds", "Ctrl+1", lambda: self.show_view(_KINDS)),
                ("Wakes: sources", "Ctrl+2", lambda: self.show_view(_SOURCES)),
                ("Wakes: modes", "Ctrl+3", lambda: self.show_view(_MODES)),
                ("Wakes: plan", "Ctrl+4", lambda: self.show_view(_PLAN)),
                ("Wakes: over time", "Ctrl+5", lambda: self.show_view(_OVER_TIME)),
                ("Copy the wakes as text", "Ctrl+C", self._copy),
            )
        ]

    def page_actions(self) -> list[QAction]:
        return self._actions

    @property
    def view(self) -> str:
        """The view that is open."""
        return next(name for name, widget in self._views.items() if widget is self._stacked.currentWidget())

    def show_view(self, name: str) -> None:
        """Open a view."""
        self._stacked.setCurrentWidget(self._views[name])
        self._ask_kinds()
        self._show_in_lanes()
        self.header_changed.emit()

    @property
    def ledger(self) -> WakeLedger | None:
        """The wakes of the run that is shown; None while they are not known."""
        return self.found.ledger if self.found is not None else None

    def show_results(self, results: RunResults | None) -> None:
        if results is None or results.placement.alignment is None:
            self.cpu = None
        same = self.results is not None and results is not None and self.results.run.name == results.run.name
        self.results = results
        self.stack.set_results(results)
        self.stack.set_notes(self.notes_of(results))
        if not same:
            self.cpu = None
            self._was_shown = False
        self._find()

    def show_cpu(self, words: str) -> None:
        """Show the wakes of one CPU, or of all."""
        self.cpu = None if words == _ALL else int(words)
        self._find()

    def _find(self) -> None:
        results, cpu = self.results, self.cpu
        session, project = self.controller.session, self.controller.project
        self.controller.jobs.stop("wakes of a CPU")
        if session is None or results is None or cpu is None:
            self._show(self.controller.wakes)
            return
        name = results.run.name
        self.controller.work(
            "wakes of a CPU",
            f"finding the wakes of {name}",
            lambda should_stop, _progress: session.wakes.shown(project, name, cpu, should_stop),
            self._show,
        )

    def _on_wakes(self, found: WakesShown | None) -> None:
        if self.cpu is None:
            self._show(found)

    def _show(self, found: WakesShown | None) -> None:
        self.found = found
        ledger = self.ledger
        if ledger is not None and not ledger.is_measured:
            self.raster.set_height_by(LENGTH)
        self._show_kinds(found.kinds if found is not None else None)
        if found is not None and not self._was_shown:
            # Where nothing but the current tells of wakes, its kinds are what there is to see first.
            self._was_shown = True
            labels = {kind.label for kind in found.kinds.kinds.kinds} if found.kinds is not None else set()
            if any(row.source in labels for row in found.ledger.sources) and self.view == _SOURCES:
                self._stacked.setCurrentWidget(self.kinds)
            elif found.kinds is None and self.view == _KINDS:
                self._stacked.setCurrentWidget(self._main)
        self._ask_kinds()
        self._show_in_lanes()
        self.sources.show_wakes(found)
        self.slack.show_ledger(ledger)
        self.depth_map.show_depth(
            ledger.depth if ledger is not None else None,
            ledger.mean_a if ledger is not None else 0,
            ledger.asleep if ledger is not None else Figure,
        )
        self.modes.show_ledger(ledger, self.controller.project)
        self.plan.show_ledger(ledger, self.controller.project)
        self.over_time.show_wakes(found)
        self.choose(self.chosen if ledger is not None and ledger.row(self.chosen) is not None else "")

    def _show_kinds(self, shown: KindsShown | None) -> None:
        self.kinds.show_kinds(shown, [activity.name for activity in self.controller.project.activities])

    def _ask_kinds(self) -> None:
        """Find the kinds of a run whose wakes a log tells: they are asked for only where somebody looks at them."""
        session, results = self.controller.session, self.results
        if self.view != _KINDS or self.kinds.shown is not None or session is None or results is None:
            return
        project, name = session.project, results.run.name
        self.controller.work(
            "kinds",
            f"sorting the wakes of {name}",
            lambda should_stop, _progress: session.kinds.shown(project, name, should_stop),
            self._on_kinds,
        )

    def _on_kinds(self, shown: KindsShown) -> None:
        self._show_kinds(shown)
        self._show_in_lanes()
        self.header_changed.emit()

    def _show_in_lanes(self) -> None:
        """Let the raster and the current lane show kinds while these are looked at, and sources otherwise."""
        shown = self.kinds.shown if self.view == _KINDS else None
        letters = {kind.label: kind.letter for kind in shown.kinds.kinds} if shown is not None else {}
        if shown is not None and len(shown.kinds.unsorted):
            letters[UNSORTED] = UNKNOWN_LETTER
        self.raster.set_ledger(shown.ledger if shown is not None else self.ledger, letters)
        self.stack.refold()
        self._light()

    def _light(self) -> None:
        shown = self.kinds.shown if self.view == _KINDS else None
        kind = shown.kind(self.kinds.chosen) if shown is not None else None
        self.stack.current.set_lit(self.kinds.lit_s if shown is not None else np.zeros((0, 2)))
        if shown is not None:
            self.raster.choose(kind.label if kind is not None else UNSORTED)

    def choose_kind(self, letter: str) -> None:
        """Mark a kind in the table and in the lanes; the empty letter marks what is unsorted."""
        self.kinds.choose(letter)
        self._light()

    def show_wake_of_kind(self, index: int) -> None:
        """Show one of the wakes that were sorted into kinds in the lanes."""
        if self.kinds.shown is not None:
            kinds = self.kinds.shown.kinds
            self.show_stretch(float(kinds.first[index]) * kinds.interval_s, float(kinds.last[index]) * kinds.interval_s)

    def _join_kind(self) -> None:
        if self.view == _KINDS:
            self.kind_editing.join_most_alike()
        else:
            self.controller.noted.emit("Kinds are joined where they are seen: in the view of kinds.")

    def _rename(self) -> None:
        if self.view == _KINDS:
            self.kinds.table.rename()
        else:
            self.sources.rename()

    def _split(self) -> None:
        if self.view == _KINDS:
            self.kind_editing.split_odd()
        else:
            self.source_editing.ask_split_by_state()

    def _on_b(self) -> None:
        if self.view == _KINDS:
            self.kind_editing.sort_bracket()
        else:
            self.source_editing.ask_batch()

    def choose(self, source: str) -> None:
        """Mark a source in all views; an empty name marks none."""
        self.chosen = source
        for view in (self.raster, self.sources, self.slack):
            view.choose(source)
        self._ask_savings()
        self.header_changed.emit()

    def _ask_savings(self) -> None:
        """Try slacks of the sources whose tracks are shown."""
        session, results, cpu = self.controller.session, self.results, self.cpu
        wanted = [source for source in self.slack.sources if source not in self.slack.savings]
        if session is None or results is None or self.ledger is None or not wanted:
            return
        project, name = session.project, results.run.name
        self.controller.work(
            "slacks",
            "trying slacks",
            lambda should_stop, _progress: [
                session.wakes.saving(project, name, source, cpu, should_stop) for source in wanted
            ],
            self._on_savings,
        )

    def _on_savings(self, found: list[Saving]) -> None:
        for saving in found:
            self.slack.show_saving(saving)

    def _take_as_activity(self) -> None:
        if self.chosen:
            self.activity_asked.emit(self.chosen)
        else:
            self.controller.noted.emit("Choose a source first.")

    def show_wake(self, index: int) -> None:
        """Show one wake of the raster in the lanes."""
        ledger = self.raster.ledger
        if ledger is not None:
            wakes, interval_s = ledger.wakes, ledger.interval_s
            self.show_stretch(float(wakes.first[index]) * interval_s, float(wakes.last[index]) * interval_s)
            self._on_raster_source(wakes.names[int(wakes.number[index])])

    def _on_raster_source(self, source: str) -> None:
        """Choose the source of a row of the raster, or the kind."""
        shown = self.kinds.shown if self.view == _KINDS else None
        if shown is None:
            self.choose(source)
        else:
            self.choose_kind(next((kind.letter for kind in shown.kinds.kinds if kind.label == source), ""))

    def show_stretch(self, from_s: float, to_s: float) -> None:
        """Show a stretch in the lanes, with a little on both sides."""
        margin = _AROUND * (to_s - from_s) + 4 * self._window.interval_s
        self._window.show(from_s - margin, to_s + margin)
        self.stack.current.set_highlight((from_s, to_s))

    def _on_idle(self, index: int) -> None:
        if self.ledger is not None:
            stretches = self.ledger.depth.stretches
            from_s = float(stretches.first[index]) * self.ledger.interval_s
            self.show_stretch(from_s, from_s + float(stretches.lasts_s[index]))

    def _on_gap(self, source: str, shortest_s: float, longest_s: float) -> None:
        """Show the first pair of wakes by a source that are so far apart."""
        if self.ledger is None:
            return
        mine = self.ledger.wakes.first[self.ledger.wakes.by(source)] * self.ledger.interval_s
        fits = np.flatnonzero((np.diff(mine) >= shortest_s) & (np.diff(mine) <= longest_s))
        if len(fits):
            self.show_stretch(float(mine[fits[0]]), float(mine[fits[0] + 1]))

    def step_wake(self, direction: int) -> None:
        """Centre the window on the next or previous wake, of the chosen source if one is chosen."""
        ledger = self.raster.ledger
        if ledger is None:
            return
        window, wakes = self._window, ledger.wakes
        mine = wakes.first[wakes.by(self.raster.chosen)] if self.raster.chosen else wakes.first
        times_s = mine * ledger.interval_s
        middle = (window.from_s + window.to_s) / 2
        reach = window.interval_s
        found = times_s[times_s > middle + reach][:1] if direction > 0 else times_s[times_s < middle - reach][-1:]
        if len(found):
            half = window.length_s / 2
            window.show(float(found[0]) - half, float(found[0]) + half)

    def _on_mode(self, mode: SleepMode) -> None:
        self.controller.apply(wake_edits.set_mode(mode), "change a sleep mode")

    def _on_plan(self, plan: WakePlan) -> None:
        self.controller.apply(edits.SetFields("project", {"wake_plan": plan}), "change the wake plan")

    def _copy(self) -> None:
        texts = {
            _KINDS: self.kinds.table.text,
            _SOURCES: lambda: f"{self.sources.text()}\n\n{self.depth_map.text()}",
            _MODES: self.depth_map.text,
            _PLAN: self.plan.text,
        }
        copy_text(texts.get(self.view, self.over_time.text)())

    def sentence(self) -> str:
        ledger = self.ledger
        if self.results is None:
            return "Wakes appear with the first capture."
        if ledger is None:
            return "Finding the wakes …"
        if self.view == _KINDS:
            return kinds_sentence(self.kinds.shown.kinds) if self.kinds.shown is not None else "Sorting the wakes …"
        if self.view == _PLAN:
            return plan_sentence(self.plan.check.conflicts) if self.plan.check is not None else UNPLANNED
        return wakes_sentence(ledger)

    def warning(self) -> str:
        return wakes_doubt(self.results, self.found, self.controller.project, in_plan=self.view == _PLAN)

    def switches(self) -> tuple[Switch, ...]:
        if self.results is None:
            return ()
        cpus = tuple(map(str, self.found.cpus)) if self.found is not None else ()
        chosen = _ALL if self.cpu is None else str(self.cpu)
        of_cpus = (Switch("CPU", (_ALL, *cpus[:_MOST_CPUS]), chosen, self.show_cpu),) if len(cpus) > 1 else ()
        return (
            Switch("View", tuple(self._views), self.view, self.show_view),
            *of_cpus,
            Switch("Raster height", (CHARGE, LENGTH), self.raster.height_by, self.raster.set_height_by),
        )

    def link(self) -> LinkFigure:
        return wakes_link(self.results, self.found, self.warning())
