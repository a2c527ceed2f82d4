"""The kinds of wakes: a row each, with its wakes laid on each other, how it comes, and what it takes."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QLineEdit

from warm_ember.model.kinds import UNSORTED
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.kind_words import how_exactly, how_it_comes, stays_words
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import CROSS, PLAIN, Swatch, fill
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.wakes.kind_picture import draw_kind, scale_of
from warm_ember.units import (
    column_writer,
    counted,
    duration_text,
    format_trimmed,
    interval_text,
    percent_text,
    quantity_text,
)

if TYPE_CHECKING:
    from warm_ember.session.records import Kind


WAKE = "application/x-warm-ember-wake"
"""What is dragged from the odd ones: the index of a wake."""
NOTHING = "-"
"""The letter of no row."""

_HEAD, _ROW, _MOST_ROW, _FOOT = 48, 64, 92, 26
_NAME, _PICTURE, _PICTURE_WIDTH, _NARROW_PICTURE, _GAP = 24, 128, 172, 96, 14
_RIGHT_SIDE, _ADDS, _EACH, _AWAKE = 12, 158, 168, 262
_BAR = 76
_ALIGN_RIGHT = Qt.AlignmentFlag.AlignRight
_NARROW = 780


class KindTable(PaintedView):
    """A row for each kind; arrow keys choose one, Enter takes them as the battery's model.

    Signals
    -------
    kind_chosen
        The letter of a kind; empty for what is unsorted.
    renamed
        ``(letter, name)``.
    joined
        ``(letter, into)``: one was dropped on another.
    moved
        ``(index of a wake, letter)``: a wake was dropped on a kind.
    model_asked
        Enter was pressed.
    """

    paints_focus = True
    reads_as = "Kinds of wakes"
    kind_chosen = Signal(str)
    renamed = Signal(str, str)
    joined = Signal(str, str)
    moved = Signal(int, str)
    model_asked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self.shown: KindsShown | None = None
        self.chosen = NOTHING
        self._held = NOTHING
        self.edit = _NameEdit(self)
        self.edit.hide()
        self.edit.setAccessibleName("Name of the kind")
        self.edit.editingFinished.connect(self._on_named)
        self.setAcceptDrops(True)
        look.changed.connect(self._arrange)

    def show_kinds(self, shown: KindsShown | None) -> None:
        """Show the kinds of another run."""
        self.shown = shown
        self.edit.hide()
        self._arrange()

    def choose(self, letter: str) -> None:
        """Mark a row."""
        self.chosen = letter
        self.update()
        letters = self.letters
        if letter in letters:
            self.tell_named(letters.index(letter))

    @property
    def letters(self) -> list[str]:
        """The letters of the rows, in their order; the empty one is what is unsorted."""
        if self.shown is None:
            return []
        found = [kind.letter for kind in self.shown.kinds.kinds]
        return [*found, ""] if len(self.shown.kinds.unsorted) else found

    def _arrange(self) -> None:
        px = self._look.px
        self.setMinimumHeight(px(_HEAD) + len(self.letters) * px(_ROW) + self._foot_height)
        self.update()

    def row_box(self, index: int) -> QRectF:
        """Return where a row is."""
        height = self._row_height
        return QRectF(0, self._look.px(_HEAD) + index * height, self.width(), height)

    @property
    def _row_height(self) -> int:
        """Height of a row: few rows share what room there is."""
        px = self._look.px
        room = self.height() - px(_HEAD) - self._foot_height
        return min(max(room // max(len(self.letters), 1), px(_ROW)), px(_MOST_ROW))

    @property
    def _foot_height(self) -> int:
        has_states = self.shown is not None and bool(self.shown.kinds.stays)
        return (2 + has_states) * self._look.px(_FOOT) + self._look.px(4)

    def row_at(self, point: QPointF) -> str | None:
        """Return the letter of the row under a point, if any is."""
        return next((one for at, one in enumerate(self.letters) if self.row_box(at).contains(point)), None)

    def named_boxes(self) -> list[NamedBox]:
        labels = [self._label(letter) for letter in self.letters]
        return [
            NamedBox(label, self.row_box(at), letter == self.chosen)
            for at, (label, letter) in enumerate(zip(labels, self.letters, strict=True))
        ]

    def _label(self, letter: str) -> str:
        kind = self.shown.kind(letter) if self.shown is not None else None
        return UNSORTED if kind is None else kind.label

    def paintEvent(self, event: QPaintEvent) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        painter = QPainter(self)
        painter.fillRect(self.rect(), theme.ground)
        shown = self.shown
        if shown is None:
            painter.end()
            return
        if not self.letters:
            words = "The current never rises from its floor: there are no wakes."
            draw_rich_text(painter, QRectF(px(16), px(8), self.width() - px(32), px(20)), words, look)
        else:
            self._paint_head(painter, shown)
        most_a = max((shown.kinds.unsorted_a, *(kind.added_a for kind in shown.kinds.kinds)))
        scale = scale_of(shown.pictures, shown.kinds.floor.value)
        for at, letter in enumerate(self.letters):
            box = self.row_box(at)
            if letter == self.chosen:
                painter.fillRect(box, theme.mark_ground)
            kind = shown.kind(letter)
            picture = QRectF(px(_PICTURE), box.top() + px(7), px(self._picture_end - _PICTURE), box.height() - px(24))
            draw_kind(painter, picture, shown.pictures[letter], scale, look)
            self._paint_times(painter, picture, shown.pictures[letter].span_s)
            if kind is None:
                self._paint_unsorted(painter, box, shown, most_a)
            else:
                self._paint_row(painter, box, kind, shown, most_a)
            painter.setPen(theme.grid)
            painter.drawLine(QPointF(px(16), box.bottom()), QPointF(self.width() - px(8), box.bottom()))
        self._paint_foot(painter, shown)
        if self.hasFocus():
            painter.setPen(theme.mark)
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        painter.end()

    @property
    def _is_roomy(self) -> bool:
        return self.width() >= self._look.px(_NARROW)

    @property
    def _picture_end(self) -> int:
        """Where the pictures end, unscaled px: words go before pictures where room is scarce."""
        return _PICTURE + (_PICTURE_WIDTH if self._is_roomy else _NARROW_PICTURE)

    @property
    def _how(self) -> int:
        """Where it is told how the kinds come, unscaled px."""
        return self._picture_end + _GAP

    def _cell(self, box: QRectF, right: float, width: float) -> QRectF:
        """Return a cell that ends so far from the right side."""
        px = self._look.px
        return QRectF(self.width() - px(right) - px(width), box.top(), px(width), box.height())

    def _paint_head(self, painter: QPainter, shown: KindsShown) -> None:
        look, px = self._look, self._look.px
        title = QRectF(px(16), px(4), px(400), px(18))
        draw_rich_text(painter, title, "Kinds of wakes, from the current alone", look, dim=look.theme.ink)
        line = QRectF(0, px(26), self.width(), px(16))
        scale = scale_of(shown.pictures, shown.kinds.floor.value)
        ends = f"{quantity_text(scale.low_a, 'A', 1)} to {quantity_text(scale.high_a, 'A', 1)}"
        left = (
            (_NAME - 8, "kind"),
            (_PICTURE, f"its wakes, {ends}" if self._is_roomy else "its wakes"),
            (self._how, "how it comes"),
        )
        for start, words in left:
            end = px(self._picture_end) if start == _PICTURE else self.width()
            draw_rich_text(
                painter, QRectF(px(start), line.top(), end - px(start), line.height()), words, look, size="small"
            )
        bar = _BAR if self._is_roomy else 0
        for right, words in (
            (_AWAKE - _BAR + bar, "awake"),
            (_EACH - _BAR + bar, "charge each"),
            (_RIGHT_SIDE, "adds to mean"),
        ):
            cell = self._cell(line, right, 96)
            draw_rich_text(painter, cell, words, look, size="small", align=_ALIGN_RIGHT)
        painter.setPen(look.theme.rule)
        painter.drawLine(QPointF(px(16), px(_HEAD) - 0.5), QPointF(self.width() - px(8), px(_HEAD) - 0.5))

    def _paint_times(self, painter: QPainter, picture: QRectF, span_s: float) -> None:
        look, px = self._look, self._look.px
        line = QRectF(picture.left(), picture.bottom() + 1, picture.width(), px(14))
        faint = look.theme.faint
        draw_rich_text(painter, line, "0", look, size="small", dim=faint, ink=faint)
        words = str(duration_text(span_s, 2))
        draw_rich_text(painter, line, words, look, size="small", dim=faint, ink=faint, align=_ALIGN_RIGHT)

    def _paint_letter(self, painter: QPainter, box: QRectF, letter: str, swatch: Swatch) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        fill(painter, QRectF(px(8), box.top() + px(8), px(4), box.height() - px(16)), swatch, theme.ground)
        square = QRectF(px(18), box.center().y() - px(20), px(18), px(18))
        painter.setPen(theme.rule)
        painter.drawRect(square)
        draw_rich_text(painter, square, f"**{letter or '?'}**", look, size="small", align=Qt.AlignmentFlag.AlignHCenter)

    def _paint_row(self, painter: QPainter, box: QRectF, kind: Kind, shown: KindsShown, most_a: float) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        own_a = kind.charge.value / kind.awake_s if kind.awake_s > 0 else 0.0
        swatch = Swatch(theme.ramp.color(own_a), PLAIN)
        self._paint_letter(painter, box, kind.letter, swatch)
        name = f"**{kind.name}**" if kind.name else kind.label
        self._two_lines(painter, box, _NAME + 18, _PICTURE - 4, name, "named by you" if kind.name else "name it  F2")
        even, wakes = how_exactly(kind), counted(kind.count, "wake")
        comes = how_it_comes(kind, shown.kinds)
        right = self.width() - px(_AWAKE + 74 - (0 if self._is_roomy else _BAR))
        upper, lower = self._halves(box, px(self._how), right)
        draw_rich_text(painter, upper, _bold(comes), look, dim=theme.ink)
        draw_rich_text(painter, lower, f"{wakes}{', ' + even if even else ''}", look, size="small")
        added = column_writer([one.added_a for one in shown.kinds.kinds], "A")
        shift = 0 if self._is_roomy else _BAR
        upper, lower = self._halves(box, 0, self.width())
        for line, right_px, words, size in (
            (upper, _AWAKE - shift, duration_text(kind.awake_s).rich, "normal"),
            (upper, _EACH - shift, quantity_text(kind.charge.value, "C").rich, "normal"),
            (lower, _EACH - shift, self._reach(kind), "small"),
            (upper, _RIGHT_SIDE, added(kind.added_a).rich, "normal"),
            (
                lower,
                _RIGHT_SIDE,
                percent_text(kind.added_a / shown.kinds.mean_a).rich if shown.kinds.mean_a else "",
                "small",
            ),
        ):
            cell = self._cell(line, right_px, 150 if size == "small" else 104)
            draw_rich_text(painter, cell, words, look, size=size, align=_ALIGN_RIGHT)
        self._paint_bar(painter, box, kind.added_a, most_a, swatch)

    def _reach(self, kind: Kind) -> str:
        ends = kind.charge.interval()
        if ends is None:
            return "one wake" if kind.count < 2 else ""
        return interval_text(ends[0], ends[1], "C")

    def _paint_bar(self, painter: QPainter, box: QRectF, added_a: float, most_a: float, swatch: Swatch) -> None:
        if not self._is_roomy or not most_a > 0:
            return
        px = self._look.px
        left = self.width() - px(_ADDS)
        width = max(px(_BAR) * max(added_a, 0.0) / most_a, 2.0)
        fill(painter, QRectF(left, box.center().y() - px(20), width, px(18)), swatch, self._look.theme.ground)

    def _paint_unsorted(self, painter: QPainter, box: QRectF, shown: KindsShown, most_a: float) -> None:
        look, theme, kinds = self._look, self._look.theme, shown.kinds
        swatch = Swatch(theme.dim, CROSS)
        self._paint_letter(painter, box, "", swatch)
        count = len(kinds.unsorted)
        self._two_lines(painter, box, _NAME + 18, _PICTURE - 4, UNSORTED, "name one  F2")
        self._two_lines(painter, box, self._how, self._how + 206, counted(count, "wake"), "no rate from single wakes")
        shift = 0 if self._is_roomy else _BAR
        upper, lower = self._halves(box, 0, self.width())
        mean_c = float(kinds.charge_c[kinds.unsorted].mean())
        rows = [(upper, _EACH - shift, quantity_text(mean_c, "C").rich, "normal"),
                (upper, _RIGHT_SIDE, quantity_text(kinds.unsorted_a, "A").rich, "normal")]  # fmt: skip
        if kinds.mean_a:
            rows.append((lower, _RIGHT_SIDE, percent_text(kinds.unsorted_a / kinds.mean_a).rich, "small"))
        for line, right, words, size in rows:
            draw_rich_text(painter, self._cell(line, right, 104), words, look, size=size, align=_ALIGN_RIGHT)
        self._paint_bar(painter, box, kinds.unsorted_a, most_a, swatch)

    def _halves(self, box: QRectF, left: float, right: float) -> tuple[QRectF, QRectF]:
        px = self._look.px
        return (
            QRectF(left, box.center().y() - px(22), right - left, px(22)),
            QRectF(left, box.center().y(), right - left, px(18)),
        )

    def _two_lines(self, painter: QPainter, box: QRectF, left: float, right: float, first: str, second: str) -> None:
        look, px = self._look, self._look.px
        upper, lower = self._halves(box, px(left), px(right))
        draw_rich_text(painter, upper, first, look, dim=look.theme.ink)
        draw_rich_text(painter, lower, second, look, size="small", dim=look.theme.faint)

    def _paint_foot(self, painter: QPainter, shown: KindsShown) -> None:
        look, px, kinds = self._look, self._look.px, shown.kinds
        top = px(_HEAD) + len(self.letters) * self._row_height if self.letters else px(32)
        asleep = percent_text(kinds.floor.value / kinds.mean_a) if kinds.mean_a else ""
        added = column_writer([one.added_a for one in kinds.kinds] or [kinds.mean_a], "A")
        count = counted(int((~kinds.cut).sum()), "wake")
        rows = [
            ("sleep", f"below all of them, the whole time: {asleep}", quantity_text(kinds.floor.value, "A").rich),
            ("sum", f"{count}; closes to the capture's mean", added(kinds.mean_a).rich),
        ]
        if kinds.stays:
            words = f"{stays_words(kinds)}, longer than any wake"
            added_a = sum(stay.added_a for stay in kinds.stays)
            rows.insert(0, ("state" if len(kinds.stays) == 1 else "states", words, quantity_text(added_a, "A").rich))
        for at, (name, words, value) in enumerate(rows):
            line = QRectF(0, top + at * px(_FOOT), self.width(), px(_FOOT))
            draw_rich_text(painter, line.adjusted(px(_NAME + 18), 0, 0, 0), name, look, dim=look.theme.ink)
            words_box = QRectF(px(self._how), line.top(), self.width() - px(self._how + 120), line.height())
            draw_rich_text(painter, words_box, words, look, size="small")
            draw_rich_text(painter, self._cell(line, _RIGHT_SIDE, 130), value, look, align=_ALIGN_RIGHT)
            if at < len(rows) - 1:
                level_a = kinds.floor.value if at == len(rows) - 2 else kinds.stays[0].level_a
                swatch = Swatch(look.theme.ramp.color(level_a))
                fill(painter, QRectF(px(8), line.top() + px(5), px(4), px(16)), swatch, look.theme.ground)

    def text(self) -> str:
        """Return the kinds as tab-separated text."""
        if self.shown is None:
            return ""
        kinds = self.shown.kinds
        lines = ["kind\thow it comes\twakes\tawake (s)\tcharge each (C)\tlow (C)\thigh (C)\tadds (A)"]
        for kind in kinds.kinds:
            low, high = kind.charge.interval() or (float("nan"), float("nan"))
            figures = (kind.count, kind.awake_s, kind.charge.value, low, high, kind.added_a)
            lines.append("\t".join((kind.label, how_it_comes(kind, kinds), *(format_trimmed(one) for one in figures))))
        for stay in kinds.stays:
            lasts_s = (stay.last - stay.first) * kinds.interval_s
            lines.append(f"longer than any wake\t\t\t{format_trimmed(lasts_s)}\t\t\t\t{format_trimmed(stay.added_a)}")
        lines.append(f"sleep\t\t\t\t\t\t\t{format_trimmed(kinds.floor.value)}")
        return "\n".join(lines)

    def rename(self) -> None:
        """Open the name of the chosen kind for typing."""
        if self.shown is None or self.chosen not in self.letters:
            return
        kind = self.shown.kind(self.chosen)
        px, box = self._look.px, self.row_box(self.letters.index(self.chosen))
        self._held = self.chosen
        self.edit.setGeometry(px(_NAME + 14), round(box.top()) + px(8), px(_PICTURE - _NAME - 20), px(24))
        self.edit.setText(kind.name if kind is not None else "")
        self.edit.show()
        self.edit.setFocus()
        self.edit.selectAll()

    def _on_named(self) -> None:
        if not self.edit.isVisible():
            return
        self.edit.hide()
        self.setFocus()
        kind = self.shown.kind(self._held) if self.shown is not None else None
        if self.edit.text().strip() != (kind.name if kind is not None else ""):
            self.renamed.emit(self._held, self.edit.text().strip())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        letters = self.letters
        if step is not None and letters:
            at = letters.index(self.chosen) + step if self.chosen in letters else 0
            self.kind_chosen.emit(letters[int(np.clip(at, 0, len(letters) - 1))])
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.model_asked.emit()
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        letter = self.row_at(event.position())
        if letter is not None:
            self._held = letter
            self.kind_chosen.emit(letter)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        letter = self.row_at(event.position())
        if letter and self._held not in ("", NOTHING, letter):
            self.joined.emit(self._held, letter)
        self._held = NOTHING

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        self.rename()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasFormat(WAKE):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        letter = self.row_at(event.position())
        if letter is not None:
            self.moved.emit(int(event.mimeData().data(WAKE).toStdString()), letter)
            event.acceptProposedAction()


class _NameEdit(QLineEdit):
    """A field whose keys are its own: Enter in it is no Enter in the table below."""

    def keyPressEvent(self, event: QKeyEvent) -> None:
        super().keyPressEvent(event)
        event.accept()


def _bold(words: str) -> str:
    """Return words with their figures heavier."""
    return " ".join(f"**{word}**" if word[:1].isdigit() else word for word in words.split(" "))
