"""The fold: all cycles of a repeating activity on top of each other, its steps, and the odd ones."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from warm_ember.model.fold import AlignBy, FoldPlan
from warm_ember.session import edits
from warm_ember.session.fold_results import FoldedCycles, fold_run, ways_to_fold
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.trace.fold_plot import FoldPlot, step_name
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, format_trimmed, percent_text, quantity_text


class FoldView(QWidget):
    """Choose what to align on, see the mean occurrence, its steps and the cycles that differ.

    Signals
    -------
    changed
        Another fold is shown.
    cycle_asked
        ``(from_s, to_s)`` of a cycle to be shown in the lanes.
    """

    changed = Signal()
    cycle_asked = Signal(float, float)

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__()
        self.controller, self.look, self._window = controller, look, window
        self.results: RunResults | None = None
        self.folded: FoldedCycles | None = None
        self.problem = ""
        self._plans: tuple[FoldPlan, ...] = ()
        self._wanted: tuple[RunResults, FoldPlan] | None = None
        self.plot = FoldPlot(look)
        self.steps = FigureTable(look, ("step", "length", "mean", "charge", "share"), editable=0, sortable=False)
        self.odd = FigureTable(look, ("odd one at", "charge", "differs by", "spreads"))
        self._build()
        self._connect()

    def _build(self) -> None:
        px = self.look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._build_choices())
        column.addWidget(self.plot, 1)
        below = QWidget()
        below.setObjectName("panel")
        below.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        below.setFixedHeight(px(196))
        row = QHBoxLayout(below)
        row.setContentsMargins(px(16), px(4), px(16), px(4))
        row.setSpacing(px(24))
        row.addWidget(self.steps, 3)
        row.addWidget(self.odd, 2)
        column.addWidget(below)

    def _build_choices(self) -> QWidget:
        px, look = self.look.px, self.look
        bar = QWidget()
        row = QHBoxLayout(bar)
        row.setContentsMargins(px(16), px(6), px(16), px(2))
        row.setSpacing(px(8))
        self.align = QComboBox()
        self.align.setAccessibleName("Align the cycles on")
        self.align.setMinimumWidth(px(220))
        self.threshold = QuantityEdit(look, "A", "Threshold")
        self.period = QuantityEdit(look, "s", "Period", low=1e-9)
        self.before = QuantityEdit(look, "s", "Shown before the alignment")
        self.length = QuantityEdit(look, "s", "Length of a cycle", low=1e-9)
        self._labels: dict[str, QLabel] = {}
        row.addWidget(self._label("align on"))
        row.addWidget(self.align)
        for words, edit in (
            ("threshold", self.threshold),
            ("period", self.period),
            ("before", self.before),
            ("length", self.length),
        ):
            row.addSpacing(px(8))
            row.addWidget(self._label(words))
            row.addWidget(edit)
        row.addStretch(1)
        self.find_steps = QPushButton("Find the steps anew")
        self.find_steps.setToolTip("Drop the edges set by hand and cut the occurrence where its level changes")
        row.addWidget(self.find_steps)
        return bar

    def _label(self, words: str) -> QLabel:
        label = Label(words)
        self._labels[words] = label
        return label

    def _connect(self) -> None:
        self.align.activated.connect(self._on_align)
        self.threshold.value_entered.connect(lambda value: self._change(threshold_a=value))
        self.period.value_entered.connect(lambda value: self._change(period_s=value))
        self.before.value_entered.connect(lambda value: self._change(before_s=value))
        self.length.value_entered.connect(lambda value: self._change(length_s=value))
        self.plot.edges_changed.connect(self._on_edges)
        self.plot.step_chosen.connect(self.steps.selectRow)
        self.find_steps.clicked.connect(lambda: self._change(edges_s=None, names=()))
        self.steps.cell_renamed.connect(self._on_renamed)
        self.odd.row_asked.connect(self._on_odd)

    @property
    def plan(self) -> FoldPlan | None:
        """How the current capture is folded."""
        if self.results is None:
            return None
        return self.controller.project.fold_of(self.results.run.name) or self.results.fold_plan

    def set_results(self, results: RunResults | None) -> None:
        """Show another run, or the same after an edit; folding begins when the view is seen."""
        self.results = results
        if results is None:
            self.folded, self._wanted = None, None
            self.plot.show_fold(None, (), ())
            self.steps.show_rows([])
            self.odd.show_rows([])
        else:
            self._fill_choices(results)
        self._show_plan()
        if self.isVisible():
            self.compute()

    def showEvent(self, event: object) -> None:
        self.compute()

    def _fill_choices(self, results: RunResults) -> None:
        plans = ways_to_fold(results)
        if plans != self._plans:
            self._plans = plans
            self.align.clear()
            self.align.addItems([plan_words(plan) for plan in plans])

    def _show_plan(self) -> None:
        plan = self.plan
        self.setEnabled(plan is not None)
        if plan is None:
            return
        at = next((k for k, known in enumerate(self._plans) if _kind(known) == _kind(plan)), -1)
        self.align.setCurrentIndex(at)
        for name, edit, shown in (
            ("threshold", self.threshold, plan.by is AlignBy.THRESHOLD),
            ("period", self.period, plan.by is AlignBy.PERIOD),
        ):
            self._labels[name].setVisible(shown)
            edit.setVisible(shown)
        self.threshold.set_value(plan.threshold_a)
        self.period.set_value(plan.period_s)
        self.before.set_value(plan.before_s)
        self.length.set_value(plan.length_s)
        self.threshold.setPlaceholderText("found")
        self.period.setPlaceholderText("found")

    def compute(self) -> None:
        """Fold in the background, unless it is what is shown."""
        results, plan = self.results, self.plan
        if results is None or plan is None or self.controller.session is None:
            return
        if self._wanted is not None and self._wanted[0] is results and self._wanted[1] == plan:
            self._show_steps()
            return
        self._wanted = (results, plan)
        session, project = self.controller.session, self.controller.project

        self.controller.jobs.run(
            "fold",
            "folding the cycles",
            lambda should_stop, _progress: fold_run(session, project, results.run.name, plan, should_stop),
            self._on_folded,
            self._on_failed,
        )

    def _on_folded(self, folded: FoldedCycles) -> None:
        self.folded, self.problem = folded, ""
        if folded.plan.length_s is None:
            from_s, to_s = folded.edges_s
            self.length.set_value(to_s - from_s)
        self.odd.show_rows(
            [
                (
                    (self._window.label(odd.time_s, 30.0), odd.time_s),
                    (str(quantity_text(odd.charge_c, "C")), odd.charge_c),
                    (str(quantity_text(odd.difference_c, "C")), odd.difference_c),
                    (format_trimmed(abs(odd.spreads), 2), abs(odd.spreads)),
                )
                for odd in folded.odd
            ]
            or [(("none stands apart", ""), ("", ""), ("", ""), ("", ""))]
        )
        self._show_steps()

    def _on_failed(self, error: Exception) -> None:
        self.folded = None
        self.plot.show_fold(None, (), ())
        self.steps.show_rows([])
        self.odd.show_rows([])
        self.problem = getattr(error, "one_line", "the cycles could not be folded")
        self.changed.emit()

    def _show_steps(self) -> None:
        plan, folded = self.plan, self.folded
        if plan is None or folded is None:
            return
        steps = folded.steps(plan.edges_s)
        self.plot.show_fold(folded, steps, plan.names)
        self.steps.show_rows(
            [
                (
                    (step_name(plan.names, index), ""),
                    (str(duration_text(step.length_s)), step.length_s),
                    (str(quantity_text(step.mean_a, "A")), step.mean_a),
                    (str(quantity_text(step.charge_c, "C")), step.charge_c),
                    (str(percent_text(step.share)), step.share),
                )
                for index, step in enumerate(steps)
            ]
        )
        self.changed.emit()

    def _change(self, **changes: object) -> None:
        plan = self.plan
        if plan is not None:
            changed = msgspec.structs.replace(plan, **changes)
            self.controller.apply(edits.set_fold(changed), f"fold on {plan_words(changed)}")

    def _on_align(self, index: int) -> None:
        if 0 <= index < len(self._plans) and self.plan is not None:
            chosen = msgspec.structs.replace(self._plans[index], before_s=self.plan.before_s)
            self.controller.apply(edits.set_fold(chosen), f"fold on {plan_words(chosen)}")

    def _on_edges(self, edges: tuple[float, ...]) -> None:
        self._change(edges_s=edges)

    def _on_renamed(self, index: int, text: str) -> None:
        plan, folded = self.plan, self.folded
        if plan is None or folded is None:
            return
        edges = plan.edges_s if plan.edges_s is not None else folded.found_edges_s
        names = [step_name(plan.names, k) for k in range(len(edges) + 1)]
        names[index] = text
        self._change(edges_s=edges, names=tuple(names))

    def _on_odd(self, index: int) -> None:
        if self.folded is not None and index < len(self.folded.odd):
            odd, (from_s, to_s) = self.folded.odd[index], self.folded.edges_s
            self.cycle_asked.emit(odd.time_s + from_s, odd.time_s + to_s)

    def sentence(self) -> str:
        """Return what the fold says, as rich text."""
        if self.results is None:
            return "Import a capture to fold its cycles."
        if self.problem:
            return self.problem[:1].upper() + self.problem[1:]
        if self.folded is None:
            return "Folding …"
        fold, odd = self.folded.fold, len(self.folded.odd)
        charge = quantity_text(fold.charge_c, "C").rich
        text = f"**{fold.cycles}** cycles on {plan_words(self.folded.plan)} take {charge} each"
        if fold.cycles > 1:
            one, many = quantity_text(fold.resolved_once_a, "A").rich, quantity_text(fold.resolved_a, "A").rich
            text += f"; one resolves {one}, all {many}"
        if not odd:
            return f"{text}."
        apart = "left out" if self.folded.fold.left_out else "stands apart" if odd == 1 else "stand apart"
        return f"{text}; **{odd}** {apart}."

    def leave_out_odd(self, option: str) -> None:
        """Leave the cycles that stand apart out of all figures, or count them."""
        self._change(leaves_out_odd=option == "left out")


def _kind(plan: FoldPlan) -> tuple[AlignBy, str, bool]:
    return plan.by, plan.what, plan.rising


def plan_words(plan: FoldPlan) -> str:
    """Return what cycles are aligned on."""
    edge = "rising" if plan.rising else "falling"
    return {
        AlignBy.WAKE: f"wakes by {plan.what}" if plan.what else "wakes",
        AlignBy.STATE: f"entries of {plan.what}",
        AlignBy.LINE: f"{plan.what} {edge}",
        AlignBy.THRESHOLD: f"a threshold, {edge}",
        AlignBy.PERIOD: "a fixed period",
    }[plan.by]
