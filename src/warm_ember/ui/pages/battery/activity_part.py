"""The activities of the Battery page: their day, the fields of the one that is open, and what is done to them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QInputDialog

from warm_ember.model.battery import Activity, FromStates, FromWakes
from warm_ember.model.project import Edit
from warm_ember.session import edits
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.battery.activity_panel import ActivityPanel
from warm_ember.ui.pages.battery.day_view import DayView
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import Rate

if TYPE_CHECKING:
    from warm_ember.session.records import Wakes


_WAKE = "wake by "


class ActivityPart(QObject):
    """Show the activities, and send what is changed of them.

    Signals
    -------
    entered
        ``(edit, what is done)``.
    dragged
        An edit on the way, while a value is being dragged.
    given_up
        A drag was given up.
    opened
        Whether an activity's fields are to be seen.
    """

    entered = Signal(object, str)
    dragged = Signal(object)
    given_up = Signal()
    opened = Signal(bool)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller)
        self._controller = controller
        self.day = DayView(look)
        self.panel = ActivityPanel(look)
        self.day.rate_entered.connect(self._on_rate)
        self.day.activity_chosen.connect(self.open)
        self.panel.changed.connect(self._on_changed)
        self.panel.dragged.connect(lambda activity: self.dragged.emit(edits.set_activity(activity)))
        self.panel.given_up.connect(self.given_up)
        self.panel.dropped_out.connect(self._drop)
        self.panel.closed.connect(self.close)
        self.panel.refused.connect(controller.troubled)

    def show_results(self, results: RunResults | None) -> None:
        """Show a run's day, and the activity that is open."""
        self.day.set_results(results)
        self.show_open(results)

    def show_open(self, results: RunResults | None) -> None:
        """Show the activity that is open; one that is gone is closed."""
        name = self.day.chosen
        if name and not any(one.name == name for one in self._controller.project.activities):
            self.close()
        elif name:
            self.panel.show_activity(self._controller.project, name, results)

    def open(self, name: str) -> None:
        """Open an activity's fields."""
        self.day.choose(name)
        self.opened.emit(True)
        self.show_open(self._controller.results)

    def close(self) -> None:
        """Close the fields."""
        self.day.choose("")
        self.opened.emit(False)
        self.day.setFocus()

    def _send(self, edit: Edit, what: str) -> None:
        self.entered.emit(edit, what)

    def _on_rate(self, name: str, rate: Rate) -> None:
        activity = next((one for one in self._controller.project.activities if one.name == name), None)
        if activity is not None:
            changed = msgspec.structs.replace(
                activity, interval_s=rate.interval_s, per_day=rate.per_day, follows="", probability=1.0, retries=0
            )
            self._send(edits.set_activity(changed), f"change how often {name} comes")

    def _on_changed(self, activity: Activity, before: str) -> None:
        if activity.name != before and any(one.name == activity.name for one in self._controller.project.activities):
            self._controller.troubled.emit(f"There is an activity {activity.name} already.")
            self.show_open(self._controller.results)
            return
        if self.day.chosen == before:
            self.day.choose(activity.name)
        self._send(edits.set_activity(activity, before), f"change the activity {before}")

    def add(self) -> None:
        """Ask for a state or a wake source and take its occurrences as an activity at the rate the capture shows."""
        self._with_wakes(self._ask)

    def _with_wakes(self, then: Callable[[RunResults, Wakes], None]) -> None:
        """Find the run's wakes in the background: without a log the whole current is read for them."""
        session, results, project = self._controller.session, self._controller.results, self._controller.project
        if session is None or results is None:
            return
        self._controller.work(
            "wakes to choose from",
            f"looking for wakes in {results.run.name}",
            lambda should_stop, _progress: session.results.wakes(project, results.run.name, should_stop),
            lambda wakes: then(results, wakes),
        )

    def _ask(self, results: RunResults, wakes: Wakes) -> None:
        names = [row.name for row in results.ledger.rows]
        names += [f"{_WAKE}{source}" for source in wakes.names]
        words = "The state whose entries, or the wakes that are its occurrences:"
        name, chosen = QInputDialog.getItem(self.day, "Add an activity", words, names, 0, editable=False)
        if chosen:
            self._add(name, results, wakes)

    def add_wake(self, source: str) -> None:
        """Take the wakes by a source as an activity at the rate the capture shows."""
        self.add_from(f"{_WAKE}{source}")

    def add_from(self, name: str) -> None:
        """Take a state's entries, or the wakes by a source, as an activity at the rate the capture shows."""
        self._with_wakes(lambda results, wakes: self._add(name, results, wakes))

    def _add(self, name: str, results: RunResults, wakes: Wakes) -> None:
        if name.startswith(_WAKE):
            source = name.removeprefix(_WAKE)
            times = int(wakes.by(source).sum())
            activity = Activity(source, FromWakes(source))
        else:
            row = results.ledger.row(name)
            times = row.entries if row is not None else 0
            activity = Activity(name, FromStates((name,), name))
        if times:
            activity = msgspec.structs.replace(activity, interval_s=results.ledger.duration_s / times)
            self._send(edits.set_activity(activity), f"add the activity {activity.name}")

    def take_run(self) -> None:
        """Take every state but the one it rests in as an activity, as often as the capture shows it."""
        results = self._controller.results
        if results is None:
            return
        ledger = results.ledger
        resting = max(ledger.rows, key=lambda row: row.dwell_s, default=None)
        made = tuple(
            Activity(row.name, FromStates((row.name,), row.name), interval_s=ledger.duration_s / row.entries)
            for row in ledger.rows
            if row is not resting and row.entries
        )
        if not made:
            self._controller.troubled.emit("This run has one state only: place its states first.")
            return
        self._send(edits.SetFields("project", {"activities": made}), f"take {results.run.name} as the model")

    def remove(self) -> None:
        """Remove the activity that is open, or ask for one."""
        names = [activity.name for activity in self._controller.project.activities]
        if self.day.chosen in names:
            self._drop(self.day.chosen)
            return
        if not names:
            self._controller.troubled.emit("There is no activity to remove.")
            return
        name, chosen = QInputDialog.getItem(self.day, "Remove an activity", "Activity:", names, 0, editable=False)
        if chosen:
            self._drop(name)

    def _drop(self, name: str) -> None:
        self._send(edits.drop_activity(name), f"remove the activity {name}")
