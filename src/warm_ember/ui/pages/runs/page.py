"""The Runs page: every capture as a rung of a ladder, and two of them compared."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QHBoxLayout, QInputDialog, QVBoxLayout, QWidget

from warm_ember.model.figure import signed
from warm_ember.model.project import RunKind
from warm_ember.session import edits
from warm_ember.session.overlay import LaidBy, lay_over
from warm_ember.session.page_links import LinkFigure, run_before, runs_link
from warm_ember.session.project_river import MANY
from warm_ember.session.run_results import RunResults
from warm_ember.session.tuning_results import Comparison, changes_ahead, compare_averages, compare_states
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Missing, Page
from warm_ember.ui.pages.runs.first_change import FirstChange
from warm_ember.ui.pages.runs.limits_view import LimitsView
from warm_ember.ui.pages.runs.overlay_view import OverlayView
from warm_ember.ui.pages.runs.river_view import RiverView
from warm_ember.ui.pages.runs.run_history_chart import RunHistoryChart, history_rows, plan_rung
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.claim_edit import ClaimLine
from warm_ember.ui.widgets.difference_table import DifferenceTable, Sum, micro
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack
from warm_ember.units import months_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Difference, ShouldStop

LADDER, LIMITS, RIVER = "ladder", "limits", "river"


class RunsPage(Page):
    """The ladder and a comparison.

    Signals
    -------
    run_asked
        A run is to become the current one.
    captures_asked
        Runs of a project are to be shown, None of this one: one on Trace, or two on the ladder.
    """

    title = "Runs"
    shows_all_runs = True
    run_asked = Signal(str)
    captures_asked = Signal(object, tuple)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self.found: dict[str, RunResults] = {}
        self.first, self.second = "", ""
        self.one_state = False
        self.rows: tuple[Difference, ...] = ()
        self.history = RunHistoryChart(look)
        self.table = DifferenceTable(look)
        self.overlay = OverlayView(look)
        self.overlay.asked.connect(self._lay_over)
        self.alone = FirstChange(look)
        self.alone.plan_asked.connect(lambda: self.page_asked.emit("Tune"))
        self.controller.plan_changed.connect(self._show_alone)
        self.claim = ClaimLine(look)
        self.by = "states"
        self.compared: Comparison | None = None
        self.planned: tuple[int, float, float] | None = None
        self._compared_key: object = None
        self.limits = LimitsView(controller, look)
        self.limits.changed.connect(self.header_changed)
        self.limits.page_asked.connect(self.page_asked)
        self.river = RiverView(controller, look)
        self.river.changed.connect(self.header_changed)
        self.river.capture_asked.connect(self.captures_asked)
        self.view = LADDER
        self._many_of: object = None
        self.has_baseline = True
        self._build()
        self.claim.asked.connect(self._on_claim)
        self.history.picked.connect(self._on_picked)
        self.history.run_asked.connect(self.run_asked)
        self._actions = self._make_actions()

    def _build(self) -> None:
        self.stack = ViewStack()
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(self.stack)
        ladder = QWidget()
        self.stack.addWidget(ladder)
        self.stack.addWidget(self.limits)
        self.stack.addWidget(self.river)
        layout = QVBoxLayout(ladder)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.history, 6)
        below = self._pair = QWidget()
        row = QHBoxLayout(below)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.overlay, 1)
        row.addWidget(self.table, 1)
        layout.addWidget(below, 6)
        layout.addWidget(self.alone, 6)
        layout.addWidget(self.claim)

    def _make_actions(self) -> list[QAction]:
        some: tuple[tuple[str, str, Callable[[], object]], ...] = (
            (
                "Copy the comparison as text",
                "Ctrl+C",
                lambda: copy_text(self.table.text()),
            ),
            ("Rename run B …", "F2", self.rename_run),
            ("Say what changed in run B …", "Shift+F2", self.describe_run),
            ("A note on run B …", "Ctrl+Shift+F2", self.note_run),
            ("Make run B a step, a repeat or another condition …", "Ctrl+F2", self.sort_run),
        )
        limits = self.limits
        of_limits: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Write limits from this run", "W", limits.write_limits),
            ("Run the gate", "Return", limits.run_gate),
            ("Save the limits and run the gate", "Ctrl+Return", limits.run_gate),
            ("Open what the limit is about", "S", limits.open_page),
            ("Set the limit to what this run keeps to", "L", limits.set_limit),
        )
        river = self.river
        of_river: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Read the data set again", "F5", river.read_again),
            ("Compare builds A and B by state, or show all states", "Return", river.compare),
            ("Open the capture of run B", "O", lambda: river.show_capture(1)),
            ("Open the capture of run A", "Shift+O", lambda: river.show_capture(0)),
            ("Compare the captures of A and B", "Ctrl+Return", lambda: river.show_capture(0, 1)),
        )
        return [
            self.make_action("Ladder", "Ctrl+1", lambda: self.show_view(LADDER)),
            self.make_action("Limits", "Ctrl+2", lambda: self.show_view(LIMITS)),
            self.make_action("River", "Ctrl+3", lambda: self.show_view(RIVER)),
            self.make_action("Close the data set", "Ctrl+Shift+W", self.river.close_data_set),
            *(self.make_action(*one, on=self.river) for one in of_river),
            *(self.make_action(*one) for one in some),
            *(self.make_action(*one, on=limits) for one in of_limits),
        ]

    def show_view(self, view: str) -> None:
        """Show the ladder, the limits, or the river."""
        self.view = view
        self.stack.setCurrentIndex((LADDER, LIMITS, RIVER).index(view))
        if view == LIMITS:
            self._show_limits()
        self.take_focus()
        self.header_changed.emit()

    def take_focus(self) -> None:
        views: dict[str, QWidget] = {LIMITS: self.limits.list, RIVER: self.river.chart}
        views.get(self.view, self).setFocus()

    @property
    def shown_data_set(self) -> str:
        """What the data set that is open is called; empty while none is."""
        return self.river.address.rstrip("/").rpartition("/")[2]

    def ask_for_data_set(self) -> None:
        """Ask which data set is to be shown."""
        self.show_view(RIVER)
        self.river.ask_for_data_set()

    def open_data_set(self, address: str) -> None:
        """Show a data set."""
        self.show_view(RIVER)
        self.river.open_data_set(address)

    def show_pair(self, first: str, second: str) -> None:
        """Show two runs beside each other."""
        self.first, self.second = first, second
        self.show_view(LADDER)
        self._show()

    def _show_limits(self) -> None:
        run = self.second or (self.results.run.name if self.results is not None else "")
        before = self.first or run_before(self.controller.project, run)
        self.limits.show_run(run, before if self.has_baseline and before != run else "")

    def missing(self) -> Missing | None:
        if self.view == RIVER:
            return None
        is_one = len(self.controller.project.rungs) == 1 and self.view == LADDER
        return super().missing() or (Missing.SECOND_RUN if is_one else None)

    def page_actions(self) -> list[QAction]:
        return self._actions

    def show_results(self, results: RunResults | None) -> None:
        changed = results is not None and (self.results is None or results.run.name != self.results.run.name)
        self.results = results
        if changed and results is not None:
            self.second = results.run.name
            self.first = run_before(self.controller.project, self.second)
        if results is not None and results.run.name in self.found:
            self.found = {**self.found, results.run.name: results}
        self._show()

    def show_runs(self, found: dict[str, RunResults]) -> None:
        """Show the results of all runs."""
        self.found = found
        if self.controller.project.run(self.first) is None:
            self.first = run_before(self.controller.project, self.second)
        self.planned = None
        self._show()
        self._plan()
        self._show_many()

    def _show_many(self) -> None:
        """Show a river in place of a ladder of very many rungs; who wants the ladder finds it."""
        runs = self.controller.project.rungs
        if len(runs) < MANY or not all(run.name in self.found for run in runs):
            return
        session = self.controller.session
        if session is not self._many_of:
            self._many_of = session
            self.show_view(RIVER)
        self.river.open_runs(tuple(self.found[run.name] for run in runs))

    def _plan(self) -> None:
        """Predict what the plan makes of the last step, in the background: it is the next rung."""
        session = self.controller.session
        steps = [
            run.name for run in self.controller.project.runs if run.kind is RunKind.STEP and run.name in self.found
        ]
        if session is None or not steps or not changes_ahead(self.controller.project, steps[-1]):
            return
        project, name = session.project, steps[-1]
        count = len(changes_ahead(project, name))

        def work(should_stop: ShouldStop, _progress: object) -> tuple[int, float, float]:
            mean_a, life_s = session.tuning.ahead(project, name, should_stop)
            return count, mean_a, life_s

        self.controller.work("next rung", "predicting the next rung", work, self._on_planned)

    def _on_planned(self, planned: tuple[int, float, float]) -> None:
        self.planned = planned
        self._show()

    def _on_picked(self, name: str, as_first: bool) -> None:
        if as_first:
            self.first = name
        else:
            self.second = name
            if self.first == name:
                self.first = run_before(self.controller.project, name)
        self._show()

    def _show(self) -> None:
        first, second = self.found.get(self.first), self.found.get(self.second)
        self.rows = ()
        if first is not None and second is not None:
            self.rows = compare_states(first, second)
        state = self._main_state()
        life = self.results.life if self.results is not None else None
        shown = state if self.one_state else ""
        history = history_rows(self.controller.project.rungs, self.found, shown)
        if self.planned is not None and history and not shown:
            last = [rung for rung in history if rung.run.kind is RunKind.STEP][-1:]
            history += [plan_rung(*self.planned, one.mean_a) for one in last]
        self.history.show_rungs(history, life.budget_a if life else None, life.target_s if life else None, shown)
        self.history.pick(self.first, self.second)
        self._show_alone()
        self._show_table(first, second)
        self.overlay.show_runs(first, second, state)
        self._compare(first, second)
        if self.claim.claim:
            self._on_claim(self.claim.claim)
        if self.view == LIMITS:
            self._show_limits()
        self.header_changed.emit()

    def _show_alone(self) -> None:
        """Show what a second run should change, as long as there is one run."""
        is_alone = len(self.controller.project.rungs) < 2
        self._pair.setVisible(not is_alone)
        self.alone.setVisible(is_alone)
        if is_alone:
            self.alone.show_run(self.results, self.controller.plan)

    def _show_table(self, first: RunResults | None, second: RunResults | None) -> None:
        """Show what changed by state, by source of wakes, or by activity."""
        if first is None or second is None:
            is_one = len(self.controller.project.rungs) < 2
            empty = "It takes two runs." if is_one else "Pick two runs above: click for B, Shift-click for A."
            self.table.show_rows("Difference per state", ("A, µA", "B, µA"), (), empty=empty)
            return
        found = self.compared
        rows = {
            "states": self.rows,
            "wakes": found.sources if found is not None else (),
            "activities": found.activities if found is not None else (),
        }[self.by]
        sums: tuple[Sum, ...] = (
            ("average, µA", first.load.mean_a, second.load.mean_a, micro, (first.load.bound, second.load.bound)),
            ("months of life", first.life.life_s, second.life.life_s, _months, (first.life.bound, second.life.bound)),
        )
        titles = {"states": "state", "wakes": "source of wakes", "activities": "activity"}
        means = tuple((s.name, s.mean_a) for s in (*first.by_state, *second.by_state)) if self.by == "states" else ()
        notes = tuple(
            f"Also differs: {one.what}, {one.before} against {one.after}."
            for one in (found.confounders if found is not None else ())[:3]
        )
        notes = (*(f"Noted in {second.run.name}: {_one_line(note.text)}" for note in self.notes_of(second)[:2]), *notes)
        if found is not None and self.by == "wakes":
            notes = (*[one.words for one in found.kinds if one.words][:3], *notes)
        empty = "Comparing …" if found is None else "Nothing of that kind is in either run."
        self.table.show_rows(f"Difference per {titles[self.by]}", ("A, µA", "B, µA"), rows, sums, means, notes, empty)

    def _compare(self, first: RunResults | None, second: RunResults | None) -> None:
        """Compare in the background what takes longer than the states."""
        session = self.controller.session
        key = None if first is None or second is None else (first.load, second.load)
        if key == self._compared_key:
            return
        self._compared_key, self.compared = key, None
        self.controller.jobs.stop("compare")
        if session is None or first is None or second is None:
            return
        project, names = session.project, (first.run.name, second.run.name)
        self.controller.work(
            "compare",
            f"comparing {names[0]} and {names[1]}",
            lambda should_stop, _progress: session.tuning.compare(project, *names, should_stop),
            self._on_compared,
        )

    def _on_compared(self, found: Comparison) -> None:
        self.compared = found
        self._show_table(self.found.get(self.first), self.found.get(self.second))

    def _lay_over(self) -> None:
        """Lay both runs over each other in the background, as the overlay asks for it."""
        session, view = self.controller.session, self.overlay
        if session is None or not view.runs:
            return
        project, runs, by, state, columns = session.project, view.runs, view.mode, view.state, view.columns
        self.controller.work(
            "overlay",
            "laying both runs over each other",
            lambda should_stop, _progress: lay_over(session, project, runs, by, state, columns, should_stop),
            view.show_overlay,
        )

    def _on_claim(self, text: str) -> None:
        session = self.controller.session
        self.claim.show_verdict(None)
        if not text or session is None or not self.first or not self.second:
            return
        project, first, second = session.project, self.first, self.second
        self.controller.work(
            "claim on runs",
            "checking a claim",
            lambda should_stop, _progress: session.tuning.claim(project, text, first, second, should_stop),
            self.claim.show_verdict,
        )

    def _main_state(self) -> str:
        """Return the state with the largest change that both runs have."""
        first, second = self.found.get(self.first), self.found.get(self.second)
        if first is None or second is None:
            return ""
        both = [d.name for d in self.rows if first.ledger.row(d.name) and second.ledger.row(d.name)]
        return both[0] if both else ""

    def rename_run(self) -> None:
        """Ask for run B's title."""
        run = self.controller.project.run(self.second)
        if run is None:
            return
        title, chosen = QInputDialog.getText(self, "Rename", "What is this run called?", text=run.label)
        if chosen and title.strip():
            self.controller.apply(edits.change_run(run.name, title=title.strip()), f"rename {run.name}")

    def describe_run(self) -> None:
        """Ask what changed in run B."""
        run = self.controller.project.run(self.second)
        if run is None:
            return
        words, chosen = QInputDialog.getText(self, "Changed", "What changed since the run before?", text=run.changed)
        if chosen:
            self.controller.apply(edits.change_run(run.name, changed=words.strip()), f"describe {run.name}")

    def note_run(self) -> None:
        """Ask for a note on run B."""
        run = self.controller.project.run(self.second)
        if run is None:
            return
        note, chosen = QInputDialog.getMultiLineText(self, "Note", f"What is to be known of {run.label}?", run.note)
        if chosen:
            self.controller.apply(edits.change_run(run.name, note=note.strip()), f"note on {run.name}")

    def sort_run(self) -> None:
        """Ask whether run B is a step."""
        run = self.controller.project.run(self.second)
        if run is None:
            return
        kinds = [kind.value for kind in RunKind]
        kind, chosen = QInputDialog.getItem(
            self, "Kind of run", "This run is a", kinds, kinds.index(run.kind.value), editable=False
        )
        if chosen:
            self.controller.apply(edits.change_run(run.name, kind=RunKind(kind)), f"make {run.name} a {kind}")

    def sentence(self) -> str:
        if self.view == LIMITS:
            return self.limits.sentence()
        if self.view == RIVER:
            return self.river.sentence()
        first, second = self.found.get(self.first), self.found.get(self.second)
        if second is None:
            return "Every capture becomes a rung of the ladder."
        if first is None:
            mean = signed(second.load.bound, quantity_text(second.load.mean_a, "A").rich)
            return f"{second.run.label} takes {mean}; a second capture shows what changed."
        change = second.load.mean_a - first.load.mean_a
        side = compare_averages(first, second).bound
        if side is not None and change < 0:  # at least so negative a change is at most so much less
            side = side.opposite
        words = f"{side.value.replace('_', ' ')} " if side is not None else ""
        much = f"{words}{quantity_text(abs(change), 'A').rich} {'less' if change < 0 else 'more'}"
        words = f"{second.run.name} takes {much} than {first.run.name}"
        if self.rows and change and self.rows[0].change_a / change > 0:
            share = self.rows[0].change_a / change
            words += f", and {percent_text(min(share, 1.0)).rich} of that is {self.rows[0].name.lower()}"
        budget_a = second.life.budget_a
        if budget_a:
            to_go = second.load.mean_a - budget_a
            words += (
                f". {quantity_text(to_go, 'A').rich} to go."
                if to_go > 0
                else f". {quantity_text(-to_go, 'A').rich} below the target."
            )
        return words if words.endswith(".") else words + "."

    def switches(self) -> tuple[Switch, ...]:
        def choose(word: str) -> None:
            self.one_state = word == "one state"
            self._show()

        def lay(word: str) -> None:
            self.overlay.set_mode(word)
            self._show()

        def divide(word: str) -> None:
            self.by = word
            self._show()

        view = Switch("View", (LADDER, LIMITS, RIVER), self.view, self.show_view)
        if self.view == RIVER:
            keys = self.river.keys
            return (view, *((Switch("By", keys, self.river.by, self.river.choose_by),) if keys else ()))
        if self.view == LIMITS:
            return (view, *self._limit_switches())
        return (
            view,
            Switch("Ladder", ("average", "one state"), "one state" if self.one_state else "average", choose),
            Switch("Overlay", tuple(LaidBy), self.overlay.mode, lay),
            Switch("Difference", ("states", "wakes", "activities"), self.by, divide),
        )

    def _limit_switches(self) -> tuple[Switch, ...]:
        def compare(word: str) -> None:
            self.has_baseline = word != "nothing"
            self._show_limits()
            self.header_changed.emit()

        def count(word: str) -> None:
            self.limits.set_strict(strict=word == "fails")

        before, result = self.first or run_before(self.controller.project, self.second), self.limits.shown.result
        names = (before, "nothing") if before and before != self.second else ("nothing",)
        chosen = names[0] if self.has_baseline else "nothing"
        is_strict = result is not None and result.strict
        return (
            Switch("Compared with", names, chosen, compare),
            Switch("Undecided", ("passes", "fails"), "fails" if is_strict else "passes", count),
        )

    def warning(self) -> str:
        return self.river.warning() if self.view == RIVER else super().warning()

    def link(self) -> LinkFigure:
        of_data_set = self.river.link() if self.view == RIVER else None
        return of_data_set or runs_link(self.results, self.controller.project, self.controller.averages_a)


def _one_line(text: str) -> str:
    return " ".join(text.split())


def _months(life_s: float) -> str:
    return months_text(life_s).number
