"""A data set on the Runs page: its river, the states and the boards, and two places compared."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from warm_ember.session.river import River, read_river
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.runs.river_chart import RiverChart
from warm_ember.ui.pages.runs.river_parts import RiverBoards, RiverStates
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.units import format_significant, quantity_text

OPEN_KEY = "Ctrl+Shift+O"
_EMPTY = "No data set is open: runs of many projects, as warm-ember collect writes them, and which build changed what."


class RiverView(QWidget):
    """The river and what is below it; one sentence and a key where no data set is open.

    Signals
    -------
    changed
        Sentence or switches are no longer as they were.
    """

    changed = Signal()

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self._controller = controller
        self.river: River | None = None
        self.address, self.by = "", ""
        self.is_reading = False
        self.chart, self.states, self.boards = RiverChart(look), RiverStates(look), RiverBoards(look)
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
        self.open_key = KeyButton(look, "Open a data set", OPEN_KEY)
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
        self.address, self.by, self.is_reading = address, by, True
        self._controller.jobs.run(
            "river",
            "reading the data set",
            lambda _should_stop, _progress: read_river(address, by),
            self.show_river,
            self._on_failed,
        )
        self.changed.emit()

    def _on_failed(self, error: Exception) -> None:
        self.is_reading = False
        self._controller.report_failure(error)
        self.changed.emit()

    def read_again(self) -> None:
        """Read the data set as it is now."""
        if self.address:
            self.open_data_set(self.address, self.by)

    def show_river(self, river: River | None) -> None:
        """Show a data set; None shows how to open one."""
        self.river, self.is_reading = river, False
        is_empty = river is None or not len(river.history.values)
        self.words.setText(_EMPTY if river is None else "; ".join(river.trend.notes) or "The data set has no run.")
        self.empty.setVisible(is_empty)
        self.chart.setVisible(not is_empty)
        self._below.setVisible(not is_empty)
        if river is not None:
            self.by = river.history.by
        self.states.show_river(None if is_empty else river)
        self.boards.show_river(None if is_empty else river)
        self.chart.show_river(None if is_empty else river)
        self.chart.pick(-1, -1)
        self.changed.emit()

    def _on_picked(self, place: int, as_first: bool) -> None:
        a, b = (place, self.chart.b) if as_first else (self.chart.a, place)
        self.chart.pick(a, b, self._compared(a, b))

    @property
    def keys(self) -> tuple[str, ...]:
        """What the runs can be placed by."""
        if self.river is None:
            return ()
        usual = [one for one in ("commit", "firmware") if one in self.river.history.columns]
        return tuple(dict.fromkeys([self.by, *usual, "time"]))

    def choose_by(self, by: str) -> None:
        """Place the runs by something else."""
        if by != self.by:
            self.open_data_set(self.address, by)

    def sentence(self) -> str:
        """Return what the history says, as rich text."""
        river = self.river
        if self.is_reading:
            return "Reading the data set …"
        if river is None or not len(river.history.values):
            return "A data set holds the runs of many builds and boards."
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

    def warning(self) -> str:
        """Return what may mislead, or was left out."""
        return "; ".join(self.river.trend.notes) if self.river is not None else ""


def _name(river: River, key: str) -> str:
    by = river.history.by
    return key if key.lower().startswith(("build", by)) else f"{by} {key}"
