"""The editor under a row of the ledger: its name, its expected value, and the rules that place it."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QStringListModel, Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QCompleter,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import BadArgumentError
from warm_ember.model.parts import PartOn, parts_text, read_parts
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.model.project import ExpectedValue, Project
from warm_ember.model.rules import BandRule, HandRule, LevelsRule, LineRule, LogRule, Rule
from warm_ember.session.run_results import RunResults
from warm_ember.session.state_results import summed
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.ui.widgets.view_stack import ViewStack
from warm_ember.units import duration_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import LedgerRow


_PREVIEW_AFTER_MS = 40
_FIXED_WIDGETS = 3
BAND, LOG, LINE, HAND = "by current band", "by log", "by line", "by hand"


def rule_words(rule: Rule) -> str:
    """Say in words what a rule does."""
    if isinstance(rule, BandRule):
        band = f"{quantity_text(rule.low_a, 'A')} to {quantity_text(rule.high_a, 'A')}"
        return f"{rule.state}: {band}, over {duration_text(rule.shortest_s)}"
    if isinstance(rule, HandRule):
        return f"{rule.state}: by hand, {duration_text(rule.to_s - rule.from_s)} at {rule.from_s:.3f} s"
    if isinstance(rule, LineRule):
        words = [f"{name} high" for name in rule.high] + [f"{name} low" for name in rule.low]
        return f"{rule.state}: {', '.join(words)}" if rule.state else "the lines' combinations"
    if isinstance(rule, LogRule):
        return (
            f"{rule.state or rule.event_name}: log says “{rule.event_name}”"
            if rule.event_name
            else "the rest by the log"
        )
    return "the rest by levels found"


class RuleEditor(QWidget):
    """The editor of one state.

    Signals
    -------
    previewed
        A rule to try, or None.
    placed
        A rule to add.
    rule_dropped
        A rule to remove.
    rule_preferred
        A rule that shall count before the others.
    renamed
        ``(old, new)`` name of the state.
    expected_entered
        An expected value, or None to forget it.
    group_entered
        ``(state, group)``: with what the state is read; an empty group for alone.
    """

    previewed = Signal(object)
    placed = Signal(object)
    rule_dropped = Signal(object)
    rule_preferred = Signal(object)
    renamed = Signal(str, str)
    expected_entered = Signal(object)
    group_entered = Signal(str, str)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        self.state = ""
        self._results: RunResults | None = None
        self._project = Project()
        self._bracket: tuple[float, float] | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_PREVIEW_AFTER_MS)
        self._timer.timeout.connect(lambda: self.previewed.emit(self.rule()))
        self._build()
        self._connect()

    def _build(self) -> None:
        px = self._look.px
        column = QVBoxLayout(self)
        column.setContentsMargins(px(12), px(2), px(12), px(8))
        column.setSpacing(px(6))
        column.addLayout(self._build_name_row())
        column.addLayout(self._build_parts_row())
        column.addLayout(self._build_rule_row())
        self.words = Label()
        self.words.setFont(self._look.font("small"))
        self._rules_row = QHBoxLayout()
        self._rules_row.setSpacing(px(6))
        for widget in (self.forms, self.words):
            self._rules_row.addWidget(widget)
        self._rules_row.addStretch(1)
        column.addLayout(self._rules_row)

    def _build_name_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.name_edit = QLineEdit()
        self.name_edit.setFixedWidth(self._look.px(150))
        self.name_edit.setAccessibleName("Name of the state")
        self.expected_edit = QuantityEdit(self._look, "A", "Expected current", 88)
        self.tolerance_edit = QuantityEdit(self._look, "%", "Tolerance", 60)
        self.condition_edit = QLineEdit()
        self.condition_edit.setPlaceholderText("when it holds")
        self.condition_edit.setAccessibleName("Condition of the expected value")
        self.condition_edit.setFixedWidth(self._look.px(150))
        self.source_edit = QLineEdit()
        self.source_edit.setPlaceholderText("source")
        self.source_edit.setAccessibleName("Source of the expected value")
        self.source_edit.setFixedWidth(self._look.px(150))
        self._name_widgets = []
        for words, widget in (
            ("Called", self.name_edit), ("expected", self.expected_edit), ("±", self.tolerance_edit),
            ("when", self.condition_edit), ("source", self.source_edit),
        ):  # fmt: skip
            label = self._label(words)
            self._name_widgets += [label, widget]
            row.addWidget(label)
            row.addWidget(widget)
        row.addStretch(1)
        return row

    def _build_parts_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.parts_edit = QLineEdit()
        self.parts_edit.setPlaceholderText("the parts that should be on, such as: Rowan deep sleep + Thrush on")
        self.parts_edit.setAccessibleName("Parts that should be on")
        self.group_edit = QLineEdit()
        self.group_edit.setPlaceholderText("none")
        self.group_edit.setFixedWidth(self._look.px(110))
        self.group_edit.setAccessibleName("Group of the state")
        self.parts_words = self._label("")
        self._part_names = QStringListModel(self)
        completer = _PartCompleter(self._part_names, self)
        self.parts_edit.setCompleter(completer)
        for words, widget, stretch in (
            ("Sum of", self.parts_edit, 3), ("", self.parts_words, 2), ("group", self.group_edit, 0)
        ):  # fmt: skip
            if words:
                label = self._label(words)
                self._name_widgets.append(label)
                row.addWidget(label)
            self._name_widgets.append(widget)
            row.addWidget(widget, stretch)
        return row

    def _label(self, words: str) -> QLabel:
        label = Label(words)
        label.setFont(self._look.font("small"))
        return label

    def _build_rule_row(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self._place_label = self._label("Place more of it")
        row.addWidget(self._place_label)
        self.kinds: dict[str, QPushButton] = {}
        group = QButtonGroup(self)
        for kind in (LINE, LOG, BAND, HAND):
            button = QPushButton(kind)
            button.setCheckable(True)
            button.setFont(self._look.font("small"))
            bold = self._look.metrics("small", bold=True).horizontalAdvance(kind)
            button.setMinimumWidth(round(bold) + self._look.px(28))
            group.addButton(button)
            row.addWidget(button)
            self.kinds[kind] = button
        self.kinds[BAND].setChecked(True)
        self.forms = ViewStack()
        self.forms.addWidget(self._build_line_form())
        self.forms.addWidget(self._build_log_form())
        self.forms.addWidget(self._build_band_form())
        self.forms.addWidget(self._build_hand_form())
        self.as_label = self._label("as state")
        self.as_edit = QLineEdit()
        self.as_edit.setFixedWidth(self._look.px(110))
        self.as_edit.setAccessibleName("State to place")
        self.place_button = QPushButton("Place   ↵")
        for widget in (self.as_label, self.as_edit, self.place_button):
            row.addWidget(widget)
        row.addStretch(1)
        return row

    def _form(self, *widgets: QWidget | str) -> QWidget:
        form = QWidget()
        row = QHBoxLayout(form)
        row.setContentsMargins(0, 0, 0, 0)
        for widget in widgets:
            row.addWidget(self._label(widget) if isinstance(widget, str) else widget)
        row.addStretch(1)
        return form

    def _build_band_form(self) -> QWidget:
        self.low_edit = QuantityEdit(self._look, "A", "Lower end of the band", 82, low=-1.0)
        self.high_edit = QuantityEdit(self._look, "A", "Upper end of the band", 82, low=-1.0)
        self.hysteresis_edit = QuantityEdit(self._look, "%", "Hysteresis", 60)
        self.shortest_edit = QuantityEdit(self._look, "s", "Shortest stay", 76)
        self.absorb_edit = QuantityEdit(self._look, "s", "Shorter leaves do not end a stay", 76)
        self.hysteresis_edit.set_value(0.1)
        self.shortest_edit.set_value(0.005)
        self.absorb_edit.set_value(0.005)
        return self._form(
            "from",
            self.low_edit,
            "to",
            self.high_edit,
            "hysteresis",
            self.hysteresis_edit,
            "shortest",
            self.shortest_edit,
            "bridging",
            self.absorb_edit,
        )

    def _build_log_form(self) -> QWidget:
        self.event_box = QComboBox()
        self.event_box.setAccessibleName("State in the log")
        return self._form("where the log says", self.event_box)

    def _build_line_form(self) -> QWidget:
        self.line_box, self.line_level = QComboBox(), QComboBox()
        self.line_level.addItems(["high", "low"])
        self.line_box.setAccessibleName("Line")
        self.line_level.setAccessibleName("Level of the line")
        return self._form("where", self.line_box, "is", self.line_level)

    def _build_hand_form(self) -> QWidget:
        self.hand_words = self._label("")
        return self._form(self.hand_words)

    def _connect(self) -> None:
        for index, button in enumerate(self.kinds[kind] for kind in (LINE, LOG, BAND, HAND)):
            button.clicked.connect(lambda _checked=False, index=index: self._on_kind(index))
        for edit in (self.low_edit, self.high_edit, self.hysteresis_edit, self.shortest_edit, self.absorb_edit):
            edit.textEdited.connect(lambda _text: self._timer.start())
            edit.returnPressed.connect(self._place)
        for box in (self.event_box, self.line_box, self.line_level):
            box.activated.connect(lambda _index: self._timer.start())
        self.as_edit.textEdited.connect(lambda _text: self._timer.start())
        self.as_edit.returnPressed.connect(self._place)
        self.place_button.clicked.connect(self._place)
        self.name_edit.editingFinished.connect(self._on_renamed)
        self.expected_edit.value_entered.connect(lambda _value: self._on_expected(is_typed=True))
        self.tolerance_edit.value_entered.connect(lambda _value: self._on_expected())
        self.condition_edit.editingFinished.connect(self._on_expected)
        self.source_edit.editingFinished.connect(self._on_expected)
        self.parts_edit.editingFinished.connect(self._on_expected)
        self.group_edit.editingFinished.connect(self._on_group)

    def _on_kind(self, index: int) -> None:
        self.forms.setCurrentIndex(index)
        self._timer.start()

    @property
    def kind(self) -> str:
        """How the rule being edited places."""
        return next(kind for kind, button in self.kinds.items() if button.isChecked())

    def set_bracket(self, stretch: tuple[float, float] | None) -> None:
        """Take the stretch that placing by hand is about."""
        self._bracket = stretch
        if stretch is None:
            self.hand_words.setText("drag across the lane above: that stretch")
        else:
            self.hand_words.setText(f"the marked {duration_text(stretch[1] - stretch[0])} at {stretch[0]:.4g} s")
        if self.kind == HAND:
            self._timer.start()

    def show_state(self, state: str, results: RunResults, project: Project) -> None:
        """Show the editor for a state of a run."""
        is_new = state != self.state or self._results is None
        self.state, self._results = state, results
        unplaced = state == UNPLACED_NAME
        for widget in self._name_widgets:
            widget.setVisible(not unplaced)
        self._place_label.setText("Place these" if unplaced else "Place more of it")
        if not self.name_edit.hasFocus():
            self.name_edit.setText(state)
        self._project = project
        self._show_expected(results)
        self._part_names.setStringList([parts_text((PartOn(p.name, m.name),)) for p in project.parts for m in p.modes])
        if not self.group_edit.hasFocus():
            self.group_edit.setText(project.group_of.get(state, ""))
        events = list(dict.fromkeys(e.name for e in results.capture.events if e.event == "state"))
        lines = results.capture.lines
        self._offer(self.event_box, events)
        self._offer(self.line_box, list(lines.names) if lines is not None else [])
        self.kinds[LOG].setVisible(bool(events))
        self.kinds[LINE].setVisible(lines is not None and bool(lines.names))
        if is_new:
            self._start_with_band(state, results)
        self._show_rules(project)

    def _show_expected(self, results: RunResults) -> None:
        row = results.ledger.row(self.state)
        value = row.expected if row is not None else None
        self.expected_edit.set_value(value.current_a if value else None)
        if not self.parts_edit.hasFocus():
            self.parts_edit.setText(parts_text(value.parts) if value else "")
            self.parts_edit.setCursorPosition(0)
        self.parts_words.setText(self._explained(row))
        self.tolerance_edit.set_value(value.tolerance if value else 0.2)
        for edit, text in (
            (self.condition_edit, value.condition if value else ""),
            (self.source_edit, value.source if value else ""),
        ):
            if not edit.hasFocus():
                edit.setText(text)
                edit.setCursorPosition(0)

    def _offer(self, box: QComboBox, words: list[str]) -> None:
        if [box.itemText(i) for i in range(box.count())] != words:
            box.clear()
            box.addItems(words)

    def _start_with_band(self, state: str, results: RunResults) -> None:
        """Begin with a band around what the state draws."""
        self.kinds[BAND].setChecked(True)
        self.forms.setCurrentIndex(2)
        row = next((row for row in results.ledger.all_rows if row.name == state), None)
        mean_a = row.mean.value if row is not None and row.mean.value is not None else 1e-3
        self.low_edit.set_value(0.7 * mean_a)
        self.high_edit.set_value(1.4 * mean_a)
        self.as_edit.setText("" if state == UNPLACED_NAME else state)
        self.words.setText("Change a field to try a rule in the ribbon above; Place keeps it.")
        self.set_bracket(self._bracket)

    def _show_rules(self, project: Project) -> None:
        while self._rules_row.count() > _FIXED_WIDGETS:
            item = self._rules_row.takeAt(_FIXED_WIDGETS)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        overruled = self._results.placement.overruled if self._results is not None else {}
        for rule in project.rules:
            if getattr(rule, "state", "") == self.state or (
                isinstance(rule, LevelsRule) and self.state == UNPLACED_NAME
            ):
                share = overruled.get(project.rules.index(rule), 0.0)
                lost = f", {percent_text(share)} of it placed by another rule" if share else ""
                button = QPushButton(f"Remove rule: {rule_words(rule)}{lost}")
                button.setFont(self._look.font("small"))
                button.clicked.connect(lambda _checked=False, rule=rule: self.rule_dropped.emit(rule))
                self._rules_row.addWidget(button)
                if share:
                    first = QPushButton("Put it first")
                    first.setFont(self._look.font("small"))
                    first.clicked.connect(lambda _checked=False, rule=rule: self.rule_preferred.emit(rule))
                    self._rules_row.addWidget(first)

    def rule(self) -> Rule | None:
        """Return the rule as it is being edited, or None while something is missing."""
        state = self.as_edit.text().strip()
        results = self._results
        if not state or results is None or state == UNPLACED_NAME:
            return None
        if self.kind == BAND:
            return self._band(state)
        if self.kind == LOG:
            return LogRule(self.event_box.currentText(), state) if self.event_box.currentText() else None
        if self.kind == LINE:
            line = self.line_box.currentText()
            if not line:
                return None
            return (
                LineRule(state, high=(line,))
                if self.line_level.currentText() == "high"
                else LineRule(state, low=(line,))
            )
        return HandRule(state, results.run.name, *self._bracket) if self._bracket is not None else None

    def _band(self, state: str) -> BandRule | None:
        low, high = self.low_edit.value(), self.high_edit.value()
        hysteresis, shortest, absorb = (
            edit.value() for edit in (self.hysteresis_edit, self.shortest_edit, self.absorb_edit)
        )
        if low is None or high is None or hysteresis is None or shortest is None or low >= high:
            return None
        return BandRule(state, low, high, hysteresis, shortest, None if absorb == shortest else absorb)

    def show_preview(self, words: str) -> None:
        """Return what the edited rule would do."""
        self.words.setText(words)

    def _place(self) -> None:
        rule = self.rule()
        if rule is None:
            self.words.setText("Name the state it is placed as, and give the band's two ends with the lower one first.")
            return
        self._timer.stop()
        self.placed.emit(rule)

    def _on_renamed(self) -> None:
        new = self.name_edit.text().strip()
        if new and new not in (self.state, UNPLACED_NAME):
            self.renamed.emit(self.state, new)

    def _explained(self, row: LedgerRow | None) -> str:
        """Return what is drawn beyond what should be, and where the conditions differ."""
        if row is None or row.expected is None or row.unexplained_a is None:
            return ""
        more = "more" if row.unexplained_a >= 0 else "less"
        words = [f"{quantity_text(abs(row.unexplained_a), 'A')} {more} than the sum: unexplained"]
        return "; ".join([*words, *row.mismatches])

    def _on_group(self) -> None:
        group = self.group_edit.text().strip()
        if group != self._project.group_of.get(self.state, ""):
            self.group_entered.emit(self.state, group)

    def _on_expected(self, *, is_typed: bool = False) -> None:
        """Send what stands in the fields; a current that is typed takes the place of a sum of parts."""
        current_a, tolerance = self.expected_edit.value(), self.tolerance_edit.value()
        try:
            parts = () if is_typed else read_parts(self.parts_edit.text(), self._project.parts)
        except BadArgumentError as error:
            self.words.setText(error.one_line)
            return
        if (not current_a and not parts) or tolerance is None:
            return
        value = ExpectedValue(
            self.state,
            0.0 if parts else current_a or 0.0,
            tolerance,
            self.condition_edit.text().strip(),
            self.source_edit.text().strip(),
            parts,
        )
        if value != self._known():
            self.expected_entered.emit(value)

    def _known(self) -> ExpectedValue | None:
        known = self._project.expected_of(self.state)
        if known is None:
            return None
        # What the fields show of a sum: its tolerance, and a source where none was typed.
        shown = summed(known, self._project)
        return msgspec.structs.replace(shown, current_a=0.0 if known.parts else shown.current_a)


class _PartCompleter(QCompleter):
    """Complete the part after the last plus sign."""

    def __init__(self, names: QStringListModel, parent: QWidget) -> None:
        super().__init__(names, parent)
        self.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.setFilterMode(Qt.MatchFlag.MatchContains)

    def splitPath(self, path: str) -> list[str]:
        return [path.rpartition("+")[2].strip()]

    def pathFromIndex(self, index: QModelIndex | QPersistentModelIndex) -> str:
        widget = self.widget()
        before = widget.text().rpartition("+")[0].strip() if isinstance(widget, QLineEdit) else ""
        name = str(self.model().data(index))
        return f"{before} + {name}" if before else name
