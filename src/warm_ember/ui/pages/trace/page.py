"""The Trace page: the lanes with their brackets, the fold, and data quality."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QInputDialog, QVBoxLayout, QWidget

from warm_ember.model.figure import Bound, signed
from warm_ember.model.finding import Finding, FindingKind
from warm_ember.model.project import Note
from warm_ember.session import edits
from warm_ember.session.page_links import LinkFigure, trace_doubt, trace_link
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.rich_text import rich_figure
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import Page
from warm_ember.ui.pages.trace.band_limit_sheet import BandLimitSheet
from warm_ember.ui.pages.trace.bracket_controller import BracketController
from warm_ember.ui.pages.trace.fold_view import FoldView
from warm_ember.ui.pages.trace.lanes_view import LanesView
from warm_ember.ui.pages.trace.quality_view import BY_EFFECT, BY_TIME, QualityView
from warm_ember.ui.picture import save_picture
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch
from warm_ember.ui.widgets.view_stack import ViewStack
from warm_ember.units import counted, duration_text, format_trimmed, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import QualityReport


_AROUND_FINDING = 0.5


class TracePage(Page):
    """See a capture at every scale, read stretches of it, and know where not to believe it.

    Signals
    -------
    export_asked
        What the user wants to take out, as `warm_ember.report.export` names it.
    """

    title = "Trace"
    export_asked = Signal(str)

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__(controller, look)
        self.results: RunResults | None = None
        self._window = window
        self.book = BracketController(controller)
        self.lanes = LanesView(controller, look, window, self.book, self._bracket_actions())
        self.fold = FoldView(controller, look, window)
        self.quality = QualityView(controller, look, window)
        self.stack = self.lanes.stack
        self.views: dict[str, QWidget] = {"lanes": self.lanes, "fold": self.fold, "data quality": self.quality}
        self._stacked = ViewStack()
        for view in self.views.values():
            self._stacked.addWidget(view)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self._stacked)
        self._connect()
        self._make_actions()

    def _connect(self) -> None:
        self.book.changed.connect(self.header_changed)
        self.fold.changed.connect(self.header_changed)
        self.fold.cycle_asked.connect(self.show_stretch)
        self.quality.finding_asked.connect(self.show_finding)
        self.quality.stretch_asked.connect(self.show_stretch)
        self.quality.page_asked.connect(self.page_asked)
        self.quality.changed.connect(self.header_changed)
        self.stack.faults.finding_chosen.connect(self.show_finding)
        self.stack.notes.note_chosen.connect(self.edit_note)
        self.controller.quality_changed.connect(self._on_quality)
        self.controller.project_changed.connect(self._on_project)

    def _bracket_actions(self) -> tuple[tuple[str, str, Callable[[], None]], ...]:
        book = self.book
        return (
            ("Name a state by it", "N", lambda: self.lanes.panel.ask_for_state()),
            ("Take as activity", "A", book.take_as_activity),
            ("Expected value from it", "X", book.expected_from),
            ("Duplicate to next cycle", "D", book.duplicate),
            ("Extend to whole cycles", "W", book.extend),
            ("Look inside", "I", lambda: self.lanes.show_inside(not self.lanes.shows_inside)),
            ("Export", "E", lambda: self.export_asked.emit("brackets")),
            ("Remove", "Del", book.remove),
        )

    def _make_actions(self) -> None:
        lanes = self.lanes
        self.view_actions = self.stack.actions_for_menu()
        lanes.addActions(self.view_actions)
        self.bracket_actions: list[QAction] = []
        for text, keys, slot in (
            *self._bracket_actions(),
            ("Note at the cursor …", "M", self.note_moment),
            ("Note over the bracket …", "Shift+M", self.note_bracket),
            ("Limit the band of a channel …", "Shift+L", self.limit_band),
            ("Next bracket", "B", self.book.choose_next),
            ("Right edge later", "Ctrl+Right", lambda: self._move_edge(right=True, later=True)),
            ("Right edge earlier", "Ctrl+Left", lambda: self._move_edge(right=True, later=False)),
            ("Left edge later", "Ctrl+Shift+Right", lambda: self._move_edge(right=False, later=True)),
            ("Left edge earlier", "Ctrl+Shift+Left", lambda: self._move_edge(right=False, later=False)),
            ("Copy what stands below the lanes as text", "Ctrl+C", self._copy),
        ):
            action = self.make_action(text, keys, slot, lanes)
            self.bracket_actions.append(action)
        for text, keys, view in (
            ("Lanes", "L", "lanes"),
            ("Fold", "O", "fold"),
            ("Data quality", "U", "data quality"),
        ):
            self.view_actions.append(self.make_action(text, keys, partial(self.show_view, view)))
        self.view_actions.append(self.make_action("Next fault", "J", self.next_doubt))

    def _move_edge(self, *, right: bool, later: bool) -> None:
        snaps, length_s = self.stack.current.snaps, self._window.length_s
        self.book.move_edge(right=right, later=later, window_s=length_s, snaps=snaps)

    def _copy(self) -> None:
        text = self.lanes.inside.text() if self.lanes.shows_inside else self.lanes.tray.text()
        copy_text(text)

    def page_actions(self) -> list[QAction]:
        return self.bracket_actions

    @property
    def view(self) -> str:
        """The view that is open."""
        return next(name for name, widget in self.views.items() if widget is self._stacked.currentWidget())

    def show_view(self, name: str) -> None:
        """Open a view of the page."""
        self._stacked.setCurrentWidget(self.views[name])
        self.take_focus()
        self.header_changed.emit()

    def take_focus(self) -> None:
        {"lanes": self.stack.current, "fold": self.fold.plot}.get(self.view, self).setFocus()

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self.stack.set_results(results)
        self.stack.set_notes(self.notes_of(self.results))
        self.fold.set_results(results)
        self.quality.set_results(results)
        self.book.set_results(results)
        self._on_quality(self.controller.quality)

    def note_moment(self) -> None:
        """Ask for a note at the cursor, in the middle of the window where that is not on it."""
        if self.results is None:
            return
        window = self._window
        at_s = window.cursor_s if window.cursor_s is not None else (window.from_s + window.to_s) / 2
        self.edit_note(Note(self.results.run.name, at_s, ""))

    def limit_band(self) -> None:
        """Ask what of a channel is to be shown without what is short."""
        if self.results is not None:
            sheet = BandLimitSheet(self, self.look, self.controller, self.results)
            sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            sheet.open()

    def note_bracket(self) -> None:
        """Ask for a note over the chosen bracket."""
        bracket = self.book.chosen_bracket
        if bracket is not None:
            known = (
                one for one in self.notes_of(self.results) if (one.at_s, one.to_s) == (bracket.from_s, bracket.to_s)
            )
            self.edit_note(next(known, Note(bracket.capture, bracket.from_s, "", bracket.to_s)))

    def edit_note(self, note: Note) -> None:
        """Ask for the words of a note; without words it is removed."""
        where = duration_text(note.at_s)
        text, chosen = QInputDialog.getMultiLineText(self, "Note", f"What is to be known of {where}?", note.text)
        if chosen:
            changed = msgspec.structs.replace(note, text=text.strip())
            self.controller.apply(edits.set_note(changed, note), f"note at {where}")

    def _on_project(self) -> None:
        self.book.refresh()
        self.stack.set_notes(self.notes_of(self.results))
        self.fold.set_results(self.results)

    def _on_quality(self, quality: QualityReport | None) -> None:
        self.stack.set_findings(quality.findings if quality is not None else ())
        self.quality.ask()
        self.header_changed.emit()

    def show_stretch(self, from_s: float, to_s: float) -> None:
        """Show a stretch in the lanes, with a little on both sides."""
        margin = _AROUND_FINDING * (to_s - from_s) + 4 * self._window.interval_s
        self.show_view("lanes")
        self._window.show(from_s - margin, to_s + margin)

    def show_finding(self, finding: Finding) -> None:
        """Show where a finding lies, and say what it is."""
        self.show_stretch(finding.from_s, finding.to_s)
        self.controller.noted.emit(f"{finding.kind.value}: {finding.text}")

    def next_doubt(self) -> None:
        """Go to the first finding after the middle of the window, else to the first."""
        findings = self.controller.findings or ()
        if not findings:
            self.controller.noted.emit("No measurement faults found.")
            return
        middle = (self._window.from_s + self._window.to_s) / 2
        later = (f for f in findings if (f.from_s + f.to_s) / 2 > middle + self._window.interval_s)
        self.show_finding(next(later, findings[0]))

    def save_picture(self, path: Path, width: int | None = None) -> None:
        if self.results is None:
            return
        label = self.results.run.label
        if self.view == "fold":
            save_picture(path, self.fold.plot.size(), f"{label}, folded", self.fold.plot.paint_onto, width=width)
        elif self.view == "lanes":
            save_picture(path, self.stack.size(), label, self.stack.paint_onto, width=width)
        else:
            super().save_picture(path, width)

    def sentence(self) -> str:
        if self.results is None:
            return "Drop a file of current here, or import one with **Ctrl+I**."
        if self.view == "fold":
            return self.fold.sentence()
        if self.view == "data quality":
            return self._doubt_sentence()
        bracket = self.book.chosen_bracket
        if bracket is None:
            whole = self.results.whole
            words = rich_figure(self.results.ledger.mean, "A")
            is_clipped = bool(len(self.results.limits.clipped))
            peak = signed(Bound.AT_LEAST if is_clipped else None, quantity_text(whole.max_a, "A").rich)
            length = duration_text(whole.length_s).rich
            return f"{self.results.run.label} draws {words} on average over {length}, with a peak of {peak}."
        reading = self.book.reading(bracket)
        subject = bracket.name or f"Bracket {bracket.letter}"
        length, charge_taken = duration_text(reading.length_s).rich, quantity_text(reading.charge_c, "C").rich
        doubts = self.book.doubts_of(bracket)
        at_least = "at least " if FindingKind.CLIPPED in doubts else ""
        text = f"{subject[:1].upper()}{subject[1:]} lasts {length} and takes {at_least}{charge_taken}"
        other = next((b for b in self.book.brackets if b.letter != bracket.letter), None)
        charge = self.book.reading(other).charge_c if other is not None else 0.0
        if other is not None and charge > 0 and reading.charge_c / charge >= 1.5:
            times = format_trimmed(reading.charge_c / charge)
            text += f": as much as **{times}** times “{other.name or f'bracket {other.letter}'}”"
        return text + "."

    def _doubt_sentence(self) -> str:
        findings = self.controller.findings
        shown = self.quality.shown
        if findings is None:
            return "Checking for measurement faults …"
        if not findings and not (shown is not None and shown.rows):
            passed = f": {counted(len(shown.passed), 'check')} passed" if shown is not None else ""
            return f"No measurement faults found{passed}."
        counts = (
            f"{counted(len(shown.rows), 'fault')} found, {counted(len(shown.passed), 'check')} passed" if shown else ""
        )
        return f"{self.quality.verdict()} {counts}.".strip(" .") + "."

    def switches(self) -> tuple[Switch, ...]:
        view = Switch("View", tuple(self.views), self.view, self.show_view)
        current = self.stack.current
        axis = Switch(
            "Current axis",
            ("log", "linear"),
            "log" if current.log else "linear",
            self._set_axis,
        )
        if self.view == "data quality":
            order = Switch("Order", (BY_EFFECT, BY_TIME), self.quality.order, self.quality.show_order)
            return (view, order) if self.quality.rows else (view,)
        if self.view == "fold":
            plan = self.fold.plan
            chosen = "left out" if plan is not None and plan.leaves_out_odd else "counted"
            return (view, axis, Switch("Odd ones", ("counted", "left out"), chosen, self.fold.leave_out_odd))
        snap = Switch(
            "Snap",
            ("on", "off"),
            "on" if current.snaps else "off",
            lambda o: setattr(current, "snaps", o == "on"),
        )
        if self._window.start is None:
            return (view, axis, snap)
        clock = Switch(
            "Time",
            ("relative", "clock"),
            "clock" if self._window.shows_clock else "relative",
            lambda o: self._window.show_clock(o == "clock"),
        )
        return (view, axis, clock, snap)

    def _set_axis(self, option: str) -> None:
        self.stack.current.set_log(option == "log")
        self.fold.plot.set_log(option == "log")

    def warning(self) -> str:
        return trace_doubt(self.results, self.controller.findings or () if self.view != "data quality" else ())

    def link(self) -> LinkFigure:
        return trace_link(self.results, self.warning())
