"""The changes of the plan with what each saves, those that a run proved, and what else is offered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from PySide6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip

from warm_ember.model.plan import PlannedChange
from warm_ember.session.tuning_results import PlanResults
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_chip, draw_rich_text, width_of
from warm_ember.ui.look.theme import Appearance
from warm_ember.units import QuantityText, column_writer, format_trimmed, months_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import PredictedStep, Proof, SuggestedChange


_HEAD, _ROW, _OFFER = 26, 38, 24
_RIGHT = Qt.AlignmentFlag.AlignRight
_STAGE, _LIFE, _SAVES = 104, 74, 84
_ALPHABET = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
LETTERS = (*_ALPHABET, *(one + other for one in _ALPHABET for other in _ALPHABET))


@dataclass(frozen=True, eq=False)
class Item:
    """One line: a head, a change ahead, one that is kept beside the plan, a proof, or an offer."""

    kind: str
    words: str = ""
    letter: str = ""
    change: PlannedChange | None = None
    step: PredictedStep | None = None
    life_gain_s: float = 0.0
    proof: Proof | None = None
    offer: SuggestedChange | None = None

    @property
    def name(self) -> str:
        """What it is called."""
        change = self.change or (self.offer.change if self.offer is not None else None)
        return change.name if change is not None else self.words or self.kind


class PlanList(PaintedView):
    """The list, with a cursor that the arrow keys move.

    Signals
    -------
    chosen
        A `PlannedChange` to be edited, or None.
    added
        An `SuggestedChange` that shall go into the plan.
    evidence_asked
        From and to, s, of what an offer rests on.
    toggled, dropped
        A `PlannedChange` that shall go in or out of the plan, or be forgotten.
    moved
        A `PlannedChange`, and by how many places.
    proof_asked
        A `Proof` to be shown in full.
    """

    chosen = Signal(object)
    added = Signal(object)
    evidence_asked = Signal(float, float)
    toggled = Signal(object)
    dropped = Signal(object)
    moved = Signal(object, int)
    proof_asked = Signal(object)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Changes and findings")
        self.look = look
        self.results: PlanResults | None = None
        self.items: list[Item] = []
        self.at = -1
        look.changed.connect(self._on_look)

    def _on_look(self) -> None:
        self._fit()
        self.update()

    def show_plan(self, results: PlanResults | None, beside: tuple[PlannedChange, ...]) -> None:
        """Show a plan; `beside` are changes that are kept out of it."""
        before = self.item.change if self.item is not None else None
        self.results = results
        self.items = _items(results, beside) if results is not None else []
        same = (n for n, item in enumerate(self.items) if before is not None and item.change == before)
        self.at = next(same, -1)
        self._fit()
        self.update()

    def _saved(self, item: Item) -> tuple[float | None, ...]:
        """Return what stands in the column of savings for an item, and below it."""
        if item.step is not None:
            return item.step.saved_a, item.step.alone_a
        if item.proof is not None:
            return item.proof.measured_step_a, item.proof.predicted_step_a
        return (item.offer.saved_a,) if item.offer is not None else ()

    @property
    def saved_text(self) -> Callable[[float | None], QuantityText]:
        """Writes what is saved, all in one unit."""
        return column_writer([value for item in self.items for value in self._saved(item)], "A")

    def _fit(self) -> None:
        self.setMinimumHeight(self.sizeHint().height())
        self.updateGeometry()

    @property
    def item(self) -> Item | None:
        """The line under the cursor."""
        return self.items[self.at] if 0 <= self.at < len(self.items) else None

    def sizeHint(self) -> QSize:
        return QSize(self.look.px(480), sum(self._height(item) for item in self.items) + self.look.px(4))

    def _height(self, item: Item) -> int:
        return self.look.px({"head": _HEAD, "offer": _OFFER}.get(item.kind, _ROW))

    def box_of(self, index: int) -> QRectF:
        """Return where a line is."""
        top = sum(self._height(item) for item in self.items[:index])
        return QRectF(0, top, self.width(), self._height(self.items[index]))

    def add_box(self, index: int) -> QRectF:
        """Return where an offer is added."""
        box, px = self.box_of(index), self.look.px
        return QRectF(box.right() - px(76), box.top() + 2, px(64), box.height() - 4)

    def evidence_box(self, index: int) -> QRectF:
        """Return where an offer leads to its evidence."""
        box, px = self.box_of(index), self.look.px
        return QRectF(box.right() - px(164), box.top(), px(80), box.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.look.theme.ground)
        for index, item in enumerate(self.items):
            box = self.box_of(index)
            if not event.rect().intersects(box.toAlignedRect()):
                continue
            if index == self.at:
                painter.fillRect(box, self.look.theme.mark_ground if self.hasFocus() else self.look.theme.raised)
            if item.kind == "head":
                self._paint_head(painter, box, item)
            elif item.kind == "offer" and item.offer is not None:
                self._paint_offer(painter, index, box, item.offer)
            else:
                self._paint_change(painter, box, item)
        painter.end()

    def _paint_head(self, painter: QPainter, box: QRectF, item: Item) -> None:
        look, px, theme = self.look, self.look.px, self.look.theme
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, box.top() + 0.5), QPointF(box.right(), box.top() + 0.5))
        draw_rich_text(painter, box.adjusted(px(16), 0, 0, 0), item.words, look, dim=theme.ink, size="small")
        if item.letter == "columns":
            for right, words in self._columns(box, ("saves", "life", "stage")):
                draw_rich_text(painter, right, words, look, size="small", align=_RIGHT)

    def _columns(self, box: QRectF, words: tuple[str, str, str]) -> list[tuple[QRectF, str]]:
        px = self.look.px
        right, found = box.right() - px(12), []
        for width, text in zip((_STAGE, _LIFE, _SAVES), reversed(words), strict=True):
            found.append((QRectF(right - px(width), box.top(), px(width), box.height()), text))
            right -= px(width)
        return found

    def _paint_change(self, painter: QPainter, box: QRectF, item: Item) -> None:
        look, px, theme = self.look, self.look.px, self.look.theme
        first = QRectF(box.left(), box.top() + px(2), box.width(), px(19))
        second = QRectF(box.left(), box.top() + px(20), box.width(), px(16))
        left = px(16)
        if item.letter:
            draw_chip(painter, QRectF(left, first.top() + px(2), px(17), px(15)), item.letter, look)
        elif item.proof is not None:
            mark = "✓" if item.proof.is_proved else "!"
            ink = theme.ink if item.proof.is_proved else theme.warning_text
            draw_rich_text(painter, QRectF(left, first.top(), px(17), first.height()), mark, look, dim=ink)
        name_room = box.width() - left - px(28 + _STAGE + _LIFE + _SAVES + 16)
        name = QRectF(left + px(26), first.top(), name_room, first.height())
        in_plan = item.kind != "beside"
        draw_rich_text(painter, name, item.words, look, dim=theme.ink if in_plan else theme.dim)
        saves, life, stage, under = _figures(item, self.saved_text)
        for place, words in self._columns(first, (saves, life, stage)):
            draw_rich_text(painter, place, words, look, size="small", align=_RIGHT)
        under_stage = QRectF(box.right() - px(12 + _STAGE + 60), second.top(), px(_STAGE + 60), second.height())
        draw_rich_text(painter, under_stage, under, look, size="small", dim=theme.faint, align=_RIGHT)
        costs = QRectF(name.left(), second.top(), box.width() - name.left() - px(_STAGE + 76), second.height())
        draw_rich_text(painter, costs, _costs(item), look, size="small", dim=theme.faint)

    def _paint_offer(self, painter: QPainter, index: int, box: QRectF, offer: SuggestedChange) -> None:
        look, px, theme = self.look, self.look.px, self.look.theme
        swatch = QRectF(px(16), box.top() + px(4), px(5), box.height() - px(8))
        painter.fillRect(swatch, theme.ramp.color(offer.saved_a))
        add, evidence = self.add_box(index), self.evidence_box(index)
        gains = QRectF(evidence.left() - px(74), box.top(), px(66), box.height())
        saves = QRectF(gains.left() - px(74), box.top(), px(70), box.height())
        name = QRectF(px(28), box.top(), saves.left() - px(32), box.height())
        draw_rich_text(painter, name, offer.change.name, look, size="small", dim=theme.ink)
        draw_rich_text(painter, saves, self.saved_text(offer.saved_a).rich, look, size="small", align=_RIGHT)
        sign = "+" if offer.gain_s >= 0 else "−"
        gained = f"{sign}**{months_text(abs(offer.gain_s)).number}** mo"
        draw_rich_text(painter, gains, gained, look, size="small", align=_RIGHT)
        if offer.from_s is not None:
            draw_rich_text(painter, evidence, "evidence ▸", look, size="small", dim=theme.mark)
        painter.setPen(QPen(theme.rule, 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(add.adjusted(0.5, 0.5, -0.5, -0.5))
        draw_rich_text(painter, add.adjusted(px(8), 0, -px(8), 0), "Add", look, size="small", dim=theme.ink)
        draw_rich_text(painter, add.adjusted(px(8), 0, -px(8), 0), "+", look, size="small", align=_RIGHT)

    def named_boxes(self) -> list[NamedBox]:
        return [NamedBox(item.name, self.box_of(index), index == self.at) for index, item in enumerate(self.items)]

    def _index_at(self, position: QPointF) -> int:
        boxes = (self.box_of(index) for index in range(len(self.items)))
        return next((n for n, box in enumerate(boxes) if box.contains(position)), -1)

    def choose(self, index: int) -> None:
        """Put the cursor on a line."""
        self.at = index
        self.update()
        self.tell_named(index)
        item = self.item
        self.chosen.emit(item.change if item is not None and item.kind in ("change", "beside", "proof") else None)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        index = self._index_at(event.position())
        if index < 0 or self.items[index].kind == "head":
            return
        item = self.items[index]
        if item.offer is not None and self.add_box(index).contains(event.position()):
            self.added.emit(item.offer)
        elif item.offer is not None and self.evidence_box(index).contains(event.position()):
            self.show_evidence(item.offer)
        else:
            self.choose(index)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        if self.item is not None and self.item.proof is not None:
            self.proof_asked.emit(self.item.proof)

    def show_evidence(self, offer: SuggestedChange) -> None:
        """Ask for the stretch that an offer rests on."""
        if offer.from_s is not None and offer.to_s is not None:
            self.evidence_asked.emit(offer.from_s, offer.to_s)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        item, key = self.item, Qt.Key(event.key())
        with_control = bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier)
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(key)
        if step is not None and with_control and item is not None and item.kind == "change":
            self.moved.emit(item.change, step)
        elif step is not None:
            self._step(step)
        elif item is None:
            super().keyPressEvent(event)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Insert) and item.offer is not None:
            self.added.emit(item.offer)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and item.proof is not None:
            self.proof_asked.emit(item.proof)
        elif key == Qt.Key.Key_E and item.offer is not None:
            self.show_evidence(item.offer)
        elif key == Qt.Key.Key_Space and item.kind in ("change", "beside"):
            self.toggled.emit(item.change)
        elif key == Qt.Key.Key_Delete and item.change is not None:
            self.dropped.emit(item.change)
        else:
            super().keyPressEvent(event)

    def _step(self, by: int) -> None:
        index = self.at + by
        while 0 <= index < len(self.items) and self.items[index].kind == "head":
            index += by
        if 0 <= index < len(self.items):
            self.choose(index)

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            index = self._index_at(QPointF(event.pos()))
            words = _tip(self.items[index]) if index >= 0 else ""
            QToolTip.showText(event.globalPos(), tip(words), self)
            return True
        return super().event(event)

    def text(self) -> str:
        """Return the list as tab-separated text."""
        lines = ["change\tsaves (A)\talone (A)\taverage after (A)"]
        lines += [
            f"{item.words}\t{item.step.saved_a:.6g}\t{item.step.alone_a:.6g}\t{item.step.mean_a:.6g}"
            for item in self.items
            if item.step is not None
        ]
        return "\n".join(lines)

    @property
    def widest(self) -> float:
        """How wide the longest name is, to know whether it is cut off."""
        return max((width_of(self.look, item.words) for item in self.items), default=0.0)


def _items(results: PlanResults, beside: tuple[PlannedChange, ...]) -> list[Item]:
    items = [Item("head", "change", "columns")]
    before_s = results.life_s
    for letter, step, life_s in zip(LETTERS, results.steps, results.lives_s, strict=False):
        items.append(Item("change", step.change.name, letter, step.change, step, life_s - before_s))
        before_s = life_s
    if not results.steps:
        items.append(Item("head", "No change is planned from here: take one from below, or from a cell of the matrix."))
    items += [Item("beside", change.name, "", change) for change in beside]
    if results.proofs:
        items.append(Item("head", "Changes that a run contains: predicted against measured"))
        for proof in reversed(results.proofs):
            names = " and ".join(change.name for change in proof.changes[:2])
            more = f" and {len(proof.changes) - 2} more" if len(proof.changes) > 2 else ""
            items.append(Item("proof", names + more, "", proof.changes[0], proof=proof))
    rest = "Findings and leads, not in the plan yet" if results.suggestions else "Nothing else is offered"
    items.append(Item("head", rest))
    items += [Item("offer", offer.change.name, offer=offer) for offer in results.suggestions]
    return items


def _figures(item: Item, write: Callable[[float | None], QuantityText]) -> tuple[str, str, str, str]:
    """Return what stands under saves, life and stage, and below them."""
    if item.step is not None:
        gain = months_text(abs(item.life_gain_s))
        sign = "+" if item.life_gain_s >= 0 else "−"
        stage = "predicted" if not item.step.unclear else "does nothing here"
        alone = f"alone {write(item.step.alone_a)}"
        proved = f", in {item.change.proved_by}" if item.change is not None and item.change.proved_by else ""
        return write(item.step.saved_a).rich, f"{sign}**{gain.number}** mo", stage + proved, alone
    if item.proof is not None:
        proof = item.proof
        measured = write(proof.measured_step_a).rich
        off = proof.measured_step_a / proof.predicted_step_a - 1 if proof.predicted_step_a else 0.0
        words = f"{'+' if off >= 0 else '−'}{format_trimmed(100 * abs(off), 2)} %"
        return measured, words, f"measured, {proof.after}", f"predicted {write(proof.predicted_step_a)}"
    return "", "", "not in the plan", ""


def _costs(item: Item) -> str:
    change = item.change
    if item.step is not None and item.step.unclear:
        return "; ".join(item.step.unclear)
    if item.proof is not None:
        if not item.proof.is_proved:
            where = ", ".join(one.name for one in item.proof.off) or "no single state"
            return f"not as predicted: look at {where}"
        return f"from {item.proof.before} to {item.proof.after}: as predicted"
    if change is None:
        return ""
    parts = [f"+{quantity_text(change.latency_s, 's')} latency"] if change.latency_s else []
    parts += [f"−{format_trimmed(100 * change.accuracy)} % accuracy"] if change.accuracy else []
    parts += [f"{format_trimmed(change.memory_bytes)} B"] if change.memory_bytes else []
    parts += [change.costs] if change.costs else []
    return "costs: " + (", ".join(parts) or "nothing known")


def _tip(item: Item) -> str:
    if item.offer is not None:
        return f"{item.offer.words}\nEnter adds it to the plan, E shows its evidence."
    if item.step is not None:
        alone, saved = (quantity_text(value, "A") for value in (item.step.alone_a, item.step.saved_a))
        return f"{item.words}: saves {alone} alone, and {saved} after those above it."
    return item.words if item.kind != "head" else ""
