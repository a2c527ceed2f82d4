"""What every page is: a view of the results that sends edits."""

from __future__ import annotations

from collections.abc import Callable
from enum import Enum
from pathlib import Path

from PySide6.QtCore import QPoint, Qt, Signal
from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QWidget

from warm_ember.model.project import Note
from warm_ember.session.page_links import LinkFigure
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.picture import save_picture
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch

OPEN_DATA_SET_KEY = "Ctrl+Shift+O"


class Missing(Enum):
    """What a page waits for."""

    CAPTURE = "capture"
    SECOND_RUN = "second run"
    PARTS = "parts"


class Page(QWidget):
    """Base of the pages.

    Signals
    -------
    header_changed
        Sentence, warning or switches are no longer as they were.
    page_asked
        The title of the page where the next step is.
    """

    title = ""
    shows_all_runs = False
    header_changed = Signal()
    page_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.controller, self.look = controller, look
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)

    def showEvent(self, event: object) -> None:
        if self.shows_all_runs:
            self.controller.show_runs(self, wanted=True)

    def hideEvent(self, event: object) -> None:
        if self.shows_all_runs:
            self.controller.show_runs(self, wanted=False)

    def take_focus(self) -> None:
        """Take the keyboard when the page is opened, so that its keys work and no field in it is chosen."""
        self.setFocus()

    def show_results(self, results: RunResults | None) -> None:
        """Show another run, or the same after an edit."""

    def notes_of(self, results: RunResults | None) -> tuple[Note, ...]:
        """Return what is noted of a run."""
        return self.controller.project.notes_of(results.run.name) if results is not None else ()

    def sentence(self) -> str:
        """Return the sentence that answers the page's question, as rich text."""
        return ""

    def warning(self) -> str:
        """Return why the page's figures cannot be trusted yet and what to do; empty when they can."""
        return ""

    def switches(self) -> tuple[Switch, ...]:
        """Return the page's view switches."""
        return ()

    def link(self) -> LinkFigure:
        """Return what the page's link shows."""
        return LinkFigure()

    def missing(self) -> Missing | None:
        """Return what the page waits for; None when it has what it needs."""
        project = self.controller.project
        return Missing.CAPTURE if self.controller.session is not None and not project.runs else None

    def page_actions(self) -> list[QAction]:
        """Return the page's own actions for the menus."""
        return []

    def save_picture(self, path: Path, width: int | None = None) -> None:
        """Write what the page shows to a file.

        Parameters
        ----------
        path
            Ending in ``.svg`` or ``.png``.
        width
            How wide it is to be, in pixels; as on the screen when None.

        Raises
        ------
        BadArgumentError
            If the ending is no picture's.
        BadFileError
            If it cannot be written.
        """
        save_picture(path, self.size(), self.title, lambda painter: self.render(painter, QPoint()), width=width)

    def make_action(self, text: str, keys: str, slot: Callable[[], object], on: QWidget | None = None) -> QAction:
        """Make an action whose key works while the page, or a part of it, has the keyboard."""
        action = QAction(text, self)
        action.setShortcut(QKeySequence(keys))
        action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        action.triggered.connect(lambda _checked=False: slot())
        (on or self).addAction(action)
        return action
