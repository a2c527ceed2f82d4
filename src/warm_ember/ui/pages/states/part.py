"""What the views below the lanes of the States page have in common."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLabel, QWidget

from warm_ember.session.records import ShouldStop
from warm_ember.session.run_results import RunResults
from warm_ember.session.session import Session
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController

Work = Callable[[Session, ShouldStop], Any]


class StatesPart(QWidget):
    """A view that works out what it shows when it is open.

    Signals
    -------
    changed
        The sentence is no longer as it was.
    stretch_asked
        From and to, s: something is to be looked at on the lanes.
    """

    changed = Signal()
    stretch_asked = Signal(float, float)
    name = ""

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.controller, self.look = controller, look
        self.results: RunResults | None = None

    def set_results(self, results: RunResults | None) -> None:
        """Show another run, or the same after an edit."""
        self.results = results
        self.refresh()

    def refresh(self) -> None:
        """Work out anew what is shown, if anybody sees it."""
        self.controller.jobs.stop(self._subject)
        if self.results is None:
            self.show_nothing()
        elif self.isVisible():
            self.ask()

    def showEvent(self, event: object) -> None:
        self.refresh()

    def ask(self) -> None:
        """Work out what is shown."""

    def show_nothing(self) -> None:
        """Show that there is no run."""

    def sentence(self) -> str:
        """Return the sentence that answers the view's question, as rich text."""
        return ""

    def text(self) -> str:
        """Return what is shown as tab-separated text."""
        return ""

    @property
    def _subject(self) -> str:
        return f"states {self.name}"

    def work(self, work: Work, then: Callable[[Any], None]) -> None:
        """Do something in the background for the run that is shown."""
        session = self.controller.session
        if session is None:
            return
        self.controller.work(
            self._subject, f"looking at {self.name}", lambda should_stop, _progress: work(session, should_stop), then
        )

    def small(self, words: str = "") -> QLabel:
        """Return a label in the small size."""
        label = Label(words)
        label.setFont(self.look.font("small"))
        return label
