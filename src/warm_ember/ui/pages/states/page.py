"""The States page: the lanes with the ribbon, which is painted by hand, and below them the views on the states."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QVBoxLayout

from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.model.rules import HandRule
from warm_ember.session.page_links import LinkFigure, states_doubt, states_link, unplaced_doubt
from warm_ember.session.run_results import RunResults
from warm_ember.session.state_results import unplaced_stretch_s
from warm_ember.ui.lanes.ribbon import Block
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.pages.states.clock_view import ClockView
from warm_ember.ui.pages.states.functions_view import FunctionsView
from warm_ember.ui.pages.states.ledger_part import LedgerPart
from warm_ember.ui.pages.states.levels_view import LevelsView
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.pages.states.sleep_agreement_view import SleepAgreementView
from warm_ember.ui.pages.states.transitions_view import TransitionsView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack

_LANE = 122
_AROUND = 0.5


class StatesPage(Page):
    """States, their ledger and their rules.

    Signals
    -------
    trace_asked
        Something is to be looked at on the lanes.
    """

    title = "States"
    trace_asked = Signal()

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self._window = window
        folded = ("Lines", "Charge so far", "Voltage", "Power")
        self.stack = LaneStack(look, window, with_flags=False, folded=folded)
        self.stack.current.setMinimumHeight(look.px(_LANE))
        self.part = LedgerPart(controller, look)
        self.levels = LevelsView(controller, look)
        self.transitions = TransitionsView(controller, look)
        self.agreement = SleepAgreementView(controller, look)
        self.functions = FunctionsView(controller, look)
        self.clock = ClockView(controller, look)
        self.ledger, self.editor = self.part.ledger, self.part.editor
        parts: tuple[StatesPart, ...] = (
            self.part, self.levels, self.transitions, self.agreement, self.functions, self.clock
        )  # fmt: skip
        self.views = {part.name: part for part in parts}
        self._stacked = ViewStack()
        for part in parts:
            self._stacked.addWidget(part)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.stack, 2)
        layout.addWidget(self._stacked, 5)
        self._connect()
        self._make_actions()

    def _connect(self) -> None:
        self.part.state_asked.connect(self.choose)
        self.part.previewed.connect(self.stack.ribbon.set_preview)
        self.stack.ribbon.state_chosen.connect(self.choose)
        self.stack.ribbon.painted.connect(self._paint)
        self.stack.current.bracket_drawn.connect(self._on_stretch)
        for part in self.views.values():
            part.changed.connect(self.header_changed)
            part.stretch_asked.connect(self.show_stretch)

    def _make_actions(self) -> None:
        self._actions = [self.make_action("Copy what stands below the lanes as text", "Ctrl+C", self._copy)]
        for text, keys, slot in (
            ("Give the block another state", "R", self._relabel),
            ("Split the block at the cursor", "K", self._split),
            ("Join the block with the one before", "M", partial(self._merge, -1)),
            ("Join the block with the one after", "Shift+M", partial(self._merge, 1)),
        ):
            self._actions.append(self.make_action(text, keys, slot))
        for number, name in enumerate(self.views, 1):
            words = f"States: {name}"
            self._actions.append(self.make_action(words, f"Ctrl+{number}", partial(self.show_view, name)))
        self.addActions(self.stack.actions_for_menu())

    def _copy(self) -> None:
        copy_text(self.views[self.view].text())

    def page_actions(self) -> list[QAction]:
        return self._actions

    @property
    def view(self) -> str:
        """The view that is open."""
        return next(name for name, part in self.views.items() if part is self._stacked.currentWidget())

    def show_view(self, name: str) -> None:
        """Open a view."""
        self._stacked.setCurrentWidget(self.views[name])
        self.header_changed.emit()

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self.stack.set_results(results)
        self.stack.set_notes(self.notes_of(results))
        for part in self.views.values():
            part.set_results(results)
        self.choose(self.part.chosen)

    def choose(self, state: str) -> None:
        """Open a state's row; an empty name closes it."""
        self.part.choose(state)
        chosen = self.part.chosen
        names = self.results.placement.names if self.results is not None else ()
        self.functions.filter_state(chosen if chosen in names else None)
        if chosen == UNPLACED_NAME:
            self._show_unplaced()
        elif not chosen:
            self.stack.current.set_highlight(None)
        self.header_changed.emit()

    def _show_unplaced(self) -> None:
        if self.results is None:
            return
        longest_s = unplaced_stretch_s(self.results)
        if longest_s is not None:
            self.stack.current.set_highlight(longest_s)

    def show_stretch(self, from_s: float, to_s: float) -> None:
        """Show a stretch in the lanes, with a little on both sides."""
        margin = _AROUND * (to_s - from_s) + 4 * self._window.interval_s
        self._window.show(from_s - margin, to_s + margin)
        self.stack.current.set_highlight((from_s, to_s))

    def _on_stretch(self, from_s: float, to_s: float) -> None:
        """Take a stretch drawn on the lane for placing by hand."""
        self.show_view("ledger")
        self.stack.current.set_highlight((from_s, to_s))
        self.editor.set_bracket((from_s, to_s))
        if not self.part.chosen and self.results is not None:
            self.choose(self.stack.ribbon.state_at((from_s + to_s) / 2))
        self.editor.kinds["by hand"].click()

    def _paint(self, state: str, from_s: float, to_s: float) -> None:
        """Place a stretch by hand."""
        if self.results is not None and state != UNPLACED_NAME and to_s > from_s:
            self.part.place(HandRule(state, self.results.run.name, from_s, to_s))

    def _block(self) -> Block | None:
        block = self.stack.ribbon.chosen
        if block is None:
            self.controller.noted.emit("Choose a block of the ribbon first.")
        return block

    def _relabel(self) -> None:
        block = self._block()
        if block is not None:
            self._on_stretch(block.from_s, block.to_s)
            self.editor.as_edit.setFocus()
            self.editor.as_edit.selectAll()

    def _split(self) -> None:
        block, at_s = self._block(), self._window.cursor_s
        if block is None:
            return
        if at_s is None or not block.from_s < at_s < block.to_s:
            self.controller.noted.emit("Point at the place in the chosen block where it shall be split.")
            return
        known = self.results.placement.names if self.results is not None else ()
        number = next(n for n in range(2, len(known) + 3) if f"{block.state} {n}" not in known)
        self._paint(f"{block.state} {number}", at_s, block.to_s)

    def _merge(self, step: int) -> None:
        block = self._block()
        if block is None:
            return
        neighbour = self.stack.ribbon.neighbour(block, step)
        if neighbour is None or neighbour.state == UNPLACED_NAME:
            self.controller.noted.emit("There is no state on that side to join it with.")
            return
        self._paint(neighbour.state, block.from_s, block.to_s)

    def sentence(self) -> str:
        if self.results is None:
            return "States appear with the first capture."
        return self.views[self.view].sentence()

    def warning(self) -> str:
        project = self.controller.project
        return unplaced_doubt(self.results, project) if self.view == "clock" else states_doubt(self.results, project)

    def switches(self) -> tuple[Switch, ...]:
        if self.results is None:
            return ()
        return (Switch("View", tuple(self.views), self.view, self.show_view),)

    def link(self) -> LinkFigure:
        return states_link(self.results, self.warning())
