"""The Tune page: what is on when, what could be changed, what that would save, and whether it did."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QGuiApplication
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QScrollArea, QVBoxLayout, QWidget

from warm_ember.errors import BadFileError
from warm_ember.model.figure import signed
from warm_ember.model.parts import Part
from warm_ember.model.plan import PlanLimits, PlannedChange
from warm_ember.session import part_entry, plan_edits
from warm_ember.session.new_changes import new_changes
from warm_ember.session.page_links import LinkFigure, tune_doubt, tune_link
from warm_ember.session.plan_waveform import plan_waveform
from warm_ember.session.run_results import RunResults
from warm_ember.session.tuning_results import PLAN, PlanResults, changes_ahead, over_limits
from warm_ember.ui.latest import Latest
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Missing, Page
from warm_ember.ui.pages.tune.change_editor import ChangeEditor
from warm_ember.ui.pages.tune.part_line import PartLine
from warm_ember.ui.pages.tune.plan_list import LETTERS, PlanList
from warm_ember.ui.pages.tune.proof_view import ProofView
from warm_ember.ui.pages.tune.shutdown_matrix import ShutdownMatrix
from warm_ember.ui.pages.tune.sweep_view import SweepView
from warm_ember.ui.pages.tune.timers_view import TimersView
from warm_ember.ui.pages.tune.waterfall_chart import WaterfallChart
from warm_ember.ui.pages.tune.waveform_view import WaveformView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.claim_edit import ClaimLine
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.ui.widgets.side_by_side import SideBySide
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack
from warm_ember.units import counted, duration_text, format_trimmed, months_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import ClaimResult, PeriodModel, SmallestSet, SuggestedChange


_WIDE = 960
VIEWS = ("plan", "waveform", "sweep", "proof", "timers")
SWEEP = "sweep"
_MOST_LINES = 3


class TunePage(Page):
    """Matrix and plan; the predicted waveform; predictions against what came.

    Signals
    -------
    stretch_asked
        A stretch of the capture to be shown, s.
    wake_asked
        A wake source whose way is to be shown.
    """

    title = "Tune"
    stretch_asked = Signal(float, float)
    wake_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self.found: PlanResults | None = None
        self.view = VIEWS[0]
        self.matrix = ShutdownMatrix(look)
        self.broken = Label()
        self.part_line = PartLine(look)
        self.waterfall = WaterfallChart(look)
        self.list = PlanList(look)
        self.editor = ChangeEditor(look)
        self.claim = ClaimLine(look)
        self.waveform = WaveformView(look)
        self._reading = Latest(controller.jobs, "waveform", controller.report_failure)
        self.waveform.asked.connect(self._read_waveform)
        self.proof = ProofView(look)
        self.timers = TimersView(look)
        self.sweep = SweepView(controller, look)
        self.sweep.changed.connect(self.header_changed)
        self.sweep.captures_asked.connect(self._on_captures)
        self.limits: dict[str, QuantityEdit] = {}
        self.together = Label()
        self._build()
        self._connect()
        self._actions = self._make_actions()

    def _build(self) -> None:
        self.stacked = ViewStack()
        left, right = self._left(), self._right()
        plan = SideBySide(self.look, (left, 17), (right, 15), _WIDE, right)
        for widget in (plan, self.waveform, self.sweep, self.proof, self.timers):
            self.stacked.addWidget(widget)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.stacked, 1)
        column.addWidget(self.claim)

    def _left(self) -> QWidget:
        px = self.look.px
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setWidget(self.matrix)
        self.broken.setWordWrap(True)
        self.broken.setTextFormat(Qt.TextFormat.PlainText)
        self.broken.setContentsMargins(px(16), px(6), px(12), px(8))
        self.broken.setFont(self.look.font("small"))
        left = QWidget()
        left.setObjectName("page")
        left.setMinimumWidth(px(360))
        column = QVBoxLayout(left)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(scroll, 1)
        column.addWidget(self.part_line)
        column.addWidget(self.broken)
        return left

    def _right(self) -> QWidget:
        px = self.look.px
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setWidget(self.list)
        self.together.setFont(self.look.font("small"))
        self.together.setContentsMargins(px(16), px(2), px(12), px(2))
        right = QWidget()
        right.setObjectName("page")
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.waterfall, 4)
        column.addWidget(self._tools())
        column.addWidget(self._limit_fields())
        column.addWidget(self.together)
        column.addWidget(scroll, 5)
        column.addWidget(self.editor)
        return right

    def _tools(self) -> QWidget:
        px = self.look.px
        self.buttons = {
            name: KeyButton(self.look, words, key)
            for name, words, key in (("smallest", "Smallest set", "S"), ("order", "By gain", "G"), ("new", "New", "N"))
        }
        tools = QWidget()
        tools.setObjectName("page")
        row = QHBoxLayout(tools)
        row.setContentsMargins(px(16), px(2), px(12), px(4))
        row.setSpacing(px(6))
        for button in self.buttons.values():
            row.addWidget(button)
        row.addStretch(1)
        return tools

    def _limit_fields(self) -> QWidget:
        px = self.look.px
        limits = QWidget()
        limits.setObjectName("page")
        row = QHBoxLayout(limits)
        row.setContentsMargins(px(16), 0, px(12), px(4))
        row.setSpacing(px(6))
        together = Label("Limits for the whole plan:")
        together.setFont(self.look.font("small"))
        row.addWidget(together)
        for field, unit, words in (
            ("latency_s", "s", "added latency"),
            ("accuracy", "%", "lost accuracy"),
            ("memory_bytes", "B", "memory"),
        ):
            label = Label(words)
            label.setFont(self.look.font("small"))
            edit = QuantityEdit(self.look, unit, f"all changes together, {words}", 66, may_be_empty=True)
            edit.setFont(self.look.font("small"))
            edit.setPlaceholderText("any")
            edit.value_entered.connect(lambda value, field=field: self._on_limit(field, value))
            edit.cleared.connect(lambda field=field: self._on_limit(field, None))
            edit.refused.connect(self.controller.noted)
            self.limits[field] = edit
            row.addWidget(label)
            row.addWidget(edit)
        row.addStretch(1)
        return limits

    def _connect(self) -> None:
        self.controller.plan_changed.connect(self._show)
        self.matrix.mode_planned.connect(self._on_planned)
        self.part_line.entered.connect(self._on_parts)
        self.part_line.refused.connect(self.controller.noted)
        self.matrix.mode_said.connect(
            lambda part, mode, state: self.controller.apply(
                plan_edits.set_part(part, mode, state), f"set {part} in {state}"
            )
        )
        self.matrix.power_said.connect(self._on_power)
        self.matrix.source_asked.connect(self.wake_asked)
        self.list.chosen.connect(lambda change: self.editor.show_change(change, self.controller.project))
        self.list.added.connect(self._on_added)
        self.list.evidence_asked.connect(self.stretch_asked)
        self.list.toggled.connect(self._on_toggled)
        self.list.dropped.connect(
            lambda change: self.controller.apply(plan_edits.drop_change(change), f"forget {change.name}")
        )
        self.list.moved.connect(
            lambda change, by: self.controller.apply(
                plan_edits.move_change(change, by, self.ahead), f"move {change.name}"
            )
        )
        self.list.proof_asked.connect(self._show_proof)
        self.editor.edited.connect(
            lambda before, after: self.controller.apply(plan_edits.set_change(before, after), f"change {after.name}")
        )
        self.editor.refused.connect(self.controller.noted)
        self.claim.asked.connect(self._on_claim)
        self.timers.planned.connect(self._on_period)
        self.timers.refused.connect(self.controller.noted)
        self.buttons["smallest"].clicked.connect(lambda _checked: self.search())
        self.buttons["order"].clicked.connect(lambda _checked: self.order())
        self.buttons["new"].clicked.connect(lambda _checked: self.open_new())

    def _make_actions(self) -> list[QAction]:
        some: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Find the smallest set that meets the target", "S", self.search),
            ("Order the plan by gain", "G", self.order),
            ("New change …", "N", self.open_new),
            ("Plan the period that is entered", "Ctrl+Return", self.timers.plan),
            ("Add a part …", "P", self.part_line.edit.setFocus),
            ("Paste parts from a table", "Ctrl+V", self._paste_parts),
            ("Forget the part at the cursor", "Ctrl+Shift+D", self._drop_part),
            ("Save the parts …", "Ctrl+U", self._save_parts),
            ("Copy the plan as text", "Ctrl+C", lambda: copy_text(self.list.text())),
        )
        sweep = self.sweep
        of_sweep: tuple[tuple[str, str, Callable[[], object]], ...] = (
            ("Run the sweep, or go on with it", "Ctrl+Shift+F9", sweep.run),
            ("Stop the sweep", "Esc", sweep.sweeps.stop),
            ("Take the best setting into the plan", "Return", sweep.take_into_plan),
            ("Open the captures of the chosen setting", "O", sweep.open_captures),
        )
        return [*(self.make_action(*one) for one in some), *(self.make_action(*one, on=sweep) for one in of_sweep)]

    def _on_captures(self, run: str) -> None:
        self.controller.select_run(run)
        self.page_asked.emit("Trace")

    def _on_parts(self, parts: tuple[Part, ...]) -> None:
        names = ", ".join(part.name for part in parts)
        self.controller.apply(part_entry.add_parts(parts), f"add {names}")
        self.controller.noted.emit(f"{names}: say in which mode it is in each state with Enter in the matrix.")
        self.matrix.setFocus()

    def _paste_parts(self) -> None:
        self.part_line.paste(QGuiApplication.clipboard().text())

    def _drop_part(self) -> None:
        name = self.matrix.part_at_cursor
        if name:
            self.controller.apply(part_entry.drop_part(name), f"forget {name}")
        else:
            self.controller.noted.emit("Choose a part in the matrix first.")

    def _save_parts(self) -> None:
        project = self.controller.project
        if not project.parts:
            self.controller.noted.emit("There are no parts to save yet.")
            return
        path, _ = QFileDialog.getSaveFileName(self, "Save the parts", "parts.json", "Parts (*.json)")
        if path:
            self.save_parts(Path(path))

    def save_parts(self, path: Path) -> None:
        """Write the parts to a file that other projects can open."""
        try:
            part_entry.save_parts(self.controller.project, path)
        except BadFileError as error:
            self.controller.troubled.emit(str(error))
        else:
            self.controller.noted.emit(f"The parts are in {path.name}.")

    def missing(self) -> Missing | None:
        if self.view == SWEEP:
            return None
        return super().missing() or (
            Missing.PARTS if self.results is not None and not self.controller.project.parts else None
        )

    def page_actions(self) -> list[QAction]:
        return self._actions

    def take_focus(self) -> None:
        self.matrix.setFocus()

    @property
    def ahead(self) -> tuple[PlannedChange, ...]:
        """The changes in the plan that the run does not contain yet."""
        return changes_ahead(self.controller.project, self.results.run.name) if self.results is not None else ()

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self._show(self.controller.plan)

    def _show(self, found: PlanResults | None) -> None:
        self.found = found
        project = self.controller.project
        # As the answer has it: the project may be further already.
        ahead = tuple(step.change for step in found.steps) if found is not None else ()
        letters = LETTERS[: len(ahead)]
        self.matrix.show_matrix(
            found.matrix if found is not None else None, project.parts, tuple(zip(letters, ahead, strict=True))
        )
        self.waterfall.show_plan(found, letters)
        beside = tuple(one for one in project.plan.changes if not one.is_planned)
        self.list.show_plan(found, beside)
        chosen = self.list.item.change if self.list.item is not None else None
        self.editor.show_change(chosen, project)
        self._show_limits()
        self._show_broken()
        self.waveform.show_plan(self.results, found)
        self.proof.show_proofs(*((found.proofs, found.budget_a) if found is not None else ((), None)))
        self._show_timers()
        if self.claim.claim:
            self._on_claim(self.claim.claim)
        self.header_changed.emit()

    def _read_waveform(self) -> None:
        """Read the window of the waveform in the background, while it is looked at."""
        view = self.waveform
        results, segments, span_s, columns = view.results, view.segments, view.span_s, view.columns
        if results is None or self.view != "waveform":
            return
        self._reading.run(lambda _stop, _progress: plan_waveform(results, segments, *span_s, columns), view.show_read)

    def _show_timers(self) -> None:
        """Look for what has a period, while the timers are looked at."""
        session, results = self.controller.session, self.results
        if self.view != "timers" or session is None or results is None:
            return
        project, name = session.project, results.run.name
        self.controller.work(
            "timers",
            f"looking for periods in {name}",
            lambda should_stop, _progress: (
                session.tuning.asked(project, name, should_stop),
                session.tuning.periods(project, name, should_stop),
            ),
            lambda found: self.timers.show_timers(*found),
        )

    def _on_period(self, model: PeriodModel, period_s: float) -> None:
        if self.results is not None:
            change = model.change(period_s, self.controller.project, self.results.run.name)
            self.controller.apply(plan_edits.add_change(change), f"plan: {change.name}")
            self.controller.noted.emit(f"{change.name} is in the plan.")

    def _show_limits(self) -> None:
        limits = self.controller.project.plan.limits
        for field, edit in self.limits.items():
            edit.set_value(getattr(limits, field))
        over = over_limits(self.controller.project, self.results.run.name) if self.results is not None else {}
        self.together.setVisible(bool(over))
        words: dict[str, Callable[[float], str]] = {
            "latency": lambda late_s: f"added latency {duration_text(late_s)}",
            "accuracy": lambda share: f"lost accuracy {format_trimmed(100 * share)} %",
            "memory": lambda size: f"memory {format_trimmed(size)} B",
        }
        self.together.setText("Over a limit: " + ", ".join(words[one](value) for one, value in over.items()))
        self.together.setStyleSheet(f"color: {self.look.theme.warning_text.name()}")

    def _show_broken(self) -> None:
        lines = []
        if self.found is not None:
            lines += [broken.words for broken in self.found.matrix.broken]
            lines += self.found.leads
        more = len(lines) - _MOST_LINES
        shown = lines[:_MOST_LINES]
        if more > 0:
            shown[-1] += f" And {more} more."
        self.broken.setText("\n".join(shown))
        self.broken.setToolTip(tip("\n".join(lines)))
        self.broken.setVisible(bool(lines))

    def _on_planned(self, part: str, mode: str, state: str) -> None:
        cell = self.found.matrix.cell(part, state) if self.found is not None else None
        if cell is None or self.results is None:
            return
        edit = plan_edits.plan_part(part, mode, state, cell.mode, self.results.run.name)
        self.controller.apply(edit, f"plan {part} {mode} in {state}")

    def _on_power(self, name: str, state: str, on: bool) -> None:
        mode = self.found.mode_of.get(state, "") if self.found is not None else ""
        if not mode:
            self.controller.noted.emit(f"{state} is no sleep mode: everything is on in it.")
            return
        self.controller.apply(plan_edits.set_power(name, mode, on=on), f"{name} {'on' if on else 'off'} in {mode}")

    def _on_added(self, offer: SuggestedChange) -> None:
        self.controller.apply(plan_edits.add_change(offer.change), f"plan: {offer.change.name}")

    def _on_toggled(self, change: PlannedChange) -> None:
        chosen = tuple(one for one in self.ahead if one != change) if change.is_planned else (*self.ahead, change)
        self.controller.apply(
            plan_edits.choose_changes(chosen, (*self.ahead, change)), f"plan with and without {change.name}"
        )

    def _on_limit(self, field: str, value: float | None) -> None:
        limits = self.controller.project.plan.limits
        known = {name: getattr(limits, name) for name in PlanLimits.__struct_fields__}
        self.controller.apply(plan_edits.set_limits(PlanLimits(**{**known, field: value})), "limit what the plan costs")

    def _candidates(self) -> tuple[PlannedChange, ...]:
        """Return all changes that the run does not contain, in the plan or beside it."""
        beside = tuple(one for one in self.controller.project.plan.changes if not one.is_planned and not one.proved_by)
        return (*self.ahead, *beside)

    def search(self) -> None:
        """Find the fewest changes that meet the target, and leave only them in the plan."""
        session, results = self.controller.session, self.results
        if session is None or results is None:
            return
        project, name, changes = session.project, results.run.name, self._candidates()
        self.controller.work(
            "search",
            "looking for the smallest set",
            lambda should_stop, _progress: session.tuning.smallest_set(project, name, changes, should_stop),
            lambda found: self._on_searched(found, changes),
        )

    def _on_searched(self, found: SmallestSet | None, changes: tuple[PlannedChange, ...]) -> None:
        if found is None:
            self.controller.noted.emit("There is no target: enter one on the Battery page.")
        elif found.changes is None:
            self.controller.noted.emit(
                f"No set of these {counted(len(changes), 'change')} meets the target within the limits; "
                f"the lowest average is {quantity_text(found.mean_a, 'A')}."
            )
        elif not found.changes:
            self.controller.noted.emit("The target is met without any change.")
        else:
            self.controller.apply(plan_edits.choose_changes(found.changes, changes), "plan the smallest set")
            names = ", ".join(one.name for one in found.changes)
            how = (
                ""
                if found.is_complete
                else " There are too many sets to try all of them: the best next change was added each time."
            )
            self.controller.noted.emit(f"{len(found.changes)} of {len(changes)} are enough: {names}.{how}")

    def order(self) -> None:
        """Put the plan in the order of what each change saves for its effort."""
        session, results = self.controller.session, self.results
        if session is None or results is None or not self.ahead:
            return
        project, name, ahead = session.project, results.run.name, self.ahead
        self.controller.work(
            "order",
            "ordering the plan",
            lambda should_stop, _progress: session.tuning.by_gain(project, name, ahead, should_stop),
            lambda order: self.controller.apply(plan_edits.order_changes(order), "order the plan by gain"),
        )

    def new_menu(self) -> QMenu:
        """Return the kinds of changes that can be typed."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        for title, change in new_changes(self.results, self.controller.project) if self.results is not None else ():
            menu.addAction(title, partial(self._add_new, change))
        return menu

    def open_new(self) -> None:
        """Open what kind of change is to be typed."""
        button = self.buttons["new"]
        self.new_menu().popup(button.mapToGlobal(button.rect().bottomLeft()))

    def _add_new(self, change: PlannedChange) -> None:
        self.controller.apply(plan_edits.add_change(change), f"plan: {change.name}")
        self.editor.show_change(change, self.controller.project)

    def _on_claim(self, text: str) -> None:
        session, results = self.controller.session, self.results
        self.claim.show_verdict(None)
        if not text or session is None or results is None:
            return
        project, name = session.project, results.run.name

        def work(should_stop: Callable[[], bool], _progress: object) -> ClaimResult:
            return session.tuning.claim(project, text, name, PLAN, should_stop)

        self.controller.work("claim", "checking a claim", work, self.claim.show_verdict)

    def _show_proof(self, proof: object) -> None:
        self.proof.choose(proof)
        self.show_view("proof")

    def show_view(self, view: str) -> None:
        """Show one of the views."""
        self.view = view
        self.stacked.setCurrentIndex(VIEWS.index(view))
        self.claim.setVisible(view != SWEEP)
        self._show_timers()
        self._read_waveform()
        if view == SWEEP:
            self.sweep.look_at()
            self.sweep.points.setFocus()
        self.header_changed.emit()

    def switches(self) -> tuple[Switch, ...]:
        view = Switch("View", VIEWS, self.view, self.show_view)
        names = tuple(name for name, _ in self.sweep.sweeps.names)
        if self.view != SWEEP or len(names) < 2:
            return (view,)
        shown = self.sweep.result
        own = ", ".join(one.name for one in shown.recipe.parameters) if shown is not None else ""
        chosen = f"{own} {shown.recipe.note}".strip() if shown is not None else names[0]
        return (view, Switch("Of", names[:3], chosen, self.sweep.choose_sweep))

    def sentence(self) -> str:
        if self.view == SWEEP:
            return self.sweep.sentence()
        found = self.found
        if self.results is None:
            return "A capture and its states are what a plan starts from."
        if found is None:
            return "Working out the plan …"
        count = len(found.steps)
        now, then = (
            signed(bound, quantity_text(value, "A").rich)
            for value, bound in (
                (found.mean_a, self.results.load.bound),
                (found.predicted.mean_a, found.predicted.load.bound),
            )
        )
        if not count:
            target = ""
            if found.budget_a is not None:
                gap_a = found.mean_a - found.budget_a
                much = quantity_text(abs(gap_a), "A").rich
                target = f", {much} {'above' if gap_a > 0 else 'below'} the target"
            offered = len(found.suggestions)
            more = f" {counted(offered, 'change')} offered." if offered else ""
            return f"{self.results.run.name} draws {now}{target}; no change is planned.{more}"
        changes = "One change brings" if count == 1 else f"**{count}** changes bring"
        life = signed(found.life.bound, months_text(found.life.life_s).rich)
        words = f"{changes} the average from {now} to {then}: {life}"
        if found.target_s is not None and found.life.chance is not None:
            goal = months_text(found.target_s).number
            words += f"; chance of reaching **{goal}** months: {percent_text(found.life.chance).rich}"
        return words + "."

    def warning(self) -> str:
        return self.sweep.warning() if self.view == SWEEP else tune_doubt(self.found)

    def link(self) -> LinkFigure:
        return tune_link(self.results, self.found)
