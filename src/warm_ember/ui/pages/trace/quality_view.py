"""Data quality: what in a capture cannot be trusted, and taking out what the measurement added."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QAbstractButton,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import WarmEmberError
from warm_ember.model.correction import Burden, Correction, InputResistance, KnownLoad, Scaling
from warm_ember.model.finding import Finding
from warm_ember.session.correcting import adopt_as_condition, correct_capture, effect_on
from warm_ember.session.joining import join_captures
from warm_ember.session.new_capture import free_name
from warm_ember.session.run_results import RunResults
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import format_distinct, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Fact, QualityReport


_LOADS: tuple[tuple[str, str, str], ...] = (
    ("shunt or amplifier, factor", "", "shunt checked against a reference"),
    ("amplifier, offset", "A", "reading without the target"),
    ("burden in series", "Ω", "shunt and leads"),
    ("meter's input resistance", "Ω", "voltmeter across the target"),
    ("probe", "Ω", "scope probe on the rail"),
    ("debugger or programmer", "A", "debugger still attached"),
    ("serial line", "A", "feeds the chip through its pin"),
    ("capacitor's leakage", "A", "leakage of the supply capacitor"),
    ("other load", "A", "something else on the rail"),
)


class FindingCard(QAbstractButton):
    """Findings of one kind: their places, how sure they are, and the evidence in words.

    Signals
    -------
    place_asked
        The finding to go to: each opening of the card goes to the next place.
    """

    place_asked = Signal(object)

    def __init__(self, look: Appearance, window: TimeWindow, findings: tuple[Finding, ...]) -> None:
        super().__init__()
        self._look, self._window, self.findings = look, window, findings
        self._next = 0
        self.finding = finding = max(findings, key=lambda one: one.to_s - one.from_s)
        self.clicked.connect(self._go_on)
        self.setText(f"{finding.kind}: {finding.text}")
        self.setAccessibleName(self.text())
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setMinimumWidth(look.px(160))

    def _go_on(self) -> None:
        self.place_asked.emit(self.findings[self._next])
        self._next = (self._next + 1) % len(self.findings)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        box = self._look.metrics("small").boundingRect(
            QRectF(0, 0, width - self._look.px(24), 1000), int(Qt.TextFlag.TextWordWrap), self.finding.text
        )
        return round(box.height()) + self._look.px(42)

    def sizeHint(self) -> QSize:
        width = max(self.width(), self._look.px(240))
        return QSize(self._look.px(240), self.heightForWidth(width))

    def resizeEvent(self, event: object) -> None:
        self.setMinimumHeight(self.heightForWidth(self.width()))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.fillRect(box, theme.mark_ground if self.underMouse() else theme.raised)
        painter.fillRect(QRectF(0, 0, px(4), self.height()), theme.warning)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(box)
        word = self.finding.kind.value
        chip = QRectF(px(14), px(8), width_of(look, word, "small") + px(12), px(18))
        painter.fillRect(chip, theme.warning)
        center = Qt.AlignmentFlag.AlignHCenter
        draw_rich_text(painter, chip, word, look, size="small", dim=ink_on(theme.warning), align=center)
        length_s = max(self.finding.to_s - self.finding.from_s, self._window.duration_s / 1000)
        places = [self._window.label(one.from_s, length_s) for one in self.findings]
        ends = f"{places[0]} to {self._window.label(self.finding.to_s, length_s)}"
        where = ends if len(places) == 1 else f"**{len(places)}** places: {', '.join(places)}"
        sure = f"**{percent_text(self.finding.confidence)}** sure"
        right = Qt.AlignmentFlag.AlignRight
        room = QRectF(chip.right() + px(10), px(8), self.width() - chip.right() - px(104), px(18))
        draw_rich_text(painter, room, where, look, size="small")
        draw_rich_text(painter, QRectF(room.right(), px(8), px(86), px(18)), sure, look, size="small", align=right)
        painter.setFont(look.font("small"))
        painter.setPen(theme.ink)
        text = QRectF(px(14), px(32), self.width() - px(24), self.height())
        painter.drawText(text, int(Qt.TextFlag.TextWordWrap), self.finding.text)
        painter.end()


class QualityView(QWidget):
    """Findings at the left; corrections and the joining of two ranges at the right.

    Signals
    -------
    finding_asked
        A finding whose place is to be shown.
    """

    finding_asked = Signal(object)

    def __init__(self, controller: ProjectController, look: Appearance, window: TimeWindow) -> None:
        super().__init__()
        self.controller, self.look, self._window = controller, look, window
        self.results: RunResults | None = None
        self._shown: QualityReport | None = None
        self.cards: list[FindingCard] = []
        self.edits: dict[str, QuantityEdit] = {}
        self.reasons: dict[str, QLineEdit] = {}
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self._build_findings(), 5)
        row.addWidget(self._build_corrections(), 4)

    def _build_findings(self) -> QWidget:
        px = self.look.px
        inner = QWidget()
        self._list = QVBoxLayout(inner)
        self._list.setContentsMargins(px(16), px(12), px(16), px(12))
        self._list.setSpacing(px(8))
        self.empty = Label()
        self.empty.setWordWrap(True)
        self._list.addWidget(self.empty)
        self._facts = QGridLayout()
        self._facts.setHorizontalSpacing(px(16))
        self._facts.setVerticalSpacing(px(8))
        self._facts.setColumnStretch(1, 1)
        self._list.addLayout(self._facts)
        self._list.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inner)
        return scroll

    def _build_corrections(self) -> QWidget:
        px, look = self.look.px, self.look
        panel = QWidget()
        panel.setObjectName("panel")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(panel)
        column.setContentsMargins(px(16), px(12), px(16), px(12))
        column.setSpacing(px(8))
        column.addWidget(_wrapped("What the measurement adds, and why: it is taken out of a copy."))
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(8))
        grid.setVerticalSpacing(px(5))
        for place, (name, unit, reason) in enumerate(_LOADS):
            edit = QuantityEdit(look, unit, name, 92, low=-1e30 if unit in ("A", "") else 0.0)
            edit.setPlaceholderText("1" if not unit else f"– {unit}")
            edit.textEdited.connect(self.show_effect)
            words = QLineEdit(reason)
            words.setCursorPosition(0)
            words.setMinimumWidth(px(48))
            words.setToolTip(tip(reason))
            words.setAccessibleName(f"Reason: {name}")
            self.edits[name], self.reasons[name] = edit, words
            grid.addWidget(_wrapped(name), place, 0)
            grid.addWidget(edit, place, 1)
            grid.addWidget(words, place, 2)
        grid.setColumnStretch(0, 2)
        grid.setColumnStretch(2, 3)
        column.addLayout(grid)
        self.effect = Label()
        self.effect.setWordWrap(True)
        column.addWidget(self.effect)
        self.correct_button = QPushButton("Make a corrected copy")
        self.correct_button.clicked.connect(self.correct)
        column.addWidget(self.correct_button)
        column.addSpacing(px(12))
        column.addWidget(_wrapped("A capture of the same activity on a higher range can supply the clipped bursts."))
        joining = QHBoxLayout()
        self.other = QComboBox()
        self.other.setAccessibleName("Capture at the coarser range")
        self.join_button = QPushButton("Join the two captures")
        self.join_button.clicked.connect(self.join)
        joining.addWidget(self.other, 1)
        joining.addWidget(self.join_button)
        column.addLayout(joining)
        column.addStretch(1)
        self.done = Label()
        self.done.setWordWrap(True)
        column.addWidget(self.done)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(panel)
        return scroll

    def set_results(self, results: RunResults | None) -> None:
        """Show another run."""
        self.results = results
        self.setEnabled(results is not None)
        self.other.clear()
        if results is not None:
            for run in self.controller.project.runs:
                if run.name != results.run.name:
                    self.other.addItem(run.label, run.name)
        self.join_button.setEnabled(self.other.count() > 0)
        made = results.capture.info.corrections if results is not None else ()
        self.done.setText("In this capture already: " + "; ".join(made) if made else "")
        self.show_effect()

    def set_checkup(self, quality: QualityReport | None) -> None:
        """Show what was looked at and what was found; None while it is looked for."""
        if quality is not None and quality is self._shown:
            return
        self._shown = quality
        for card in self.cards:
            self._list.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.cards = []
        findings = quality.findings if quality is not None else ()
        kinds = dict.fromkeys(finding.kind for finding in findings)
        for place, kind in enumerate(kinds):
            card = FindingCard(self.look, self._window, tuple(one for one in findings if one.kind is kind))
            card.place_asked.connect(self.finding_asked)
            self._list.insertWidget(place, card)
            self.cards.append(card)
        self.empty.setText("Looking for clipping, noise, hum, short pulses, range changes and a cut-off end …")
        self.empty.setVisible(quality is None)
        self._show_facts(quality.facts if quality is not None else ())

    def _show_facts(self, facts: tuple[Fact, ...]) -> None:
        while self._facts.count():
            item = self._facts.takeAt(0)
            label = item.widget() if item is not None else None
            if label is not None:
                label.hide()
                label.deleteLater()
        for row, fact in enumerate(facts):
            for column, words in enumerate((fact.what, fact.words)):
                label = Label(words)
                label.setWordWrap(column == 1)
                label.setAlignment(Qt.AlignmentFlag.AlignTop)
                if column == 0:
                    label.setStyleSheet(f"color: {self.look.theme.dim.name()};")
                self._facts.addWidget(label, row, column)

    @property
    def corrections(self) -> tuple[Correction, ...]:
        """What is filled in."""
        values = {name: edit.value() for name, edit in self.edits.items() if edit.text().strip()}
        reasons = {name: words.text().strip() for name, words in self.reasons.items()}
        made: list[Correction] = []
        factor, offset = values.get(_LOADS[0][0]), values.get(_LOADS[1][0])
        if factor is not None or offset is not None:
            used = [reasons[_LOADS[k][0]] for k, value in ((0, factor), (1, offset)) if value is not None]
            made.append(Scaling(1.0 if factor is None else factor, offset or 0.0, ", ".join(used)))
        for name, unit, _ in _LOADS[2:]:
            value = values.get(name)
            if value is None:
                continue
            kind: Callable[[float, str], Correction] = KnownLoad if unit == "A" else InputResistance
            made.append(Burden(value, reasons[name]) if name.startswith("burden") else kind(value, reasons[name]))
        return tuple(made)

    def show_effect(self) -> None:
        """Return what the corrections would do."""
        results, corrections = self.results, self.corrections
        if results is None or not corrections:
            self.effect.setText("")
            self.correct_button.setEnabled(False)
            return
        try:
            effect = effect_on(self.controller.project, results, corrections)
        except WarmEmberError as error:
            self.effect.setText(error.one_line[:1].upper() + error.one_line[1:])
            self.correct_button.setEnabled(False)
            return
        self.correct_button.setEnabled(True)
        before, after = format_distinct(results.whole.mean_a or 0.0, effect.mean_a, "A")
        text = f"Mean {before} becomes {after}"
        if effect.lowest_v is not None:
            text += f"; at the peak the burden drops {quantity_text(effect.drop_v, 'V')}"
            text += f" and the target sees {quantity_text(effect.lowest_v, 'V')}"
            needed = max(self.controller.project.supply.min_v, self.controller.project.battery.cutoff_v)
            if effect.lowest_v < needed:
                text += f", less than the {quantity_text(needed, 'V')} it needs: it may have reset or drawn less"
        self.effect.setText(f"{text}.")

    def correct(self) -> None:
        """Write a corrected copy and show it."""
        results, session, corrections = self.results, self.controller.session, self.corrections
        if results is None or session is None or not corrections:
            return
        name, new_name = results.run.name, free_name(session, f"{results.run.name} corrected")
        self.controller.work(
            "correct",
            f"correcting {name}",
            lambda should_stop, progress: correct_capture(
                session, name, corrections, new_name, should_stop=should_stop, progress=progress
            ),
            lambda report: self.controller.adopt(report, lambda s, r: adopt_as_condition(s, r, name, "corrected")),
        )

    def join(self) -> None:
        """Join the chosen capture into this one, as a new one, and show it."""
        results, session, other = self.results, self.controller.session, self.other.currentData()
        if results is None or session is None or other is None:
            return
        name, new_name = results.run.name, free_name(session, f"{results.run.name} and {other}")
        self.controller.work(
            "join",
            f"joining {name} and {other}",
            lambda should_stop, progress: join_captures(
                session, name, str(other), new_name, should_stop=should_stop, progress=progress
            ),
            lambda report: self.controller.adopt(
                report, lambda s, r: adopt_as_condition(s, r, name, f"joined with {other}")
            ),
        )

    def keyPressEvent(self, event: QKeyEvent) -> None:
        ctrl = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        if ctrl and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.correct_button.isEnabled():
            self.correct()
        else:
            super().keyPressEvent(event)


def _wrapped(words: str) -> QLabel:
    label = Label(words)
    label.setWordWrap(True)
    return label
