"""The recording recipe: instrument, what it is set to, what is recorded, and the steps."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import Bench, Recipe, Step, SwitchOutput, Take, TriggerSource
from warm_ember.session.bench_setup import steps_from_text, text_of_steps
from warm_ember.session.pace import pace_text, size_text
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.bench.second_field import SecondField
from warm_ember.ui.widgets.quantity_edit import QuantityEdit

if TYPE_CHECKING:
    from warm_ember.session.records import InstrumentDescription


replace = msgspec.structs.replace
PLAIN_STEPS: tuple[Step, ...] = (SwitchOutput(), Take())
_PLAIN = "power on, record"
_STARTS = {
    "at once": TriggerSource.IMMEDIATE,
    "at a level": TriggerSource.LEVEL,
    "by a line": TriggerSource.LINE,
}


class RecipePanel(QWidget):
    """Everything that a recording is made with, each typed where it stands.

    Signals
    -------
    changed
        ``(what, fields of the bench)`` to change.
    find_asked, simulated_asked
        Look for instruments.
    describe_asked
        Describe the one that is there.
    marked
        Mark this moment.
    """

    changed = Signal(str, object)
    find_asked = Signal()
    simulated_asked = Signal()
    describe_asked = Signal()
    marked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self._bench = Bench()
        self.recipe_name = ""
        px = look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(4), px(8), px(6))
        column.setSpacing(px(4))
        head = QHBoxLayout()
        head.addWidget(Label("Recipe"))
        head.addStretch(1)
        self.note = Label()
        self.note.setFont(look.font("small"))
        head.addWidget(self.note)
        column.addLayout(head)
        self._scroll = self._build_fields()
        column.addWidget(self._scroll, 1)
        column.addLayout(self._build_keys())

    def _build_fields(self) -> QScrollArea:
        px = self.look.px
        self.fields = QWidget()
        self.grid = QGridLayout(self.fields)
        self.grid.setContentsMargins(0, 0, px(4), 0)
        self.grid.setHorizontalSpacing(px(6))
        self.grid.setVerticalSpacing(px(3))
        self.grid.setColumnStretch(1, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.fields)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._build_instrument()
        self._build_settings()
        self._build_start()
        self._build_steps()
        self._build_identity()
        return scroll

    def _build_keys(self) -> QHBoxLayout:
        keys = QHBoxLayout()
        self.save = QPushButton("Save as recipe")
        self.save.clicked.connect(lambda: self.ask_name())
        self.mark = QPushButton("Mark this moment")
        self.mark.clicked.connect(self.marked)
        self.mark.hide()  # there is a moment to mark while something is recorded
        for button in (self.save, self.mark):
            button.setFont(self.look.font("small"))
            keys.addWidget(button)
        return keys

    @property
    def least_width(self) -> int:
        """The width in which nothing of it is cut."""
        bar, margins = self._scroll.verticalScrollBar().sizeHint().width(), self.look.px(12 + 8)
        return self.fields.minimumSizeHint().width() + bar + margins

    def _row(self, words: str, widget: QWidget, unit: str = "") -> QLabel:
        row = self.grid.rowCount()
        label = Label(words)
        beside = Label(unit)
        for one in (label, widget, beside):
            one.setFont(self.look.font("small"))
        self.grid.addWidget(label, row, 0)
        if unit == "\0":
            self.grid.addWidget(widget, row, 1, 1, 2)
        else:
            self.grid.addWidget(widget, row, 1, Qt.AlignmentFlag.AlignLeft)
            beside.setWordWrap(True)
            beside.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            self.grid.addWidget(beside, row, 2)
        return beside

    def _build_instrument(self) -> None:
        self.resource = QLineEdit()
        self.resource.setPlaceholderText("TCPIP::127.0.0.1::5025::SOCKET")
        self.resource.setAccessibleName("Address of the instrument")
        self.resource.editingFinished.connect(self._on_resource)
        self._row("instrument", self.resource, "\0")
        self.find_key = QPushButton("Find")
        self.find_key.clicked.connect(self.find_asked)
        self.simulated_key = QPushButton("Use the simulated bench")
        self.simulated_key.setToolTip("Start a simulated instrument with the trail counter post behind it")
        self.simulated_key.clicked.connect(self.simulated_asked)
        self.describe_key = QPushButton("Describe …")
        self.describe_key.setToolTip("Say which commands it knows, and try them on it")
        self.describe_key.setFont(self.look.font("small"))
        self.describe_key.clicked.connect(self.describe_asked)
        finding = QWidget()
        keys = QHBoxLayout(finding)
        keys.setContentsMargins(0, 0, 0, 0)
        keys.addWidget(self.find_key)
        keys.addWidget(self.describe_key)
        self.find_key.setFont(self.look.font("small"))
        self.identity_words = self._row("", finding, " ")
        self.simulated_key.setFont(self.look.font("small"))
        self.grid.addWidget(self.simulated_key, self.grid.rowCount(), 1, 1, 2, Qt.AlignmentFlag.AlignLeft)
        self.identity_words.setWordWrap(True)
        self.second = SecondField(self.look)
        self.second.changed.connect(lambda second: self.changed.emit("second instrument", {"second": second}))
        self._row("beside it", self.second, "\0")

    def _on_resource(self) -> None:
        if self.resource.isModified():
            self.resource.setModified(False)
            self.changed.emit("instrument", {"resource": self.resource.text().strip()})

    def _build_settings(self) -> None:
        self.settings: dict[str, QuantityEdit] = {}
        self.beside: dict[str, QLabel] = {}
        for field, words, unit, note in (
            ("voltage_v", "voltage", "V", "at the source"),
            ("limit_a", "current limit", "A", "then off"),
            ("range_a", "range", "A", "0: automatic"),
            ("interval_s", "interval", "s", ""),
            ("duration_s", "length", "s", ""),
        ):
            edit = QuantityEdit(self.look, unit, words, 84)
            edit.value_entered.connect(lambda value, f=field, w=words: self._set(w, **{f: self._meant(f, value)}))
            self.settings[field] = edit
            self.beside[field] = self._row(words, edit, note or " ")
        self.guard = QuantityEdit(self.look, "V", "guard: no voltage above it is ever sent", 84)
        self.guard.value_entered.connect(lambda value: self.changed.emit("guard", {"guard_v": value or None}))
        self.guard_words = self._row("voltage guard", self.guard, "never above")

    @staticmethod
    def _meant(field: str, value: float) -> float | None:
        """Return what a typed value stands for: no range is an automatic one, no length has no end."""
        return None if not value and field in ("range_a", "duration_s", "limit_a") else value

    def _set(self, what: str, **fields: object) -> None:
        self.changed.emit(what, {"settings": replace(self._bench.settings, **fields)})

    def _set_trigger(self, what: str, **fields: object) -> None:
        self._set(what, trigger=replace(self._bench.settings.trigger, **fields))

    def _build_start(self) -> None:
        self.starts = QComboBox()
        self.starts.addItems(list(_STARTS))
        self.starts.setAccessibleName("What starts the recording")
        self.starts.activated.connect(lambda _i: self._on_start())
        self._row("starts", self.starts, " ")
        self.level = QuantityEdit(self.look, "A", "level of the trigger", 84)
        self.level.value_entered.connect(lambda value: self._set_trigger("trigger level", level_a=value))
        self.line = QComboBox()
        self.line.setAccessibleName("Line of the trigger")
        self.line.activated.connect(lambda _i: self._set_trigger("trigger line", line=self.line.currentText()))
        self.slope = QComboBox()
        self.slope.addItems(["rising", "falling"])
        self.slope.setAccessibleName("Slope of the trigger")
        self.slope.activated.connect(lambda index: self._set_trigger("slope", rising=index == 0))
        self.before = QuantityEdit(self.look, "s", "kept from before the trigger", 84)
        self.before.value_entered.connect(lambda value: self._set_trigger("time kept before", before_s=value))
        self._trigger_rows: dict[QWidget, int] = {}
        for words, widget, unit in (
            ("level", self.level, " "), ("line", self.line, " "), ("slope", self.slope, " "),
            ("kept before", self.before, " "),
        ):  # fmt: skip
            self._trigger_rows[widget] = self.grid.rowCount()
            self._row(words, widget, unit)

    def _on_start(self) -> None:
        source = _STARTS[self.starts.currentText()]
        line = self._bench.settings.trigger.line or self.line.itemText(0)
        self._set_trigger("start", source=source, line=line if source is TriggerSource.LINE else "")

    def _build_steps(self) -> None:
        self.recipes = QComboBox()
        self.recipes.setAccessibleName("Recipe")
        self.recipes.activated.connect(lambda _i: self.choose(self.recipes.currentText()))
        self._row("steps", self.recipes, "\0")
        self.steps = QPlainTextEdit()
        self.steps.setAccessibleName("Steps of the recipe, one a line")
        self.steps.setFixedHeight(self.look.px(60))
        self.steps.setPlaceholderText("power on\nrecord")
        self.steps.setTabChangesFocus(True)
        self.steps.textChanged.connect(self._on_steps)
        self._row("", self.steps, "\0")
        self.steps_problem = Label()
        self.steps_problem.setWordWrap(True)
        self._row("", self.steps_problem, "\0")

    def _on_steps(self) -> None:
        try:
            steps_from_text(self.steps.toPlainText())
            self.steps_problem.clear()
        except BadArgumentError as error:
            self.steps_problem.setText(error.one_line)
            self.steps_problem.setStyleSheet(f"color: {self.look.theme.warning_text.name()};")
        self.steps_problem.setVisible(bool(self.steps_problem.text()))

    def _build_identity(self) -> None:
        self.identity: dict[str, QLineEdit] = {}
        for field, words, example in (
            ("target", "target", "trail counter post"),
            ("board", "board", "rev C"),
            ("firmware", "firmware", "r5"),
            ("options", "options", "release, log off"),
            ("indicators", "indicators", "on or off"),
        ):
            edit = QLineEdit()
            edit.setPlaceholderText(example)
            edit.setAccessibleName(words)
            edit.editingFinished.connect(lambda e=edit, f=field, w=words: self._on_identity(w, f, e))
            self.identity[field] = edit
            self._row(words, edit, "\0")
        self.temperature = QuantityEdit(self.look, "°C", "temperature", 84, low=-273.0)
        self.temperature.value_entered.connect(lambda value: self._set_identity("temperature", temperature_c=value))
        self._row("temperature", self.temperature, " ")

    def _on_identity(self, what: str, field: str, edit: QLineEdit) -> None:
        if edit.isModified():
            edit.setModified(False)
            self._set_identity(what, **{field: edit.text().strip()})

    def _set_identity(self, what: str, **fields: object) -> None:
        self.changed.emit(what, {"identity": replace(self._bench.identity, **fields)})

    def recipe(self) -> Recipe:
        """Return the recipe as it stands.

        Raises
        ------
        BadArgumentError
            If a line of its steps is none.
        """
        steps = steps_from_text(self.steps.toPlainText()) or PLAIN_STEPS
        return Recipe(self.recipe_name or "record", self._bench.settings, steps)

    def choose(self, name: str) -> None:
        """Take a saved recipe: its settings and its steps."""
        recipe = self._bench.recipe(name)
        self.recipe_name = name if recipe is not None else ""
        self.steps.setPlainText(text_of_steps(recipe.steps if recipe is not None else PLAIN_STEPS))
        if recipe is not None:
            self.changed.emit(f"take recipe {name}", {"settings": recipe.settings})

    def ask_name(self) -> None:
        """Ask for a name and save the recipe under it."""
        name, confirmed = QInputDialog.getText(self, "Save as recipe", "Name", text=self.recipe_name)
        if confirmed and name.strip():
            self.save_as(name.strip())

    def save_as(self, name: str) -> None:
        """Save the recipe under a name; one of that name is replaced."""
        try:
            recipe = replace(self.recipe(), name=name)
        except BadArgumentError as error:
            self.steps_problem.setText(error.one_line)
            return
        self.recipe_name = name
        others = tuple(one for one in self._bench.recipes if one.name != name)
        self.changed.emit(f"save recipe {name}", {"recipes": (*others, recipe)})

    def show_bench(self, bench: Bench, known: InstrumentDescription | None, identity: str) -> None:
        """Show the bench of a project and what is known of its instrument."""
        self._bench = bench
        settings, trigger = bench.settings, bench.settings.trigger
        if not self.resource.hasFocus():
            self.resource.setText(bench.resource)
            self.resource.setCursorPosition(0)
        self.second.show_second(bench.second)
        self.identity_words.setText(identity.split(",")[1] if identity.count(",") else "")
        self.identity_words.setToolTip(tip(identity))
        for field, edit in self.settings.items():
            edit.set_value(getattr(settings, field))
        for field, empty in (("range_a", "automatic"), ("duration_s", "no end"), ("limit_a", "as it is")):
            self.settings[field].setPlaceholderText(empty)
        self.guard.set_value(bench.guard_v)
        self.guard.setPlaceholderText("none")
        self.beside["interval_s"].setText(pace_text(bench, known))
        self.beside["duration_s"].setText(size_text(bench, known))
        self._show_trigger(trigger, known)
        self._show_recipes(bench)
        for field, words in self.identity.items():
            if not words.hasFocus():
                words.setText(getattr(bench.identity, field))
        self.temperature.set_value(bench.identity.temperature_c)

    def _show_trigger(self, trigger: object, known: InstrumentDescription | None) -> None:
        settings = self._bench.settings.trigger
        names = known.line_names if known is not None else ()
        names = names if not settings.line or settings.line in names else (settings.line, *names)
        self.line.clear()
        self.line.addItems(list(names))
        self.line.setCurrentText(settings.line)
        self.starts.setCurrentText(next(words for words, one in _STARTS.items() if one is settings.source))
        self.level.set_value(settings.level_a)
        self.slope.setCurrentIndex(0 if settings.rising else 1)
        self.before.set_value(settings.before_s)
        waits = settings.source is not TriggerSource.IMMEDIATE
        shown = {
            self.level: settings.source is TriggerSource.LEVEL,
            self.line: settings.source is TriggerSource.LINE,
            self.slope: waits,
            self.before: waits,
        }
        for widget, visible in shown.items():
            for column in range(3):
                item = self.grid.itemAtPosition(self._trigger_rows[widget], column)
                cell = item.widget() if item is not None else None
                if cell is not None:
                    cell.setVisible(visible)

    def _show_recipes(self, bench: Bench) -> None:
        names = [_PLAIN, *(one.name for one in bench.recipes)]
        if [self.recipes.itemText(index) for index in range(self.recipes.count())] != names:
            self.recipes.clear()
            self.recipes.addItems(names)
        self.recipes.setCurrentText(self.recipe_name or _PLAIN)
        self._on_steps()

    def set_locked(self, locked: bool) -> None:
        """Keep everything as it is while recording."""
        self.fields.setEnabled(not locked)
        self.note.setText("locked while recording" if locked else "")
        self.mark.setVisible(locked)
        self.save.setVisible(not locked)
