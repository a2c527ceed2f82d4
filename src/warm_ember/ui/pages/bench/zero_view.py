"""The guided zero: recordings without the target, what follows from them, and the links to look at before."""

from __future__ import annotations

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QGridLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from warm_ember.model.bench import Attached, Bench, Check
from warm_ember.model.figure import Grade
from warm_ember.session.bench_setup import STAGES, Level, tool_load, zero_from
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import quantity_text, uncertainty_text

SET_UP = "Set-up, measured"
TOOLS = "Tools, measured"


def level_text(level: Level) -> str:
    """Write a level with its uncertainty: 90 % of a normal distribution."""
    return f"{quantity_text(level.mean_a, 'A')}  ± {uncertainty_text(1.64 * level.error_a, 'A')}"


class ZeroView(QWidget):
    """Three recordings and a checklist.

    Signals
    -------
    stage_asked
        A `Stage` to record now.
    changed
        ``(what, fields of the bench)`` to change.
    """

    stage_asked = Signal(object)
    changed = Signal(str, object)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self.levels: dict[str, Level] = {}
        self._bench = Bench()
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(16), px(10), px(16), px(10))
        column.setSpacing(px(10))
        column.addWidget(Label("The set-up without the target, in three recordings"))
        self._build_stages(column)
        self.outcome = Label()
        self.outcome.setWordWrap(True)
        column.addWidget(self.outcome)
        self.subtract_zero = QCheckBox("subtract the zero from what is recorded")
        self.subtract_zero.clicked.connect(self._on_subtract)
        self.subtract_load = QPushButton("Add the measured load")
        self.subtract_load.clicked.connect(self._hang_load)
        column.addWidget(self.subtract_zero)
        column.addWidget(self.subtract_load, 0, Qt.AlignmentFlag.AlignLeft)
        column.addSpacing(px(16))
        column.addWidget(Label("Looked at before recording; it is kept with the run"))
        self._checks = QVBoxLayout()
        self._checks.setSpacing(px(4))
        column.addLayout(self._checks)
        self.new_check = QLineEdit()
        self.new_check.setPlaceholderText("another link to plug or unplug")
        self.new_check.setAccessibleName("Another link to look at")
        self.new_check.returnPressed.connect(self._add_check)
        column.addWidget(self.new_check)
        column.addStretch(1)

    def _build_stages(self, column: QVBoxLayout) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(self.look.px(12))
        grid.setVerticalSpacing(self.look.px(8))
        self.keys: dict[str, QPushButton] = {}
        self.results: dict[str, QLabel] = {}
        for row, stage in enumerate(STAGES):
            words = Label(f"{row + 1}   {stage.instruction}")
            words.setWordWrap(True)
            key = QPushButton(f"Record {stage.name}")
            key.clicked.connect(lambda _checked=False, stage=stage: self.stage_asked.emit(stage))
            result = Label("not yet")
            result.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            grid.addWidget(words, 2 * row, 0, 1, 2)
            grid.addWidget(key, 2 * row + 1, 0, Qt.AlignmentFlag.AlignLeft)
            grid.addWidget(result, 2 * row + 1, 1)
            self.keys[stage.name], self.results[stage.name] = key, result
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)

    def take_level(self, name: str, level: Level) -> None:
        """Take a recording of the guide, and set the zero as soon as the leads were open."""
        if not level.is_steady:
            self.results[name].setText("not steady")
            self.outcome.setText(
                f"With {name} the current went up and down around {quantity_text(level.mean_a, 'A')}, as a working "
                "target does: nothing was set. Take the target off and record again."
            )
            return
        self.levels[name] = level
        self.results[name].setText(level_text(level))
        if STAGES[0].name in self.levels:
            zero = zero_from(self.levels)
            before = self._bench.zero
            zero = msgspec.structs.replace(zero, subtracted=before.subtracted if before is not None else True)
            self.changed.emit("set zero", {"zero": zero})
        self._say()

    def show_bench(self, bench: Bench) -> None:
        """Show the zero and the checklist of a project."""
        rebuild = bench.checks != self._bench.checks or not self._checks.count()
        self._bench = bench
        self.subtract_zero.setEnabled(bench.zero is not None)
        self.subtract_zero.setChecked(bench.zero is not None and bench.zero.subtracted)
        if rebuild:
            self._rebuild(bench.checks)
        self._say()

    def _say(self) -> None:
        zero = self._bench.zero
        self.subtract_load.setEnabled(zero is not None and zero.load_a is not None)
        if zero is None:
            self.outcome.setText("No zero is set: the instrument's own offset stays in the recording.")
            return
        parts = [
            f"With open leads the instrument reads {level_text(Level(zero.offset_a, zero.offset_error_a))}.",
            f"Set {zero.set_utc.replace('T', ' at ')}.",
        ]
        if zero.load_a is not None:
            parts.append(f"The set-up draws {level_text(Level(zero.load_a, zero.load_error_a))} without the target.")
        tools = tool_load(self.levels)
        if tools is not None:
            parts.append(f"Of that the unplugged tools draw {level_text(tools)}.")
        self.outcome.setText("\n".join(parts))

    def _on_subtract(self, on: bool) -> None:
        if self._bench.zero is not None:
            zero = msgspec.structs.replace(self._bench.zero, subtracted=on)
            self.changed.emit("subtract the zero" if on else "keep the zero in", {"zero": zero})

    def _hang_load(self) -> None:
        zero = self._bench.zero
        if zero is None or zero.load_a is None:
            return
        others = tuple(one for one in self._bench.attached if one.name != SET_UP)
        detail = f"baseline of {zero.set_utc[:16].replace('T', ' ')}"
        load = Attached(SET_UP, zero.load_a, detail=detail, subtracted=True, grade=Grade.MEASURED)
        self.changed.emit("subtract the baseline", {"attached": (*others, load)})

    def _rebuild(self, checks: tuple[Check, ...]) -> None:
        while self._checks.count():
            item = self._checks.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for index, check in enumerate(checks):
            box = QCheckBox(check.text)
            box.setChecked(check.done)
            box.clicked.connect(lambda on, index=index: self._on_check(index, on))
            self._checks.addWidget(box)

    def _on_check(self, index: int, on: bool) -> None:
        checks = list(self._bench.checks)
        checks[index] = msgspec.structs.replace(checks[index], done=on)
        self.changed.emit("checklist", {"checks": tuple(checks)})

    def _add_check(self) -> None:
        text = self.new_check.text().strip()
        if text:
            self.new_check.clear()
            self.changed.emit("checklist", {"checks": (*self._bench.checks, Check(text))})

    def sentence(self) -> str:
        """Return what the zero says, as rich text."""
        zero = self._bench.zero
        done = sum(check.done for check in self._bench.checks)
        checks = f"**{done}** of **{len(self._bench.checks)}** links were looked at"
        if zero is None:
            return f"No zero is set yet; {checks}."
        return f"The instrument reads {quantity_text(zero.offset_a, 'A').rich} with open leads; {checks}."
