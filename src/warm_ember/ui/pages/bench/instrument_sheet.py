"""An instrument described in the window: what it is called and can do, and each command tried on the real thing."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import WarmEmberError
from warm_ember.model.bench import Bench
from warm_ember.session.instrument_entry import (
    COMMAND_WORDS,
    commands_of,
    described,
    generic_of,
    missing_of,
    read_ranges,
    save_description,
    text_of_ranges,
    try_description,
)
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.units import counted, parse_quantity, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import InstrumentDescription, TriedInstrument

_MODES = {
    "sweep": "takes sweeps",
    "polled": "answers one reading at a time",
    "lines": "prints lines",
}
_FORMATS = {"real32": "blocks of float32", "real64": "blocks of float64", "ascii": "text"}
_ORDERS = {"big": "highest byte first", "little": "lowest byte first"}
_QUANTITIES = {
    "max_voltage_v": ("highest voltage", "V"),
    "max_current_a": ("highest current", "A"),
    "burden_ohm": ("burden", "Ω"),
    "max_rate_hz": ("readings in a second", "Hz"),
    "aperture_s": ("looks for", "s"),
}
_OF_MODE = {
    "sweep": {
        "data_format", "byte_order", "shortest", "endless", "max_voltage_v", "max_current_a", "burden_ohm", "voltage",
    },
    "polled": {"max_rate_hz", "aperture_s", "max_voltage_v", "max_current_a", "burden_ohm"},
    "lines": {"pattern", "baud", "burden_ohm"},
}  # fmt: skip
_WIDTH, _HEIGHT, _FORM = 1180, 660, 420
_RANGES_LINES = 5
_FORM_SHARE = 0.4
_TRYING = "try a description"


class InstrumentSheet(QDialog):
    """What is known at the left, its commands and what came back at the right.

    Parameters
    ----------
    parent
        The page.
    look
        Theme and type.
    controller
        The session.
    known
        What is known of the instrument so far; None begins with the generic one.
    identity
        What it answered to ``*IDN?``; empty when it was not asked.

    Signals
    -------
    saved
        The description was written: it is looked up anew.
    """

    saved = Signal()

    def __init__(
        self,
        parent: QWidget,
        look: Appearance,
        controller: ProjectController,
        known: InstrumentDescription | None,
        identity: str,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Describe an instrument")
        self.setModal(True)
        room = parent.window().size()
        self.resize(min(look.px(_WIDTH), room.width()), min(look.px(_HEIGHT), room.height()))
        self._look, self._controller = look, controller
        self._known = known or generic_of("sweep")
        self._commands = commands_of(self._known)
        self._answers: dict[str, tuple[str, bool]] = {}
        self._lines: tuple[tuple[str, str], ...] = ()
        self._build()
        self._show_known(identity)
        self.mode.currentIndexChanged.connect(lambda _i: self._on_mode())
        self.table.cell_renamed.connect(self._on_command)
        self.try_key.clicked.connect(self.try_all)
        self.save_key.clicked.connect(self.save)
        self._on_mode(keep=True)

    @property
    def _bench(self) -> Bench:
        return self._controller.project.bench

    def _build(self) -> None:
        px = self._look.px
        self.name, self.identity = QLineEdit(), QLineEdit()
        self.mode = _choices(_MODES)
        self.data_format, self.byte_order = _choices(_FORMATS), _choices(_ORDERS)
        self.voltage = QCheckBox("measures the voltage too")
        self.shortest, self.endless = QLineEdit(), QLineEdit()
        self.pattern, self.baud = QLineEdit(), QLineEdit()
        self.quantities = {name: QLineEdit() for name in _QUANTITIES}
        self.ranges = QPlainTextEdit()
        self.ranges.setPlaceholderText("100 µA, step 10 nA, noise 250 nA\n10 mA, step 500 nA")
        self.ranges.setFixedHeight(px(22) * _RANGES_LINES)
        self.ranges.setTabChangesFocus(True)
        self.shortest.setPlaceholderText("1 µs to 1 s")
        self.identity.setPlaceholderText("^Maker,Model 12")
        self.form = QFormLayout()
        self._fields: dict[str, QWidget] = {
            "data_format": self.data_format, "byte_order": self.byte_order, "voltage": self.voltage,
            "shortest": self.shortest, "endless": self.endless, "pattern": self.pattern, "baud": self.baud,
            **self.quantities,
        }  # fmt: skip
        for words, widget in (
            ("Name", self.name), ("It", self.mode), ("Answers to *IDN?", self.identity), ("Pattern", self.pattern),
            ("Baud", self.baud), ("Samples come as", self.data_format), ("", self.byte_order), ("", self.voltage),
            ("Interval", self.shortest), ("Sweep without end", self.endless),
            *((_QUANTITIES[name][0].capitalize(), edit) for name, edit in self.quantities.items()),
            ("Ranges", self.ranges),
        ):  # fmt: skip
            self.form.addRow(words, widget)
            widget.setAccessibleName(words or "Byte order")
        left = QScrollArea()
        left.setFixedWidth(min(px(_FORM), int(_FORM_SHARE * self.width())))
        left.setWidgetResizable(True)
        left.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        known = QWidget()
        left.setWidget(known)
        column = QVBoxLayout(known)
        column.setContentsMargins(0, 0, px(10), 0)
        column.addLayout(self.form)
        column.addStretch(1)
        self.missing = Label("")
        self.missing.setWordWrap(True)
        column.addWidget(self.missing)
        self.table = FigureTable(
            self._look, ("What it does", "Sent", "Came back"), editable=1, sortable=False, words=(0, 1, 2)
        )
        self.table.share_width(2.4, 3.2, 3.4)
        self.table.setAccessibleName("Commands, and what came back")
        right = QVBoxLayout()
        right.addWidget(self.table, 1)
        self.state = Label("")
        self.state.setWordWrap(True)
        right.addWidget(self.state)
        row = QHBoxLayout()
        row.addWidget(left)
        row.addLayout(right, 1)
        self.try_key, self.save_key, cancel = QPushButton("Try all"), QPushButton("Save"), QPushButton("Close")
        cancel.clicked.connect(self.reject)
        self.try_key.setDefault(True)
        keys = QHBoxLayout()
        keys.addStretch(1)
        for key in (self.try_key, self.save_key, cancel):
            keys.addWidget(key)
        whole = QVBoxLayout(self)
        whole.addLayout(row, 1)
        whole.addLayout(keys)

    def _show_known(self, identity: str) -> None:
        """Fill in what is known; what answered but has no description of its own gets its name from its answer."""
        known = self._known
        is_own = bool(known.identity) or known.mode == "lines"
        parts = identity.split(",")
        self.name.setText(known.name if is_own else " ".join(parts[:2]).strip())
        self.identity.setText(known.identity if is_own or len(parts) < 2 else f"^{','.join(map(_literal, parts[:2]))}")
        self.mode.setCurrentIndex(list(_MODES).index(known.mode))
        self.data_format.setCurrentIndex(list(_FORMATS).index(known.data_format))
        self.byte_order.setCurrentIndex(list(_ORDERS).index(known.byte_order))
        self.voltage.setChecked("voltage" in known.sense)
        if known.interval_s is not None:
            shortest, longest = (quantity_text(one, "s") for one in known.interval_s)
            self.shortest.setText(f"{shortest} to {longest}")
        self.endless.setText(known.endless_points)
        self.pattern.setText(known.pattern)
        self.baud.setText(str(known.baud))
        for name, (_, unit) in _QUANTITIES.items():
            value = getattr(known, name)
            self.quantities[name].setText("" if value is None else str(quantity_text(value, unit)))
        self.ranges.setPlainText(text_of_ranges(known.ranges))
        for edit in self.findChildren(QLineEdit):
            edit.setCursorPosition(0)

    @property
    def _mode(self) -> str:
        return str(self.mode.currentData())

    def _on_mode(self, *, keep: bool = False) -> None:
        """Show the fields and the commands of this kind of instrument."""
        if not keep:
            self._commands = commands_of(generic_of(self._mode))
            self._answers, self._lines = {}, ()
        shown = _OF_MODE[self._mode]
        for name, widget in self._fields.items():
            self.form.setRowVisible(widget, name in shown)
        self.form.setRowVisible(self.identity, self._mode != "lines")
        self._show_commands()
        self._show_missing()

    def _show_commands(self) -> None:
        rows = [self._row(name, text) for name, text in self._commands.items()]
        rows += [((COMMAND_WORDS["line"], ""), (line, ""), (answer, "")) for line, answer in self._lines]
        self.table.show_rows(rows)

    def _row(self, name: str, text: str) -> tuple[tuple[str, str], ...]:
        answer, is_fine = self._answers.get(name, ("" if text else "not sent", True))
        return (COMMAND_WORDS.get(name, name), ""), (text, ""), (answer if is_fine else f"▲ {answer}", "")

    def _on_command(self, row: int, text: str) -> None:
        names = list(self._commands)
        if row < len(names):
            self._commands[names[row]] = text
            self._answers.pop(names[row], None)

    def entered(self) -> InstrumentDescription:
        """Return the description as it stands.

        Raises
        ------
        WarmEmberError
            If something of it cannot be read.
        """
        shown, mode = _OF_MODE[self._mode], self._mode
        fields: dict[str, Any] = {"name": self.name.text().strip(), "mode": mode}
        if mode != "lines" and self.identity.text().strip():
            fields["identity"] = self.identity.text().strip()
        for name, (_, unit) in _QUANTITIES.items():
            text = self.quantities[name].text().strip()
            if name in shown and text:
                fields[name] = parse_quantity(text, unit)
        if mode == "sweep":
            fields |= {"data_format": self.data_format.currentData(), "byte_order": self.byte_order.currentData()}
            fields["sense"] = tuple(self._sense())
            fields["endless_points"] = self.endless.text().strip()
            if self.shortest.text().strip():
                ends = self.shortest.text().replace("to", " to ").split(" to ")
                fields["interval_s"] = tuple(parse_quantity(one, "s") for one in ends)
        if mode == "lines":
            fields |= {"pattern": self.pattern.text(), "baud": int(parse_quantity(self.baud.text(), ""))}
        fields["ranges"] = read_ranges(self.ranges.toPlainText())
        for name in ("line_names", "max_points"):
            if mode == "sweep" and getattr(self._known, name):
                fields[name] = getattr(self._known, name)
        return described(fields, self._commands)

    def _sense(self) -> list[object]:
        """Return what it senses: of what was known only the voltage is asked for here."""
        found: list[object] = [one for one in self._known.sense if one != "voltage"]
        return [found[0], "voltage", *found[1:]] if self.voltage.isChecked() else found

    def try_all(self) -> None:
        """Send each command once, in the background, and show what came back."""
        description = self._read()
        if description is None:
            return
        bench = self._bench
        if not bench.resource:
            self.state.setText("no instrument: enter its address on the Bench page first")
            return
        self.state.setText(f"trying each command at {bench.resource}; its output stays off")
        self.try_key.setEnabled(False)

        def came(tried: TriedInstrument) -> None:
            self.try_key.setEnabled(True)
            self._show_tried(tried)

        def failed(error: Exception) -> None:
            self.try_key.setEnabled(True)
            self.state.setText(error.one_line if isinstance(error, WarmEmberError) else str(error))

        self._controller.jobs.run(
            _TRYING,
            "trying the instrument's commands",
            lambda should_stop, progress: try_description(
                bench.resource,
                description,
                bench.settings,
                guard_v=bench.guard_v,
                should_stop=should_stop,
                progress=progress,
            ),
            came,
            failed,
        )

    def _show_tried(self, tried: TriedInstrument) -> None:
        self._lines = tuple((one.sent, one.answer) for one in tried.commands if one.name == "line")
        self._answers = {one.name: (one.answer, one.is_fine) for one in tried.commands}
        if tried.max_rate_hz is not None and not self.quantities["max_rate_hz"].text():
            self.quantities["max_rate_hz"].setText(str(quantity_text(tried.max_rate_hz, "Hz")))
        wrong = [one for one in tried.commands if not one.is_fine]
        words = f"{counted(len(tried.commands), 'command')} tried" if not self._lines else "lines came"
        verdict = "all answered as hoped" if not wrong else f"{counted(len(wrong), 'problem')}, marked ▲"
        answers_as = self._answers.get("identity", ("", True))
        told = f" It says that it is {answers_as[0]}." if answers_as[0] else ""
        self.state.setText(f"{words}: {verdict}.{told}")
        self._show_commands()
        self._show_missing()

    def _show_missing(self) -> None:
        try:
            missing = missing_of(self.entered())
        except (WarmEmberError, ValueError):
            missing = ()
        self.missing.setText("Not known: " + "; ".join(missing) + "." if missing else "")

    def _read(self) -> InstrumentDescription | None:
        try:
            return self.entered()
        except WarmEmberError as error:
            self.state.setText(error.one_line)
            return None

    def done(self, result: int) -> None:
        self._controller.jobs.stop(_TRYING)
        super().done(result)

    def save(self) -> None:
        """Write the description among the user's own."""
        description = self._read()
        if description is None:
            return
        try:
            path = save_description(description)
        except WarmEmberError as error:
            self.state.setText(error.one_line)
            return
        self._controller.noted.emit(f"{description.name} is described in {path}")
        self.saved.emit()
        self.accept()


def _choices(words: dict[str, str]) -> QComboBox:
    box = QComboBox()
    for value, text in words.items():
        box.addItem(text, value)
    return box


def _literal(text: str) -> str:
    """Return an expression that fits just this text."""
    return "".join(f"\\{c}" if not (c.isalnum() or c in " _-,") else c for c in text.strip())
