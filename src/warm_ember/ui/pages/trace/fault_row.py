"""A fault of the measurement as a row: its place, the evidence, what it does to the figures, what mends it."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QBoxLayout, QPushButton, QWidget

from warm_ember.session.quality_results import AddedPart, Effect, FaultRow, Mend
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.rich_text import draw_rich_text, draw_wrapped, plain, width_of
from warm_ember.ui.look.textures import COARSE, texture_brush
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.ui.pages.trace.place_view import paint_place
from warm_ember.units import quantity_text

NUMBER, PICTURE, FIGURE, MENDS = 40, 160, 92, 140
_GAP, _HIGH, _LEAST_TEXT, _USUAL_TEXT, _LEAST_PICTURE = 14, 72, 120, 190, 72
_BESIDE = 700
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTER = Qt.AlignmentFlag.AlignHCenter


class FaultColumns:
    """Where the parts of a row stand, in pixels from its left: shared by the rows and the heads above them."""

    def __init__(self, look: Appearance, width: int) -> None:
        px = look.px
        self.figure = px(FIGURE)
        spare = width - px(NUMBER + _GAP + 3 * FIGURE + _GAP + _USUAL_TEXT)
        wide = min(px(PICTURE), spare) if spare >= px(_LEAST_PICTURE) else 0
        self.picture = QRectF(px(NUMBER), px(10), wide, px(_HIGH))
        self.text_left = self.picture.right() + (px(_GAP) if wide else 0)
        self.figures_left = width - 3 * px(FIGURE) - px(_GAP)
        self.text_width = self.figures_left - self.text_left

    def figure_box(self, column: int, y: float, height: float) -> QRectF:
        """Return where a figure of the row stands: mean, charge of state, life."""
        return QRectF(self.figures_left + column * self.figure, y, self.figure, height)


def has_steps_beside(look: Appearance, width: int) -> bool:
    """Return whether a row of that width has room for its steps beside it; they stand below it else."""
    return width >= look.px(_BESIDE)


class FaultEvidence(QAbstractButton):
    """The painted part of a row; each press goes to the next of its places.

    Signals
    -------
    place_asked
        The finding to go to.
    """

    place_asked = Signal(object)

    def __init__(self, look: Appearance, window: TimeWindow, row: FaultRow, number: int) -> None:
        super().__init__()
        self._look, self._window, self.row, self._number = look, window, row, number
        self._next = 0
        self.clicked.connect(self._go_on)
        self.setText(self.words())
        self.setAccessibleName(self.text())
        if row.findings:
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setMinimumWidth(look.px(NUMBER + _LEAST_TEXT + 3 * FIGURE + _GAP))

    def words(self) -> str:
        """Return the row as one line of text."""
        row = self.row
        effects = zip(("mean", "charge of state", "life"), (row.mean, row.charge, row.life), strict=True)
        told = "; ".join(f"{what} {plain(one.words)} {plain(one.of)}".strip() for what, one in effects)
        return f"{self._number}. {row.word}, {row.confidence}, {plain(self._places)}: {row.text}; {told}"

    @property
    def _places(self) -> str:
        row, window = self.row, self._window
        if not row.findings:
            return f"{window.label(0.0, window.duration_s)} to the end"
        length_s = max(row.findings[0].to_s - row.findings[0].from_s, window.duration_s / 1000)
        places = [window.label(one.from_s, length_s) for one in row.findings]
        if len(places) == 1:
            end_s = row.findings[0].to_s
            is_end = end_s > window.duration_s - 2 * window.interval_s
            return f"{places[0]} to {'the end' if is_end else window.label(end_s, length_s)}"
        return f"**{len(places)}** places: {', '.join(places[:3])}{' …' if len(places) > 3 else ''}"

    def _go_on(self) -> None:
        if self.row.findings:
            self.place_asked.emit(self.row.findings[self._next])
            self._next = (self._next + 1) % len(self.row.findings)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        columns, px = FaultColumns(self._look, width), self._look.px
        box = self._look.metrics("small").boundingRect(
            QRectF(0, 0, columns.text_width - px(8), 4000), int(Qt.TextFlag.TextWordWrap), self.row.text
        )
        return max(px(_HIGH + 20), round(box.height()) + px(52))

    def sizeHint(self) -> QSize:
        width = max(self.width(), self.minimumWidth())
        return QSize(self.minimumWidth(), self.heightForWidth(width))

    def resizeEvent(self, event: object) -> None:
        self.setMinimumHeight(self.heightForWidth(self.width()))

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.mark_ground if self.underMouse() or self.hasFocus() else theme.ground)
        if self.hasFocus():
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -1.5))
        columns = FaultColumns(look, self.width())
        draw_number(painter, QPointF(px(12), px(10)), self._number, look)
        self._paint_picture(painter, columns.picture)
        self._paint_words(painter, columns)
        for column, effect in enumerate((self.row.mean, self.row.charge, self.row.life)):
            self._paint_effect(painter, columns, column, effect)
        painter.end()

    def _paint_words(self, painter: QPainter, columns: FaultColumns) -> None:
        look, theme, px, row = self._look, self._look.theme, self._look.px, self.row
        chip = QRectF(columns.text_left, px(9), width_of(look, row.word, "small") + px(12), px(18))
        painter.fillRect(chip, theme.warning)
        draw_rich_text(painter, chip, row.word, look, size="small", dim=ink_on(theme.warning), align=_CENTER)
        room = columns.text_left + columns.text_width - px(8)
        sure = QRectF(chip.right() + px(7), px(9), room - chip.right() - px(7), px(18))
        draw_rich_text(painter, sure, row.confidence, look, size="small", dim=theme.ink)
        places = QRectF(columns.text_left, px(28), columns.text_width - px(8), px(16))
        draw_rich_text(painter, places, self._places, look, size="small")
        text = QRectF(columns.text_left, px(45), columns.text_width - px(8), self.height())
        draw_wrapped(painter, text, row.text, look)

    def _paint_effect(self, painter: QPainter, columns: FaultColumns, column: int, effect: Effect) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        box = columns.figure_box(column, px(24), px(20)).adjusted(px(4), 0, 0, 0)
        draw_rich_text(painter, box, effect.words, look, dim=theme.dim, ink=theme.ink, align=_RIGHT)
        of = box.translated(0, px(20))
        draw_rich_text(painter, of, effect.of, look, size="small", dim=theme.dim, align=_RIGHT)

    def _paint_picture(self, painter: QPainter, box: QRectF) -> None:
        picture = self.row.picture
        painter.fillRect(box, self._look.theme.sunken)
        if isinstance(picture, AddedPart):
            self._paint_added(painter, box, picture)
        elif picture is not None and box.width():
            paint_place(painter, box, picture, self._look, is_fault=True)

    def _paint_added(self, painter: QPainter, box: QRectF, part: AddedPart) -> None:
        """Paint the quietest level as a bar: what the device draws, and what the set-up adds."""
        look, theme, px = self._look, self._look.theme, self._look.px
        whole_a = part.device_a + part.added_a
        bar = QRectF(box.left() + px(8), box.top() + px(22), box.width() - px(16), px(20))
        split = bar.left() + bar.width() * part.device_a / whole_a
        painter.fillRect(QRectF(bar.left(), bar.top(), split - bar.left(), bar.height()), theme.ramp.color(whole_a))
        added = QRectF(split, bar.top(), bar.right() - split, bar.height())
        painter.fillRect(added, texture_brush(COARSE, theme.warning))
        painter.setPen(QPen(theme.warning, 1))
        painter.drawRect(added)
        line = QRectF(bar.left(), box.top() + px(4), bar.width(), px(16))
        words = f"added {quantity_text(part.added_a, 'A').rich}"
        draw_rich_text(painter, line, words, look, size="small", dim=theme.ink, align=_RIGHT)
        foot = line.translated(0, px(42))
        words = f"{quantity_text(whole_a, 'A').rich} in the quiet level"
        draw_rich_text(painter, foot, words, look, size="small", dim=theme.ink)


class FaultRowView(QWidget):
    """A fault with the steps that mend it.

    Signals
    -------
    mend_asked
        The step, and the row it is of.
    """

    mend_asked = Signal(object, object)

    def __init__(self, look: Appearance, window: TimeWindow, row: FaultRow, number: int) -> None:
        super().__init__()
        self.row, self._look = row, look
        px = look.px
        layout = self._layout = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        layout.setContentsMargins(0, 0, px(8), 1)
        layout.setSpacing(0)
        self.evidence = FaultEvidence(look, window, row, number)
        layout.addWidget(self.evidence, 1)
        steps = self._steps = QBoxLayout(QBoxLayout.Direction.TopToBottom)
        steps.setContentsMargins(px(12), px(10), 0, px(10))
        steps.setSpacing(px(6))
        self.steps: dict[Mend, QPushButton] = {}
        for mend in row.mends:
            button = QPushButton(mend.value)
            button.setFont(look.font("small"))
            button.setFixedWidth(px(MENDS - 12))
            button.setAccessibleName(f"{mend.value}: {row.word}")
            button.clicked.connect(lambda _checked=False, mend=mend: self.mend_asked.emit(mend, row))
            steps.addWidget(button)
            self.steps[mend] = button
        steps.addStretch(1)
        layout.addLayout(steps)

    def resizeEvent(self, event: QResizeEvent) -> None:
        beside = has_steps_beside(self._look, self.width())
        down, right = QBoxLayout.Direction.TopToBottom, QBoxLayout.Direction.LeftToRight
        self._layout.setDirection(right if beside else down)
        self._steps.setDirection(down if beside else right)
        px = self._look.px
        self._steps.setContentsMargins(px(12) if beside else px(NUMBER), px(10) if beside else 0, 0, px(10))

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.setPen(self._look.theme.rule)
        painter.drawLine(QPointF(0, self.height() - 0.5), QPointF(self.width(), self.height() - 0.5))
        painter.end()


def draw_number(painter: QPainter, at: QPointF, number: int, look: Appearance) -> None:
    """Draw a fault's number in its square."""
    box = QRectF(at.x(), at.y(), look.px(18), look.px(18))
    painter.fillRect(box, look.theme.raised)
    painter.setPen(QPen(look.theme.dim, 1))
    painter.drawRect(box)
    draw_rich_text(painter, box, f"**{number}**", look, size="small", ink=look.theme.ink, align=_CENTER)
