"""The sheet of a report: what it is about and what it holds, with its pages as they will be."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtGui import QImage, QPixmap
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.library.project import Project
from warm_ember.report.contents import Choice, Part
from warm_ember.session.page_links import run_before
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController

if TYPE_CHECKING:
    from warm_ember.report.preview import PagePicture
    from warm_ember.session.records import ShouldStop

_WAIT_MS = 350
_PAPER_WIDTH_PT = 595.28
ABOUT_PROJECT, ABOUT_RUN, ABOUT_TWO = "the project", "one run", "two runs compared"
_PARTS_OF_TWO = {Part.COMPARISON}
_PARTS_OF_SOME = {Part.RUNS}


class ReportSheet(QDialog):
    """Choices at the left, pages at the right; they follow the choices.

    Parameters
    ----------
    parent
        The window.
    look
        Theme and type.
    controller
        The session.
    """

    def __init__(self, parent: QWidget, look: Appearance, controller: ProjectController) -> None:
        super().__init__(parent)
        self.setWindowTitle("Report")
        self.setModal(True)
        self._look, self._controller = look, controller
        self.pages: tuple[PagePicture, ...] = ()
        self._shown: Choice | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_WAIT_MS)
        self._timer.timeout.connect(self._preview)
        self._build()
        self._connect()
        self._on_choice()
        self._timer.start(0)

    def _build(self) -> None:
        project, px = self._controller.project, self._look.px
        runs = project.rungs or project.runs
        names = [run.name for run in runs]
        current = self._controller.results.run.name if self._controller.results is not None else names[-1]
        self.about = QComboBox()
        self.about.addItems([ABOUT_PROJECT, ABOUT_RUN, *([ABOUT_TWO] if len(names) > 1 else [])])
        self.first, self.second = QComboBox(), QComboBox()
        for box, chosen in ((self.first, run_before(project, current) or names[0]), (self.second, current)):
            for run in runs:
                box.addItem(f"{run.name}  {run.title}".strip(), run.name)
            box.setCurrentIndex(max(box.findData(chosen), 0))
        self.title = QLineEdit()
        self.title.setPlaceholderText("project and run")
        self.claim = QLineEdit()
        self.claim.setPlaceholderText("half the charge")
        self.parts = {part: QCheckBox(part.words) for part in Part}
        for tick in self.parts.values():
            tick.setChecked(True)
        form = QFormLayout()
        for words, widget in (
            ("About", self.about), ("Run", self.second), ("Compared with", self.first), ("Title", self.title),
            ("Claim", self.claim),
        ):  # fmt: skip
            form.addRow(words, widget)
        self._form = form
        left = QVBoxLayout()
        left.addLayout(form)
        left.addSpacing(px(10))
        left.addWidget(Label("What it holds"))
        for tick in self.parts.values():
            left.addWidget(tick)
        left.addStretch(1)
        self.state = Label("")
        self.state.setWordWrap(True)
        left.addWidget(self.state)
        self.save_pdf, self.save_html = QPushButton("Save as PDF …"), QPushButton("Save as HTML …")
        self.save_pdf.setDefault(True)
        keys = QHBoxLayout()
        for button in (self.save_pdf, self.save_html):
            keys.addWidget(button)
        left.addLayout(keys)
        self.paper = QWidget()
        self._sheets = QVBoxLayout(self.paper)
        self._sheets.setSpacing(px(10))
        self.view = QScrollArea()
        self.view.setWidget(self.paper)
        self.view.setWidgetResizable(True)
        self.view.setAccessibleName("Pages of the report")
        row = QHBoxLayout(self)
        column = QWidget()
        column.setLayout(left)
        column.setFixedWidth(px(350))
        row.addWidget(column)
        row.addWidget(self.view, 1)
        self.resize(px(1060), px(740))

    def _connect(self) -> None:
        for box in (self.about, self.first, self.second):
            box.currentIndexChanged.connect(lambda _index: self._on_choice())
        for line in (self.title, self.claim):
            line.textEdited.connect(lambda _text: self._on_choice())
        for tick in self.parts.values():
            tick.toggled.connect(lambda _on: self._on_choice())
        self.save_pdf.clicked.connect(lambda: self.ask(".pdf"))
        self.save_html.clicked.connect(lambda: self.ask(".html"))

    def choice(self) -> Choice:
        """Return what is chosen."""
        about = self.about.currentText()
        runs: tuple[str, ...] = ()
        if about == ABOUT_RUN:
            runs = (self.second.currentData(),)
        elif about == ABOUT_TWO:
            runs = (self.first.currentData(), self.second.currentData())
        claim = self.claim.text().strip()
        return Choice(
            runs,
            self.title.text().strip(),
            frozenset(part for part, box in self.parts.items() if box.isChecked()),
            (claim,) if claim and about == ABOUT_TWO else (),
        )

    def _on_choice(self) -> None:
        about = self.about.currentText()
        for widget, shown in (
            (self.second, about != ABOUT_PROJECT), (self.first, about == ABOUT_TWO), (self.claim, about == ABOUT_TWO),
        ):  # fmt: skip
            self._form.setRowVisible(widget, shown)
        for part, box in self.parts.items():
            has_it = (part not in _PARTS_OF_TWO or about == ABOUT_TWO) and (
                part not in _PARTS_OF_SOME or about != ABOUT_RUN
            )
            box.setVisible(has_it)
        self._timer.start()

    def _preview(self) -> None:
        """Make the pages in the background; what is newer takes the place of what is being made."""
        session, choice = self._controller.session, self.choice()
        if session is None or choice == self._shown:
            return
        from warm_ember.report.preview import preview

        self._shown = choice
        self.state.setText("The pages are being made …")
        room = max(self.view.viewport().width() - self._look.px(28), 200)
        dots = room * self.devicePixelRatioF() / _PAPER_WIDTH_PT

        def work(should_stop: ShouldStop, _progress: object) -> tuple[PagePicture, ...]:
            return preview(Project(session), choice, dots, should_stop=should_stop)

        self._controller.jobs.run("report preview", "making a report", work, self._show_pages, self._show_trouble)

    def _show_trouble(self, error: Exception) -> None:
        self.state.setText(getattr(error, "one_line", "") or "Something went wrong; the log has the details.")
        if not hasattr(error, "one_line"):
            self._controller.report_failure(error)

    def _show_pages(self, pages: tuple[PagePicture, ...]) -> None:
        self.pages = pages
        while (item := self._sheets.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        for number, page in enumerate(pages, start=1):
            image = QImage(page.pixels, page.width, page.height, page.stride, QImage.Format.Format_RGB32).copy()
            ratio = self.devicePixelRatioF()
            image.setDevicePixelRatio(ratio)
            sheet = QLabel()
            sheet.setPixmap(QPixmap.fromImage(image))
            sheet.setFixedSize(QSize(round(page.width / ratio), round(page.height / ratio)))
            sheet.setAccessibleName(f"Page {number} of {len(pages)}")
            self._sheets.addWidget(sheet, 0, Qt.AlignmentFlag.AlignHCenter)
        self._sheets.addStretch(1)
        self.state.setText(f"{len(pages)} pages" if len(pages) != 1 else "1 page")

    def ask(self, ending: str) -> None:
        """Ask for a file and write the report to it."""
        name = self._controller.results.run.name if self._controller.results is not None else "report"
        kinds = f"{ending[1:].upper()} (*{ending})"
        path, _ = QFileDialog.getSaveFileName(self, "Save the report", f"{name} report{ending}", kinds)
        if path:
            self.write(Path(path))

    def write(self, path: Path) -> None:
        """Write what is chosen to a file, in the background, and close."""
        session, choice = self._controller.session, self.choice()
        if session is None:
            return
        from warm_ember.report.pages import write_report

        self._controller.work(
            "report",
            f"writing {path.name}",
            lambda _should_stop, _progress: write_report(Project(session), choice, path),
            lambda _done: self._controller.noted.emit(f"{path.name} is written"),
        )
        self.accept()

    def done(self, result: int) -> None:
        """Stop what is being made when the sheet closes."""
        self._timer.stop()
        self._controller.jobs.stop("report preview")
        super().done(result)
