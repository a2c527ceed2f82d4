"""What the measurement added: entered here, shown against the floor, and taken out of a copy."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from warm_ember.errors import WarmEmberError
from warm_ember.session.correcting import (
    FIELDS,
    BeforeAfter,
    CorrectionField,
    CorrectionPreview,
    Entered,
    adopt_as_condition,
    correct_capture,
    corrections_of,
    preview_corrections,
)
from warm_ember.session.new_capture import free_name
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.label import Label, tip
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import QuantityText, format_distinct, months_text, quantity_text

_RIGHT = Qt.AlignmentFlag.AlignRight
_FLOOR = 104


class CorrectionsPanel(QScrollArea):
    """Corrections, one row a cause, and what they would do.

    Signals
    -------
    baseline_asked
        The set-up's own current is to be recorded first.
    """

    baseline_asked = Signal()

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self.controller, self.look = controller, look
        self.results: RunResults | None = None
        self.edits: dict[str, QuantityEdit] = {}
        self.reasons: dict[str, QLineEdit] = {}
        self._taken_out: dict[str, tuple[Label, Label]] = {}
        panel = QWidget()
        panel.setObjectName("panel")
        panel.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        px = look.px
        column = QVBoxLayout(panel)
        column.setContentsMargins(px(16), px(10), px(16), px(10))
        column.setSpacing(px(6))
        column.addLayout(self._build_head())
        column.addLayout(self._build_fields())
        self.floor = FloorView(look)
        column.addWidget(self.floor)
        self.outcome = OutcomeView(look)
        column.addWidget(self.outcome)
        self.trouble = Label()
        self.trouble.setWordWrap(True)
        column.addWidget(self.trouble)
        column.addStretch(1)
        self.done = Label()
        self.done.setWordWrap(True)
        self.done.setFont(look.font("small"))
        column.addWidget(self.done)
        column.addLayout(self._build_keys())
        self.setMinimumWidth(panel.minimumSizeHint().width() + px(8))
        self.setWidgetResizable(True)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(panel)

    def _build_head(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(Label("Corrections"))
        row.addStretch(1)
        note = self._small("entered here, taken out of a copy")
        note.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        note.setAlignment(_RIGHT | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(note, 4)
        return row

    def _small(self, words: str) -> Label:
        label = Label(words)
        label.setFont(self.look.font("small"))
        label.setStyleSheet(f"color: {self.look.theme.dim.name()};")
        return label

    def _build_fields(self) -> QGridLayout:
        px = self.look.px
        grid = QGridLayout()
        grid.setHorizontalSpacing(px(8))
        grid.setVerticalSpacing(px(3))
        for place, words in enumerate(("what it adds", "value", "takes out")):
            grid.addWidget(self._small(words), 0, place, Qt.AlignmentFlag.AlignRight if place else Qt.AlignmentFlag(0))
        for place, field in enumerate(FIELDS):
            self._build_field(grid, 1 + place, field)
        grid.setColumnStretch(0, 1)
        grid.setColumnMinimumWidth(2, px(84))
        return grid

    def _build_field(self, grid: QGridLayout, row: int, field: CorrectionField) -> None:
        look, px = self.look, self.look.px
        edit = QuantityEdit(look, field.unit, field.name, 84, low=-1e30 if field.unit in ("A", "") else 0.0)
        edit.setPlaceholderText("1" if not field.unit else f"– {field.unit}")
        edit.setAlignment(_RIGHT)
        edit.textEdited.connect(self.show_effect)
        reason = QLineEdit(field.reason)
        reason.setCursorPosition(0)
        reason.setFrame(False)
        reason.setMinimumWidth(px(60))
        reason.setFont(look.font("small"))
        reason.setStyleSheet(
            "border: none; padding: 0; margin-left: -2px; background: transparent; font-weight: normal; "
            f"color: {look.theme.dim.name()};"
        )
        reason.setToolTip(tip(f"Why: {field.reason}"))
        reason.setAccessibleName(f"Reason: {field.name}")
        reason.editingFinished.connect(self.show_effect)
        words = QVBoxLayout()
        words.setSpacing(0)
        words.addWidget(Label(field.name))
        words.addWidget(reason)
        out, how = Label(), self._small("")
        for label in (out, how):
            label.setAlignment(_RIGHT | Qt.AlignmentFlag.AlignVCenter)
        taken = QVBoxLayout()
        taken.setSpacing(0)
        taken.addWidget(out)
        taken.addWidget(how)
        grid.addLayout(words, row, 0)
        grid.addWidget(edit, row, 1, Qt.AlignmentFlag.AlignVCenter)
        grid.addLayout(taken, row, 2)
        grid.setRowMinimumHeight(row, px(34))
        self.edits[field.name], self.reasons[field.name] = edit, reason
        self._taken_out[field.name] = (out, how)

    def _build_keys(self) -> QHBoxLayout:
        row = QHBoxLayout()
        self.correct_button = QPushButton("Make a corrected copy")
        self.correct_button.clicked.connect(self.correct)
        self.baseline_button = QPushButton("Take a baseline first")
        self.baseline_button.setToolTip(tip("Record what the set-up draws without the target, on the Bench page"))
        self.baseline_button.clicked.connect(self.baseline_asked)
        row.addWidget(self.correct_button, 1)
        row.addWidget(self.baseline_button, 1)
        return row

    def set_results(self, results: RunResults | None) -> None:
        """Show another run."""
        self.results = results
        self.setEnabled(results is not None)
        made = results.capture.info.corrections if results is not None else ()
        self.done.setText("In this capture already: " + "; ".join(made) if made else "")
        self.done.setVisible(bool(made))
        self.show_effect()

    @property
    def entered(self) -> Mapping[str, Entered]:
        """What is filled in, by field."""
        filled = {name: edit.value() for name, edit in self.edits.items() if edit.text().strip()}
        return {
            name: Entered(value, self.reasons[name].text().strip())
            for name, value in filled.items()
            if value is not None
        }

    def enter(self, values: Mapping[str, Entered]) -> None:
        """Fill in fields, as if they were typed."""
        for name, one in values.items():
            self.edits[name].set_value(one.value)
            self.reasons[name].setText(one.reason)
        self.show_effect()

    def showEvent(self, event: object) -> None:
        self.show_effect()

    def show_effect(self) -> None:
        """Show what the corrections would do, once somebody looks at it."""
        if not self.isVisible():
            return
        entered, preview = self.entered, None
        self.trouble.setText("")
        if self.results is not None:
            try:
                preview = preview_corrections(self.controller.project, self.results, entered)
            except WarmEmberError as error:
                self.trouble.setText(error.one_line[:1].upper() + error.one_line[1:])
        for name, (out, how) in self._taken_out.items():
            words = preview.taken_out.get(name) if preview is not None else None
            out.setText(words[0].replace("**", "") if words else "–")
            how.setText(words[1].replace("**", "") if words else "")
        if preview is not None:
            self.trouble.setText(preview.warning)
        self.trouble.setVisible(bool(self.trouble.text()))
        self.correct_button.setEnabled(preview is not None and bool(entered))
        self.floor.show_preview(preview)
        self.outcome.show_preview(preview)

    def correct(self) -> None:
        """Write a corrected copy and show it."""
        results, session, corrections = self.results, self.controller.session, corrections_of(self.entered)
        if results is None or session is None or not corrections or not self.correct_button.isEnabled():
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


class FloorView(PaintedView):
    """The quietest level before and after, on a piece of the ramp, with what its parts add up to."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.preview: CorrectionPreview | None = None
        self.setFixedHeight(look.px(_FLOOR))
        look.changed.connect(lambda: self.setFixedHeight(look.px(_FLOOR)))

    def show_preview(self, preview: CorrectionPreview | None) -> None:
        """Show what corrections do to it."""
        self.preview = preview
        self.setAccessibleName(self.words())
        self.update()

    def words(self) -> str:
        """Return it as text."""
        one = self.preview
        if one is None or one.floor_a.before is None or one.floor_a.after is None:
            return "The floor is not known."
        text = f"{one.floor_name}: {quantity_text(one.floor_a.before, 'A')} before"
        if one.floor_a.after != one.floor_a.before:
            text += f", {quantity_text(one.floor_a.after, 'A')} after"
        return text + (f", parts add up to {quantity_text(one.parts_a, 'A')}" if one.parts_a else "")

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px, one = self._look, self._look.theme, self._look.px, self.preview
        painter = QPainter(self)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, 0.5), QPointF(self.width(), 0.5))
        head = QRectF(0, px(8), self.width(), px(18))
        draw_rich_text(painter, head, "The floor", look, dim=theme.ink)
        if one is None or one.floor_a.before is None or one.floor_a.before <= 0 or one.floor_a.after is None:
            draw_rich_text(painter, head, "not known yet", look, size="small", align=_RIGHT)
            painter.end()
            return
        before, after = one.floor_a.before, max(one.floor_a.after, 0.0)
        less = (before - after) / before
        words = (
            one.floor_name if before == after else f"{one.floor_name}, **{100 * less:.3g}** % of it was the measurement"
        )
        draw_rich_text(painter, head, words, look, size="small", align=_RIGHT)
        self._paint_ramp(painter, QRectF(0, px(50), self.width(), px(10)), before, after, one.parts_a)
        painter.end()

    def _paint_ramp(self, painter: QPainter, bar: QRectF, before: float, after: float, parts_a: float | None) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        known = [value for value in (before, after, parts_a) if value and value > 0]
        low, high = np.log10(min(known)) - 0.25, np.log10(max(known)) + 0.25

        def x_of(current_a: float) -> float:
            return float(
                bar.left() + np.clip((np.log10(max(current_a, 1e-12)) - low) / (high - low), 0, 1) * bar.width()
            )

        for step in range(round(bar.width())):
            color = theme.ramp.color(float(10 ** (low + (high - low) * step / bar.width())))
            painter.fillRect(QRectF(bar.left() + step, bar.top(), 1.5, bar.height()), color)
        labels = [(before, f"{'before' if before != after else 'now'} {quantity_text(before, 'A').rich}")]
        if after != before:
            labels.append((after, f"after {quantity_text(after, 'A').rich}"))
        for row, (value, words) in enumerate(labels):
            x, width = x_of(value), width_of(look, words, "small")
            painter.setPen(QPen(theme.ink, 2))
            painter.drawLine(QPointF(x, bar.top() - px(6)), QPointF(x, bar.bottom()))
            right_of = row == 0
            left = x + px(4) if right_of else x - px(4) - width
            left = min(max(left, bar.left()), bar.right() - width)
            box = QRectF(left, bar.top() - px(22), width + 2, px(16))
            draw_rich_text(painter, box, words, look, size="small", dim=theme.ink)
        if parts_a:
            x, words = x_of(parts_a), f"parts add up to {quantity_text(parts_a, 'A').rich}"
            painter.setPen(QPen(theme.mark, 2))
            painter.drawLine(QPointF(x, bar.top()), QPointF(x, bar.bottom() + px(8)))
            width = width_of(look, words, "small")
            left = min(max(x - width / 2, bar.left()), bar.right() - width)
            box = QRectF(left, bar.bottom() + px(8), width + 2, px(16))
            draw_rich_text(painter, box, words, look, size="small", ink=theme.mark, dim=theme.mark)


