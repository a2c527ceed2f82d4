"""Taking tables and pictures out of the program: asking for a file, and writing it in the background."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QApplication, QFileDialog, QInputDialog, QWidget

from warm_ember.errors import WarmEmberError
from warm_ember.model.fold import FoldPlan
from warm_ember.report.writing import TABLE_ENDINGS, check_target
from warm_ember.ui.look.copying import copy_picture
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.picture import ENDINGS as PICTURE_ENDINGS
from warm_ember.ui.picture import MOST_WIDTH
from warm_ember.ui.project_controller import ProjectController

if TYPE_CHECKING:
    from warm_ember.ui.shell.report_sheet import ReportSheet

EXPORTS = {
    "capture": "The capture",
    "brackets": "The brackets",
    "notes": "The notes",
    "ledger": "The ledger",
    "crossings": "The transitions between states",
    "functions": "The charge by function",
    "wakes": "The wakes",
    "kinds": "The kinds of wakes",
    "fold": "The mean occurrence",
    "cycles": "The cycles of the fold",
    "findings": "The findings",
    "plan": "The plan",
    "battery": "The battery, for a source to play",
    "sources": "The wake sources",
    "idle": "The sleep modes",
    "quality": "Data quality",
    "activities": "The activities",
    "sensitivity": "What the life depends on",
    "years": "The life year by year",
    "effects": "What the life includes",
    "trade-offs": "The trade-offs",
    "matrix": "The shutdown matrix",
    "suggestions": "The suggested changes",
    "periods": "The timers",
    "proof": "Predicted and measured steps",
    "comparison": "The comparison with the run before",
    "granted-timers": "Requested and granted timers",
    "levels": "The levels of the current",
    "expected": "Expected values",
    "corrections": "The corrections",
    "wake-plan": "The wake-up paths",
    "runs": "All runs",
    "picture": "A picture of the page",
}


class Exports(QObject):
    """What can be taken out of the run that is shown.

    Parameters
    ----------
    window
        Where to ask.
    look
        Theme and type.
    controller
        The session.
    page
        Gives the open page, for its picture.
    plan
        Gives how the cycles are folded.
    """

    def __init__(
        self,
        window: QWidget,
        look: Appearance,
        controller: ProjectController,
        page: Callable[[], Page],
        plan: Callable[[], FoldPlan | None],
    ) -> None:
        super().__init__(window)
        self._window, self._look, self._controller, self._page, self._plan = window, look, controller, page, plan

    def ask(self, what: str) -> None:
        """Ask for a file and write a part of what is known of the run to it."""
        results = self._controller.results
        if results is None:
            self._controller.troubled.emit("There is nothing to export yet: import a capture first.")
            return
        endings: tuple[str, ...] = PICTURE_ENDINGS if what == "picture" else TABLE_ENDINGS
        if what == "capture":
            endings = (*endings, ".h5")
        kinds = ";;".join(f"{ending[1:].upper()} (*{ending})" for ending in endings)
        thing = self._page().title.lower() if what == "picture" else what
        wanted = f"{results.run.name} {thing}{endings[0]}"
        path, _ = QFileDialog.getSaveFileName(self._window, f"Export: {EXPORTS[what].lower()}", wanted, kinds)
        if not path:
            return
        width: int | None = None
        if what == "picture":
            now = self._page().width()
            width, chosen = QInputDialog.getInt(
                self._window,
                "Picture",
                "How many pixels wide?",
                2 * now if path.endswith(".png") else now,
                16,
                MOST_WIDTH,
            )
            if not chosen:
                return
        self.write(what, Path(path), width)

    def copy_picture(self) -> None:
        """Copy the view that has the keyboard as a picture, the page where none has."""
        view, page = QApplication.focusWidget(), self._page()
        copy_picture(view if isinstance(view, PaintedView) and page.isAncestorOf(view) else page)
        self._controller.noted.emit("The picture is copied")

    def report(self) -> ReportSheet | None:
        """Open the sheet of a report."""
        from warm_ember.ui.shell.report_sheet import ReportSheet

        if self._controller.session is None or not self._controller.project.runs:
            self._controller.troubled.emit("There is nothing to report on yet: import a capture first.")
            return None
        sheet = ReportSheet(self._window, self._look, self._controller)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()
        return sheet

    def write(self, what: str, path: Path, width: int | None = None) -> None:
        """Write a part of what is known of the run to a file; a table in the background."""
        session, results = self._controller.session, self._controller.results
        if session is None or results is None:
            return
        if what == "picture":
            self._write_picture(path, width)
            return
        from warm_ember.report.export import export

        name, plan = results.run.name, self._plan()
        self._controller.work(
            "export",
            f"writing {path.name}",
            lambda should_stop, progress: export(
                session, name, what, path, plan=plan, should_stop=should_stop, progress=progress
            ),
            lambda _done: self._controller.noted.emit(f"{path.name} is written"),
        )

    def _write_picture(self, path: Path, width: int | None) -> None:
        try:
            check_target(path, self._controller.project_folder)
            self._page().save_picture(path, width)
        except WarmEmberError as error:
            self._controller.troubled.emit(error.one_line)
            return
        self._controller.noted.emit(f"{path.name} is written")
