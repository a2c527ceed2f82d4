"""A data set on the Runs page, or a project of many runs: the river, states and boards, and two builds compared."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from warm_ember.session.page_links import LinkFigure, ordinal
from warm_ember.session.project_river import RUN, river_of_runs
from warm_ember.session.reaching import ReachedCapture, known_projects, reach_capture
from warm_ember.session.river import BOUND_OF_SIDE, River, read_river, with_states
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.base import OPEN_DATA_SET_KEY
from warm_ember.ui.pages.runs.river_chart import RiverChart
from warm_ember.ui.pages.runs.river_parts import RiverBoards, RiverStates
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.difference_table import DifferenceTable, micro
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.units import counted, format_significant, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import PlaceDifference

_EMPTY = "No data set is open: runs of many projects, as warm-ember collect writes them, and which build changed what."


class RiverView(QWidget):
    """The river and what is below it; one sentence and a key where no data set is open.

    Signals
    -------
    changed
        Sentence or switches are no longer as they were.
    capture_asked
        The folder of a project, and the runs of it that are to be shown: one, or two beside each other.
    """

    changed = Signal()
    capture_asked = Signal(object, tuple)

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self._controller = controller
        self.river: River | None = None
        self.address, self.by = "", ""
        self.is_reading = self.is_comparing = False
        self._project: tuple[RunResults, ...] = ()
        self.chart, self.states, self.boards = RiverChart(look), RiverStates(look), RiverBoards(look)
        self.table = DifferenceTable(look)
        self._build(look)
        self.chart.picked.connect(self._on_picked)
        self.chart.moved.connect(lambda: self.states.show_places(self.chart.first, self.chart.last))
        self.show_river(None)

    def _build(self, look: Appearance) -> None:
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.setSpacing(0)
        self.empty = QWidget()
        row = QHBoxLayout(self.empty)
        row.setContentsMargins(look.px(16), look.px(16), look.px(16), look.px(16))
        self.words = QLabel(_EMPTY)
        self.words.setWordWrap(True)
        self.open_key = KeyButton(look, "Open a data set", OPEN_DATA_SET_KEY)
        self.open_key.clicked.connect(self.ask_for_data_set)
        row.addWidget(self.words, 1)
        row.addWidget(self.open_key)
        whole.addWidget(self.empty, 0, Qt.AlignmentFlag.AlignTop)
        whole.addWidget(self.chart, 6)
        self._below = QScrollArea()
        self._below.setWidgetResizable(True)
        self._below.setFrameShape(QScrollArea.Shape.NoFrame)
        self._below.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inside = QWidget()
        below = QHBoxLayout(inside)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(0)
        below.addWidget(self.states, 1)
        below.addWidget(self.table, 1)
        below.addWidget(self.boards, 1)
        self._below.setWidget(inside)
        whole.addWidget(self._below, 5)

    def ask_for_data_set(self) -> None:
        """Ask which data set to open."""
        found = QFileDialog.getExistingDirectory(self, "Open a data set", self.address)
        if found:
            self.open_data_set(found)

    def open_data_set(self, address: str, by: str = "") -> None:
        """Read a data set in the background, and show it."""
        self.address, self._project = address, ()
        self._work("reading the data set", by, lambda: read_river(address, by))

    def open_runs(self, runs: tuple[RunResults, ...], by: str = "") -> None:
        """Show the runs of the open project as a river, if no data set is open."""
        is_shown = [(one.run, one.load) for one in runs] == [(one.run, one.load) for one in self._project]
        if not self.address and runs and not (is_shown and by in ("", self.by)):
            self._project = runs
            self._work("laying out the runs", by, lambda: river_of_runs(runs, by))

    def _work(self, words: str, by: str, work: Callable[[], River]) -> None:
        self.by, self.is_reading = by, True
        self._controller.jobs.stop("states of the river")
        self._controller.jobs.run("river", words, lambda _stop, _progress: work(), self.show_river, self._on_failed)
        self.changed.emit()

    def close_data_set(self) -> None:
        """Go back to the open project, or to how a data set is opened."""
        runs, self._project, self.address = self._project, (), ""
        self.show_river(None)
        self.open_runs(runs)

    def _on_failed(self, error: Exception) -> None:
        self.is_reading = False
        self._controller.report_failure(error)
        self.changed.emit()

    def read_again(self) -> None:
        """Read the data set as it is now."""
        if self.address:
            self.open_data_set(self.address, self.by)

    def show_river(self, river: River | None) -> None:
        """Show a data set; None shows how to open one. What was looked at of the same one before is looked at again.

        The river is there first; what its states add follows.
        """
        before, seen = self.river, (self.chart.first, self.chart.last - self.chart.first)
        self.river, self.is_reading = river, False
        is_empty = river is None or not len(river.history.values)
        self.words.setText(_EMPTY if river is None else "; ".join(river.trend.notes) or "The data set has no run.")
        self.empty.setVisible(is_empty)
        was_hidden = self.chart.isHidden()
        self.chart.setVisible(not is_empty)
        if was_hidden and self.isVisible():
            self.chart.setFocus()
        self._below.setVisible(not is_empty)
        if river is not None:
            self.by = river.history.by
        self.states.show_river(None if is_empty else river)
        self.boards.show_river(None if is_empty else river)
        if river is not None and river.waiting:
            self._controller.jobs.run(
                "states of the river",
                "looking at the states",
                lambda _stop, _progress: with_states(river),
                self.show_river,
                self._on_failed,
                quiet=True,
            )
        self.chart.show_river(None if is_empty else river)
        if before is None or river is None or not _goes_on(before, river):
            self.chart.pick(-1, -1)
            self._show_compared(is_wanted=False)
            return
        a, b = self.chart.a, self.chart.b
        self.chart.pick(a, b, self._compared(a, b), (river.run_near(a), river.run_near(b)))
        if seen[1] < len(before.history.keys):
            self.chart.show_from(*seen)
        self._show_compared(is_wanted=self.is_comparing)

    def _on_picked(self, place: int, value: float, as_first: bool) -> None:
        river = self.river
        if river is None:
            return
        before = self.chart.runs[0 if as_first else 1]
        board = river.history.runs[before].board if before >= 0 else ""
        run = river.run_near(place, board, None if math.isnan(value) else value)
        a, b = (place, self.chart.b) if as_first else (self.chart.a, place)
        runs = (run, self.chart.runs[1]) if as_first else (self.chart.runs[0], run)
        self.chart.pick(a, b, self._compared(a, b), runs)
        self._show_compared(is_wanted=self.is_comparing)

    def compare(self) -> None:
        """Compare A and B by state, or go back to all states; the last change where nothing is picked."""
        river = self.river
        if river is None or not len(river.history.values):
            return
        if not self.is_comparing and min(self.chart.a, self.chart.b) < 0:
            last = len(river.history.keys) - 1
            a = self.chart.a if self.chart.a >= 0 else max((river.trend.since or last) - 1, 0)
            b = self.chart.b if self.chart.b >= 0 else last
            self.chart.pick(a, b, self._compared(a, b), (river.run_near(a), river.run_near(b)))
        self._show_compared(is_wanted=not self.is_comparing)

    def _show_compared(self, *, is_wanted: bool) -> None:
        river, a, b = self.river, self.chart.a, self.chart.b
        found = river.compared(a, b) if river is not None and is_wanted else None
        self.is_comparing = found is not None
        self.table.setVisible(self.is_comparing)
        self.states.setVisible(not self.is_comparing)
        if river is not None and found is not None:
            trend = river.trend
            bounds = tuple(BOUND_OF_SIDE[trend.bound_of(place, place + 1)] for place in (a, b))
            sums = (("average, µA", found.before, found.after, micro, (bounds[0], bounds[1])),)
            means = tuple((one.name, one.adds_a) for one in river.states)
            rows, empty = river.differences(a, b), "No state is in both."
            self.table.show_rows("Difference per state", ("A, µA", "B, µA"), rows, sums, means, (), empty)
        self.changed.emit()

    def show_capture(self, *which: int) -> None:
        """Show the captures of A (0) or B (1), or both beside each other, where they can be reached."""
        river = self.river
        wanted = [river.history.runs[self.chart.runs[one]] for one in which if self.chart.runs[one] >= 0 and river]
        if river is None or len(wanted) < len(which):
            self._controller.troubled.emit("Pick a run first: click for B, Shift-click for A.")
            return
        if not river.address:
            self.capture_asked.emit(None, tuple(run.run for run in wanted))
            return
        known = [*([self._controller.project_folder] if self._controller.session else []), *known_projects()]
        self._controller.jobs.run(
            "reaching",
            "looking for the capture",
            lambda _stop, _progress: tuple(reach_capture(river.address, run, known) for run in wanted),
            self._on_reached,
            self._controller.report_failure,
        )

    def _on_reached(self, found: tuple[ReachedCapture, ...]) -> None:
        projects = {one.project for one in found}
        if len(projects) > 1:
            self._controller.troubled.emit(
                "Both captures are here, but in two projects: open one of them (O, Shift+O)."
            )
        else:
            self.capture_asked.emit(projects.pop(), tuple(one.run for one in found))

    @property
    def keys(self) -> tuple[str, ...]:
        """What the runs can be placed by."""
        if self.river is None:
            return ()
        usual = [one for one in ("commit", "firmware") if one in self.river.history.columns]
        return tuple(dict.fromkeys([self.by, *usual, "time" if self.river.address else RUN]))

    def link(self) -> LinkFigure | None:
        """Return what the page's link shows of a data set; None while none is shown."""
        if self.river is None or not self.river.address or not len(self.river.history.values):
            return None
        history, run = self.river.history, self.chart.runs[1]
        boards = len(set(self.river.trend.boards) - {""})
        places = counted(len(history.keys), "build" if history.by in ("firmware", "commit") else "place")
        detail = places + (f", {counted(boards, 'board')}" if boards else "")
        count = f"{len(history.values):,}".replace(",", "\u202f")
        figure = f"**{count}** runs" if run < 0 else f"{ordinal(self.river.rank(run))} of **{count}**"
        return LinkFigure(figure, detail)

    def choose_by(self, by: str) -> None:
        """Place the runs by something else."""
        if by != self.by and self.address:
            self.open_data_set(self.address, by)
        elif by != self.by:
            self.open_runs(self._project, by)

    def sentence(self) -> str:
        """Return what the history says, as rich text."""
        river = self.river
        if self.is_reading:
            return "Reading the data set …"
        if river is None or not len(river.history.values):
            return "A data set holds the runs of many builds and boards."
        if self.is_comparing and (found := river.compared(self.chart.a, self.chart.b)) is not None:
            return self._compared_words(river, found)
        worse = [one for one in zip(river.trend.changes, river.causes, strict=True) if one[0].change > 0]
        better = [one for one in zip(river.trend.changes, river.causes, strict=True) if one[0].change < 0]
        words = []
        if worse:
            change, cause = worse[-1]
            much = f"**{format_significant(abs(change.change / change.before) * 100)}** %"
            words.append(
                f"{_name(river, change.at)} made the average {much} worse" + (f", in {cause.state}" if cause else "")
            )
        if better:
            change, cause = better[-1]
            much = quantity_text(-change.change, "A").rich
            words.append(f"{_name(river, change.at)} took {much} away" + (f", from {cause.state}" if cause else ""))
        if not words:
            words.append(f"{len(river.history.keys)} places, and no change among them")
        sentence = f"{'; '.join(words)}."
        odd = [board for board in river.boards if board.is_odd and board.from_others is not None]
        if odd:
            side = "more" if (odd[0].from_others or 0) > 0 else "less"
            share = format_significant(abs(odd[0].from_others or 0) * 100)
            sentence += f" Board {odd[0].name} draws **{share}** % {side} than the others."
        return sentence[0].upper() + sentence[1:]

    def _compared(self, a: int, b: int) -> str:
        """Return how two places differ, as rich text; empty without two."""
        found = self.river.compared(a, b) if self.river is not None else None
        if self.river is None or found is None:
            return ""
        keys, trend = self.river.history.keys, self.river.trend
        side = "+" if found.change > 0 else "−"
        before, after = (
            f"{trend.sign(place, place + 1)}{quantity_text(value, 'A').rich}"
            for place, value in ((a, found.before), (b, found.after))
        )
        return (
            f"A {keys[a]} {before}, B {keys[b]} {after}: "
            f"{quantity_text(abs(found.change), 'A').rich.replace('**', '**' + side, 1)}, "
            f"{'real' if found.is_real else 'in noise'}"
        )

    def _compared_words(self, river: River, found: PlaceDifference) -> str:
        before, after = (_name(river, river.history.keys[place]) for place in (self.chart.a, self.chart.b))
        much = quantity_text(abs(found.change), "A").rich
        if not found.is_real:
            return f"{after} and {before} differ by {much}, which is within what builds and runs scatter by."
        words = f"{after} takes {much} {'more' if found.change > 0 else 'less'} than {before}"
        real = [one for one in river.differences(self.chart.a, self.chart.b) if one.is_real]
        if real and real[0].change_a * found.change > 0:
            share = min(real[0].change_a / found.change, 1.0)
            words += f", and {percent_text(share).rich} of that is {real[0].name}"
        return f"{words[0].upper()}{words[1:]}."

    def warning(self) -> str:
        """Return what may mislead, or was left out."""
        return "; ".join(self.river.trend.notes) if self.river is not None else ""


def _goes_on(before: River, river: River) -> bool:
    """Return whether a river is one that was shown before, with nothing or more behind it."""
    keys = before.history.keys
    return (before.address, before.history.by, keys) == (
        river.address,
        river.history.by,
        river.history.keys[: len(keys)],
    )


def _name(river: River, key: str) -> str:
    by = river.history.by
    return key if key.lower().startswith(("build", by)) else f"{by} {key}"
