"""The lanes with what stands below them: the bracket tray, or the inside of the chosen bracket."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember.ui.lanes.current import Threshold
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.trace.bracket_controller import BracketController
from warm_ember.ui.pages.trace.bracket_histogram import InsideView
from warm_ember.ui.pages.trace.bracket_panel import BracketPanel
from warm_ember.ui.pages.trace.bracket_tray import BracketTray
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.view_stack import ViewStack

_TRAY = 170


class LanesView(QWidget):
    """Lanes above, the reading of brackets below."""

    def __init__(
        self,
        controller: ProjectController,
        look: Appearance,
        window: TimeWindow,
        book: BracketController,
        actions: tuple[tuple[str, str, Callable[[], None]], ...],
    ) -> None:
        super().__init__()
        self.look, self.book = look, book
        self.stack = LaneStack(look, window, with_flags=True, folded=("Voltage", "Power"))
        self.tray = BracketTray(look, window)
        self.inside = InsideView(look, controller)
        self.panel = BracketPanel(look, book, actions)
        self._build()
        self._connect()

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.stack, 1)
        self._below = QWidget()
        self._below.setFixedHeight(self.look.px(_TRAY))
        row = QHBoxLayout(self._below)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.tray)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._views = ViewStack()
        self._views.addWidget(scroll)
        self._views.addWidget(self.inside)
        row.addWidget(self._views, 1)
        row.addWidget(self.panel)
        layout.addWidget(self._below)

    def _connect(self) -> None:
        current, book = self.stack.current, self.book
        current.bracket_drawn.connect(book.add)
        current.bracket_moved.connect(book.move)
        current.bracket_dropped.connect(lambda _letter: book.remove())
        current.bracket_chosen.connect(book.choose)
        self.tray.bracket_chosen.connect(book.choose)
        self.tray.bracket_asked.connect(self.go_to)
        if self.stack.flags is not None:
            self.stack.flags.bracket_chosen.connect(book.choose)
        self.panel.left.connect(current.setFocus)
        self.inside.shown.connect(self._show_threshold)
        book.changed.connect(self.refresh)
        self.look.changed.connect(lambda: self._below.setFixedHeight(self.look.px(_TRAY)))

    @property
    def shows_inside(self) -> bool:
        """Whether the inside of the chosen bracket stands below the lanes."""
        return self._views.currentWidget() is self.inside

    def show_inside(self, shown: bool) -> None:
        """Show the inside of the chosen bracket below the lanes, or the tray."""
        self._views.setCurrentIndex(1 if shown else 0)
        self.refresh()
        self._show_threshold()

    def _show_threshold(self) -> None:
        """Draw the threshold of the peaks on the trace while they are looked at."""
        inside = self.inside.inside if self.shows_inside else None
        threshold = None
        if inside is not None:
            threshold = Threshold(inside.bracket.from_s, inside.bracket.to_s, inside.threshold_a)
        self.stack.current.set_threshold(threshold)

    def refresh(self) -> None:
        """Show the brackets as the book has them."""
        book = self.book
        brackets = book.brackets
        readings = {bracket.letter: book.reading(bracket) for bracket in brackets}
        means = {bracket.letter: book.mean(bracket) for bracket in brackets}
        self.stack.current.set_brackets(brackets, book.chosen)
        if self.stack.flags is not None:
            doubts = {bracket.letter: book.doubts_of(bracket) for bracket in brackets}
            self.stack.flags.set_brackets(brackets, readings, book.chosen, doubts, means)
        self.tray.set_brackets(brackets, list(readings.values()), list(means.values()), book.chosen)
        if self.shows_inside:
            self.inside.show_bracket(book.results, book.chosen_bracket)

    def go_to(self, letter: str) -> None:
        """Show a bracket in the lanes."""
        bracket = next((b for b in self.book.brackets if b.letter == letter), None)
        if bracket is not None:
            margin = 0.6 * (bracket.to_s - bracket.from_s)
            self.stack.window_on_time.show(bracket.from_s - margin, bracket.to_s + margin)
