"""Limits of a run: their file at the left, what was measured beside each at the right."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QHideEvent
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember.errors import WarmEmberError
from warm_ember.session.limits_shown import LIMITS_NAME, LimitsShown, limits_from_run, show_limits
from warm_ember.session.limits_store import read_limits_text, write_limits_text
from warm_ember.session.limits_writing import with_limit, with_strict
from warm_ember.session.records import GateOutcome
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.runs.limits_editor import LimitsEditor
from warm_ember.ui.pages.runs.limits_list import LimitsList
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import ShouldStop

_WAIT_MS = 300
_LEFT = 380


class LimitsView(QWidget):
    """The text of the limits, edited as it is, and the checks that they make of one run.

    Signals
    -------
    changed
        What the page says of it is no longer as it was.
    page_asked
        The title of the page where what a limit is about is looked at.
    """

    changed = Signal()
    page_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self._controller, self._look = controller, look
        self.path, self.run, self.baseline = Path(), "", ""
        self.saved = ""
        self.shown = LimitsShown()
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_WAIT_MS)
        self._timer.timeout.connect(self._compare)
        self.editor, self.list = LimitsEditor(look), LimitsList(look)
        self._build()
        self.editor.textChanged.connect(self._on_text)
        self.editor.line_chosen.connect(self.list.choose_line)
        self.list.row_chosen.connect(lambda _index: self._on_row())

    def _build(self) -> None:
        look, px = self._look, self._look.px
        self.file_label = Label("")
        self.write_key = KeyButton(look, "Write limits from this run", "W")
        self.run_key = KeyButton(look, "Run the gate", "Enter")
        left = QVBoxLayout()
        left.setContentsMargins(0, px(6), 0, px(8))
        left.addWidget(self.file_label)
        left.addWidget(self.editor, 1)
        keys = QHBoxLayout()
        keys.setContentsMargins(px(16), px(8), px(16), 0)
        keys.addWidget(self.write_key, 3)
        keys.addWidget(self.run_key, 2)
        left.addLayout(keys)
        self.tally = Label("")
        self.rest = QScrollArea()
        self.rest.setWidget(self.list)
        self.rest.setWidgetResizable(True)
        self.rest.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.rest.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.reason = Label("")
        self.reason.setWordWrap(True)
        self.place = Label("")
        self.open_key, self.set_key = KeyButton(look, "Open the page", "S"), KeyButton(look, "Set the limit", "L")
        foot = QHBoxLayout()
        foot.setContentsMargins(px(16), px(8), px(16), 0)
        words = QVBoxLayout()
        words.addWidget(self.reason)
        words.addWidget(self.place)
        foot.addLayout(words, 1)
        foot.setSpacing(px(8))
        foot.addWidget(self.open_key)
        foot.addWidget(self.set_key)
        right = QVBoxLayout()
        right.setContentsMargins(0, px(6), 0, px(8))
        right.addWidget(self.tally)
        right.addWidget(self.rest, 1)
        right.addLayout(foot)
        for label in (self.file_label, self.tally):
            label.setContentsMargins(px(16), 0, px(16), px(4))
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        column = QWidget()
        column.setLayout(left)
        column.setMaximumWidth(px(_LEFT))
        row.addWidget(column, 3)
        row.addLayout(right, 5)
        for key, slot in (
            (self.write_key, self.write_limits), (self.run_key, self.run_gate), (self.open_key, self.open_page),
            (self.set_key, self.set_limit),
        ):  # fmt: skip
            key.clicked.connect(slot)

    @property
    def text(self) -> str:
        """The text as it is edited."""
        return self.editor.toPlainText()

    @property
    def is_saved(self) -> bool:
        """Whether the file holds the text as it is."""
        return self.text == self.saved

    def show_run(self, run: str, baseline: str) -> None:
        """Show a run beside the limits of its project, and what it is compared with."""
        path = self._controller.project_folder / LIMITS_NAME
        self.run, self.baseline = run, baseline
        if path != self.path:
            self.path, self.saved = path, ""
            self.editor.clear()
        if self.is_saved:
            self._read()
        else:
            self._timer.start()

    def _read(self) -> None:
        """Read the file, which another program may have changed."""
        path = self.path
        self._controller.work(
            "limits file", f"reading {path.name}", lambda _stop, _progress: read_limits_text(path), self._on_read
        )

    def _on_read(self, text: str) -> None:
        if self.is_saved and text != self.text:
            self.saved = text
            self.editor.replace_text(text)
        self.saved = text
        self._timer.start(0)
        self._show_file()

    def _on_text(self) -> None:
        self._timer.start()
        self._show_file()

    def _show_file(self) -> None:
        state = "saved" if self.is_saved else "not saved"
        if not self.text.strip() and not self.saved:
            state = "not there yet"
        self.file_label.setText(f"Limits    {self.path.name}, {state}")
        self.file_label.setToolTip(f"{self.path}\nEnter saves it, in the text Ctrl+Enter.")

    def _compare(self) -> None:
        """Compare the run with the text as it is, in the background."""
        session, text, path, run, baseline = self._controller.session, self.text, self.path, self.run, self.baseline
        if session is None or not run:
            return
        project = session.project

        def work(should_stop: ShouldStop, _progress: object) -> LimitsShown:
            return show_limits(session, project, text, path, run, baseline, should_stop)

        self._controller.work("limits", f"comparing {run} with its limits", work, self._on_shown)

    def _on_shown(self, shown: LimitsShown) -> None:
        self.shown = shown
        self.list.show_limits(shown, self.run)
        self._on_row()
        self._show_tally()
        self.changed.emit()

    def _show_tally(self) -> None:
        shown = self.shown
        if shown.result is None:
            self.tally.setText(f"Exit code 2    line {shown.problem_line}")
            return
        counts = [(GateOutcome.FAIL, "failed"), (GateOutcome.UNDECIDED, "undecided"), (GateOutcome.PASS, "passed")]
        words = "      ".join(f"{shown.count(outcome)} {word}" for outcome, word in counts)
        self.tally.setText(f"{words}        exit code {shown.exit_code}" if shown.rows else "No limit yet")

    def _on_row(self) -> None:
        row, shown = self.list.row, self.shown
        self.editor.light(row.line if row is not None else 0, shown.problem_line)
        self.set_key.setEnabled(row is not None and row.proposed is not None)
        self.open_key.setEnabled(row is not None)
        if row is None:
            words = shown.problem or "Write limits from this run, or enter them as TOML: docs/builds.md has an example."
            self.reason.setText(f"{words[:1].upper()}{words[1:]}")
            self.place.setText(f"line {shown.problem_line}" if shown.problem_line else "")
            return
        self.reason.setText(row.reason.replace("**", ""))
        self.place.setText(f"line {row.line}: {row.check.name}")
        self.open_key.setText(f"Open in {row.page}")
        if row.proposed is not None:
            unit = "" if row.check.unit == "months" else row.check.unit
            told = quantity_text(row.proposed, unit) if unit else f"{row.proposed:g} {row.unit}"
            self.set_key.setText(f"Set to {told}")
        self.rest.ensureVisible(0, round(self.list.row_box(self.list.chosen).center().y()), 0, self._look.px(40))

    def write_limits(self) -> None:
        """Add limits that the run keeps to, for all that has none."""
        session, text, run = self._controller.session, self.text, self.run
        if session is None or not run or self.shown.problem:
            return
        project = session.project
        self._controller.work(
            "limits from a run",
            f"working out limits from {run}",
            lambda should_stop, _progress: limits_from_run(session, project, text, run, should_stop),
            self.editor.replace_text,
        )

    def run_gate(self) -> None:
        """Save the limits and compare the run with them."""
        path, text = self.path, self.text
        if not text.strip():
            return

        def done(_nothing: None) -> None:
            self.saved = text
            self._show_file()
            self._timer.start(0)

        self._controller.work(
            "limits file", f"saving {path.name}", lambda _stop, _progress: write_limits_text(path, text), done
        )

    def set_limit(self) -> None:
        """Set the chosen limit to what the run as it is now would keep to."""
        row = self.list.row
        if row is not None and row.proposed is not None:
            self.editor.replace_text(with_limit(self.text, row.check.key, row.proposed))

    def set_strict(self, *, strict: bool) -> None:
        """Let what is undecided count as failed, or not."""
        if not self.shown.problem:
            self.editor.replace_text(with_strict(self.text or "format = 1\n", strict=strict))

    def open_page(self) -> None:
        """Go to where what the chosen limit is about is looked at."""
        row = self.list.row
        if row is not None:
            self.page_asked.emit(row.page)

    def sentence(self) -> str:
        """Return what came of it, in a sentence."""
        shown = self.shown
        if shown.problem:
            return f"{self.path.name} cannot be used: {shown.problem}."
        if not shown.rows:
            return "No limits yet: write them from this run, and the next build is compared with them."
        failed, undecided = shown.count(GateOutcome.FAIL), shown.count(GateOutcome.UNDECIDED)
        open_ones = f" **{undecided}** {'is' if undecided == 1 else 'are'} undecided." if undecided else ""
        if not failed:
            kept = len(shown.rows) - undecided
            return f"{self.run} keeps to **{kept}** of **{len(shown.rows)}** limits.{open_ones}"
        worst = next(row for row in shown.rows if row.check.outcome is GateOutcome.FAIL)
        what = f"{worst.check.title} is **{worst.value}** {worst.unit} where **{worst.limit}** is allowed"
        return f"{self.run} misses **{failed}** of **{len(shown.rows)}** limits: {what}.{open_ones}"

    def hideEvent(self, event: QHideEvent) -> None:
        """Keep what was edited when another view or page is opened, or the window is closed: at once, it is little."""
        if not self.is_saved and self.text.strip() and self._controller.session is not None:
            try:
                write_limits_text(self.path, self.text)
            except WarmEmberError as error:
                self._controller.troubled.emit(error.one_line)
            else:
                self.saved = self.text
        super().hideEvent(event)
