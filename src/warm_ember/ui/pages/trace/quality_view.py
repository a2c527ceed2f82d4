"""Data quality: what in a capture cannot be trusted, what that does to the figures, and the step that mends it."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QPoint, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QMenu, QScrollArea, QVBoxLayout, QWidget

from warm_ember.model.figure import Bound
from warm_ember.session.correcting import Entered, adopt_as_condition
from warm_ember.session.joining import join_captures
from warm_ember.session.new_capture import free_name
from warm_ember.session.quality_results import FaultRow, Mend, QualityShown
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.lanes.whole_capture import WholeCaptureLane
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.trace.corrections_panel import CorrectionsPanel
from warm_ember.ui.pages.trace.fault_row import MENDS, FaultColumns, FaultRowView, has_steps_beside
from warm_ember.ui.pages.trace.fault_strip import FaultStrip
from warm_ember.ui.pages.trace.place_view import PassedCard
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.layouts import clear_layout
from warm_ember.units import counted

BY_EFFECT, BY_TIME = "by effect", "by time"
_RIGHT = Qt.AlignmentFlag.AlignRight


class QualityView(QWidget):
    """Faults and what passed at the left, over the whole capture; corrections at the right.

    Signals
    -------
    finding_asked
        A finding whose place is to be shown.
    stretch_asked
        ``(from_s, to_s)`` of the whole cycles.
    page_asked
        The title of the page where the next step is.
    changed
        Other faults are shown, or in another order.
    """

    finding_asked = Signal(object)
    stretch_asked = Signal(float, float)
    page_asked = Signal(str)
    changed = Signal()

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__()
        self.controller, self.look, self._window = controller, look, window
        self.results: RunResults | None = None
        self.shown: QualityShown | None = None
        self.order = BY_EFFECT
        self.rows: list[FaultRowView] = []
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._build_left(), 27)
        self.corrections = CorrectionsPanel(controller, look)
        self.corrections.baseline_asked.connect(lambda: self.page_asked.emit("Bench"))
        layout.addWidget(self.corrections, 13)

    def _build_left(self) -> QScrollArea:
        px = self.look.px
        inner = QWidget()
        column = QVBoxLayout(inner)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.heads = _Heads(self.look)
        column.addWidget(self.heads)
        self._list = QVBoxLayout()
        self._list.setSpacing(0)
        column.addLayout(self._list)
        self.waiting = Label("Looking for clipping, noise, hum, short pulses, range changes and a cut-off end …")
        self.waiting.setWordWrap(True)
        self.waiting.setContentsMargins(px(16), px(12), px(16), px(12))
        column.addWidget(self.waiting)
        column.addWidget(self._build_looked_at(), 1)
        column.addStretch(0)
        self.strip = FaultStrip(self.look, self._window)
        column.addWidget(self.strip)
        self.whole = WholeCaptureLane(self.look, self._window, 76)
        column.addWidget(self.whole)
        column.addWidget(self._build_passed())
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(inner)
        return scroll

    def _build_passed(self) -> QWidget:
        px = self.look.px
        self.passed = QWidget()
        column = QVBoxLayout(self.passed)
        column.setContentsMargins(px(16), px(8), px(16), px(10))
        column.setSpacing(px(4))
        column.addWidget(Label("Passed"))
        self._facts = QGridLayout()
        self._facts.setHorizontalSpacing(px(10))
        self._facts.setVerticalSpacing(px(8))
        column.addLayout(self._facts)
        return self.passed

    def _build_looked_at(self) -> QWidget:
        px = self.look.px
        self.looked_at = QWidget()
        self._cards = QGridLayout(self.looked_at)
        self._cards.setContentsMargins(px(16), px(12), px(8), px(4))
        self._cards.setHorizontalSpacing(px(20))
        self._cards.setVerticalSpacing(px(12))
        return self.looked_at

    def set_results(self, results: RunResults | None) -> None:
        """Show another run."""
        self.results = results
        self.setEnabled(results is not None)
        self.whole.set_results(results)
        self.corrections.set_results(results)
        if results is None:
            self._show(None)

    def showEvent(self, event: object) -> None:
        self.ask()

    def ask(self) -> None:
        """Have what is shown worked out, once somebody looks at it."""
        session, results = self.controller.session, self.results
        if session is None or results is None or not self.isVisible():
            return
        project, name = session.project, results.run.name
        self.controller.work(
            "data quality",
            f"looking for faults in {name}",
            lambda should_stop, _progress: session.quality.shown(project, name, should_stop),
            self._show,
        )

    def show_order(self, order: str) -> None:
        """Put what matters most first, or what comes first."""
        self.order = order
        self._show(self.shown)

    def _show(self, shown: QualityShown | None) -> None:
        self.shown = shown
        clear_layout(self._list)
        rows = () if shown is None else shown.by_effect if self.order == BY_EFFECT else shown.rows
        self.rows = [FaultRowView(self.look, self._window, row, number) for number, row in enumerate(rows, 1)]
        for view in self.rows:
            view.evidence.place_asked.connect(self.finding_asked)
            view.mend_asked.connect(self._mend)
            self._list.addWidget(view)
        self.waiting.setVisible(shown is None and self.results is not None)
        self.heads.setVisible(bool(rows))
        self.strip.show_rows(rows)
        self._show_passed()
        self.changed.emit()

    def _show_passed(self) -> None:
        clear_layout(self._facts)
        clear_layout(self._cards)
        checks = self.shown.passed if self.shown is not None else ()
        self.passed.setVisible(bool(checks and self.rows))
        self.looked_at.setVisible(bool(checks and not self.rows))
        for place, check in enumerate(checks):
            row, group = divmod(place, 2)
            if not self.rows:
                self._cards.addWidget(PassedCard(self.look, check), row, group)
                continue
            for cell, words in enumerate(("✓", check.what, check.words)):
                label = Label(words)
                label.setAlignment(Qt.AlignmentFlag.AlignTop)
                label.setWordWrap(cell == 2)
                label.setFont(self.look.font("small"))
                if cell != 1:
                    label.setStyleSheet(f"color: {self.look.theme.dim.name()};")
                self._facts.addWidget(label, row, 3 * group + cell)
        for group in range(2):
            self._facts.setColumnStretch(3 * group + 2, 1)

    def verdict(self) -> str:
        """Return the sentence that answers whether the figures hold, as rich text."""
        results, shown = self.results, self.shown
        if results is None or shown is None:
            return ""
        mean = results.ledger.mean
        worst = next(iter(shown.by_effect), None)
        if mean.bound is not None and worst is not None:
            side = "a lower" if mean.bound is Bound.AT_LEAST else "an upper"
            return f"The mean is {side} bound: {worst.word} in {counted(len(worst.findings), 'place')}."
        if worst is not None:
            told = ", ".join(filter(None, (worst.mean.words, worst.mean.of)))
            return f"What matters most is **{worst.word}**: mean {told}."
        return ""

    def text(self) -> str:
        """Return faults, what passed and what corrections do as text."""
        lines = [view.evidence.words() for view in self.rows]
        lines += [f"passed: {fact.what}: {fact.words}" for fact in (self.shown.passed if self.shown else ())]
        return "\n".join([*lines, self.corrections.floor.words(), self.corrections.outcome.words()])

    def _mend(self, mend: Mend, row: FaultRow) -> None:
        if mend is Mend.JOIN:
            self.ask_for_partner()
        elif mend is Mend.CYCLES and self.results is not None and self.results.window is not None:
            self.stretch_asked.emit(self.results.window.from_s, self.results.window.to_s)
        elif mend is Mend.CORRECT:
            self.corrections.enter({"other load": Entered(row.added_a, row.text.split(" to the reading")[0])})
            self.corrections.correct_button.setFocus()
        else:
            self.page_asked.emit("States" if mend is Mend.CLOCK else "Bench")

    def ask_for_partner(self) -> None:
        """Ask which capture of the same activity supplies the clipped bursts."""
        menu = self.partners()
        if menu.isEmpty():
            self.controller.noted.emit("There is no other capture yet: record the same activity on a higher range.")
        else:
            menu.popup(self.mapToGlobal(QPoint(self.width() // 2, self.look.px(160))))

    def partners(self) -> QMenu:
        """Return a menu of the captures that this one can be joined with."""
        menu = QMenu(self)
        for run in self.controller.project.runs:
            if self.results is not None and run.name != self.results.run.name:
                menu.addAction(run.label).triggered.connect(partial(self._join_chosen, run.name))
        return menu

    def _join_chosen(self, other: str, _checked: bool = False) -> None:
        self.join(other)

    def join(self, other: str) -> None:
        """Join a capture into this one, as a new one, and show it."""
        results, session = self.results, self.controller.session
        if results is None or session is None:
            return
        name, new_name = results.run.name, free_name(session, f"{results.run.name} and {other}")
        self.controller.work(
            "join",
            f"joining {name} and {other}",
            lambda should_stop, progress: join_captures(
                session, name, other, new_name, should_stop=should_stop, progress=progress
            ),
            lambda report: self.controller.adopt(
                report, lambda s, r: adopt_as_condition(s, r, name, f"joined with {other}")
            ),
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if ctrl and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.corrections.correct()
        else:
            super().keyPressEvent(event)


class _Heads(QWidget):
    """The heads above the rows."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.setFixedHeight(look.px(28))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        beside = px(MENDS + 8) if has_steps_beside(look, self.width()) else 0
        columns, height = FaultColumns(look, self.width() - beside), self.height()
        heads = [(columns.text_left, "fault")]
        if columns.picture.width():
            heads.append((columns.picture.left(), "the place"))
        for x, words in heads:
            draw_rich_text(painter, QRectF(x, 0, px(120), height), words, look, size="small")
        for column, words in enumerate(("mean", "charge of state", "life")):
            box = columns.figure_box(column, 0, height)
            draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
        if beside:
            steps = QRectF(self.width() - px(MENDS - 4), 0, px(MENDS - 4), height)
            draw_rich_text(painter, steps, "step that mends it", look, size="small")
        painter.setPen(theme.rule)
        painter.drawLine(0, height - 1, self.width(), height - 1)
        painter.end()