class OutcomeView(PaintedView):
    """Mean, floor, voltage and life before and after."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.rows: list[tuple[str, QuantityText, QuantityText]] = []

    def show_preview(self, preview: CorrectionPreview | None) -> None:
        """Show what corrections do."""
        self.rows = [] if preview is None else _outcome(preview)
        self.setFixedHeight(self._look.px(8 + 24 * len(self.rows)))
        self.setAccessibleName(self.words())
        self.update()

    def words(self) -> str:
        """Return it as text."""
        return "; ".join(
            f"{name}: {before}" + (f", after corrections {after}" if after != before else "")
            for name, before, after in self.rows
        )

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        for row, (name, before, after) in enumerate(self.rows):
            y, right = px(4 + 24 * row), self.width()
            draw_rich_text(painter, QRectF(0, y, right - px(200), px(20)), name, look, dim=theme.ink)
            box = QRectF(right - px(212), y, px(92), px(20))
            draw_rich_text(painter, box, before.rich, look, align=_RIGHT)
            if before != after:
                arrow = QRectF(right - px(116), y, px(24), px(20))
                draw_rich_text(painter, arrow, "→", look, dim=theme.faint, align=_RIGHT)
                draw_rich_text(painter, QRectF(right - px(88), y, px(88), px(20)), after.rich, look, align=_RIGHT)
        painter.end()


def _outcome(preview: CorrectionPreview) -> list[tuple[str, QuantityText, QuantityText]]:
    rows = [("mean", *_pair(preview.mean_a, "A"))]
    if preview.floor_a.before is not None:
        rows.append((preview.floor_name, *_pair(preview.floor_a, "A")))
    if preview.target_v.before is not None:
        rows.append(("voltage at the target, peak", *_pair(preview.target_v, "V")))
    rows.append(("life, months", _months(preview.life_s.before), _months(preview.life_s.after)))
    return rows


def _months(life_s: float | None) -> QuantityText:
    return QuantityText(months_text(life_s).number, "")


def _pair(pair: BeforeAfter, unit: str) -> tuple[QuantityText, QuantityText]:
    if pair.before is None or pair.after is None or pair.before == pair.after:
        return quantity_text(pair.before, unit), quantity_text(pair.after, unit)
    before, after = format_distinct(pair.before, pair.after, unit)
    return before, after
