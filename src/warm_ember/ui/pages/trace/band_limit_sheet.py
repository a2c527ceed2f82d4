"""Limiting the band of a channel: which one, what is the shortest that is told, and whether states are placed by it."""

from __future__ import annotations

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import WarmEmberError
from warm_ember.model.band_limit import CURRENT, BandLimit
from warm_ember.session import edits
from warm_ember.session.band_limits import channels_of, check_limit
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.units import duration_text, parse_duration

_USUAL_S = 4e-3
_WIDTH = 420


class BandLimitSheet(QDialog):
    """Ask for the limit of a channel's band, or take it away.

    Parameters
    ----------
    parent
        The page.
    look
        Theme and type.
    controller
        The session.
    results
        The run whose channels are asked for.
    """

    def __init__(self, parent: QWidget, look: Appearance, controller: ProjectController, results: RunResults) -> None:
        super().__init__(parent)
        self.setWindowTitle("Band limit")
        self.setModal(True)
        self.setMinimumWidth(look.px(_WIDTH))
        self._controller, self._results = controller, results
        self.channel = QComboBox()
        for name in channels_of(results.capture):
            self.channel.addItem(name)
        self.shortest = QLineEdit()
        self.places = QCheckBox("Rules by current look at this line")
        self.state = Label("")
        self.state.setWordWrap(True)
        self.limit, self.drop = QPushButton("Limit"), QPushButton("As measured")
        self.limit.setDefault(True)
        self._lay_out(look)
        self.channel.currentTextChanged.connect(self._show_known)
        self.limit.clicked.connect(self._apply)
        self.drop.clicked.connect(self._drop)
        self._show_known(self.channel.currentText())

    def _lay_out(self, look: Appearance) -> None:
        layout = QVBoxLayout(self)
        layout.setSpacing(look.px(8))
        words = Label(
            "A line without what is shorter is drawn over the channel. No edge moves, and what flowed in all is kept: "
            "the ledger is of what was measured."
        )
        words.setWordWrap(True)
        layout.addWidget(words)
        form = QFormLayout()
        form.addRow("Channel", self.channel)
        form.addRow("Nothing shorter than", self.shortest)
        form.addRow("States", self.places)
        layout.addLayout(form)
        layout.addWidget(self.state)
        keys = QHBoxLayout()
        keys.addStretch(1)
        keys.addWidget(self.drop)
        keys.addWidget(self.limit)
        layout.addLayout(keys)

    def _show_known(self, channel: str) -> None:
        known = next(
            (one for one in self._controller.project.band_limits_of(self._results.run.name) if one.channel == channel),
            BandLimit(self._results.run.name, channel, _USUAL_S),
        )
        self.shortest.setText(str(duration_text(known.shortest_s)))
        self.places.setChecked(known.places_states)
        self.places.setEnabled(channel == CURRENT)
        self.places.setToolTip("" if channel == CURRENT else "States are placed by the current.")
        self.state.clear()
        self.shortest.selectAll()

    def _apply(self) -> None:
        channel = self.channel.currentText()
        try:
            shortest_s = parse_duration(self.shortest.text())
            check_limit(self._results.capture, channel, shortest_s)
        except WarmEmberError as error:
            self.state.setText(error.one_line)
            self.shortest.setFocus()
            return
        places = channel == CURRENT and self.places.isChecked()
        limit = BandLimit(self._results.run.name, channel, shortest_s, places)
        self._controller.apply(edits.set_band_limit(limit), f"band limit of {channel}")
        self.accept()

    def _drop(self) -> None:
        channel = self.channel.currentText()
        self._controller.apply(edits.drop_band_limit(self._results.run.name, channel), f"{channel} as measured")
        self.accept()
