"""The wiring as it hangs: source, burden, rail, and on it the target and all that is beside it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import msgspec
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import (
    QCheckBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from warm_ember.model.bench import Attached, Bench
from warm_ember.model.figure import Grade
from warm_ember.session.bench_setup import added_by, at_target
from warm_ember.ui.look.label import Label
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.textures import FINE, texture_brush
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Added


KNOWN_PARTS = (
    Attached("Debug probe", 1.3e-6, detail="released, pins float"),
    Attached("Serial bridge", 310e-6, detail="feeds the chip through its pins"),
    Attached("Meter", ohm=2.2e6, detail="across the rail"),
    Attached("Reservoir", 1.6e-6, detail="470 µF, leaks"),
    Attached("Level shifter", 0.62e-6, detail="4 channels, idle"),
    Attached("Logic pod", 0.04e-6, detail="4 lines, 10 MΩ"),
)

_INDENT = 24


class _Card(QFrame):
    """A box of the drawing with a name, a value that is typed in it, and a line of detail."""

    def __init__(self, look: Appearance, name: str) -> None:
        super().__init__()
        self.look = look
        self.setObjectName("card")
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(look.px(10), look.px(5), look.px(8), look.px(5))
        self.grid.setHorizontalSpacing(look.px(6))
        self.grid.setVerticalSpacing(look.px(1))
        self.grid.setColumnStretch(0, 1)
        self.title = Label(name)
        self.detail = Label()
        self.detail.setWordWrap(True)
        self.grid.addWidget(self.title, 0, 0)
        self.grid.addWidget(self.detail, 1, 0)
        look.changed.connect(self.colour)
        self.colour()

    def colour(self) -> None:
        """Follow the theme."""
        theme = self.look.theme
        self.setStyleSheet(
            f"QFrame#card {{ background: {theme.raised.name()}; border: 1px solid {theme.rule.name()}; }}"
        )
        self.detail.setFont(self.look.font("small"))
        self.detail.setStyleSheet(f"color: {theme.dim.name()};")


class _AttachedCard(_Card):
    """Something beside the target: what it draws, whether it is plugged in, whether it is subtracted.

    Signals
    -------
    changed
        ``(the changed thing, or None to remove it; what was done)``.
    """

    changed = Signal(object, str)

    def __init__(self, look: Appearance, one: Attached) -> None:
        super().__init__(look, "")
        self._one = one
        self.name = QLineEdit()
        self.name.setAccessibleName("Other loads to the rail")
        self.name.setFont(look.font("small", bold=True))
        self.name.editingFinished.connect(self._on_name)
        self.value = QuantityEdit(look, "Ω" if one.ohm else "A", "what it draws", 68)
        self.value.setFont(look.font("small"))
        self.value.value_entered.connect(self._on_value)
        self.present = self._box("plugged in", lambda on: self._send("plug", present=on))
        self.subtracted = self._box("subtract", lambda on: self._send("subtract", subtracted=on))
        self.remove = QPushButton("Remove")
        self.remove.setFont(look.font("small"))
        self.remove.setObjectName("quiet")
        self.remove.clicked.connect(lambda: self.changed.emit(None, f"remove {self._one.name}"))
        self.title.hide()
        self.grid.addWidget(self.name, 0, 0)
        self.grid.addWidget(self.value, 0, 1)
        self.grid.addWidget(self.detail, 1, 0, 1, 2)
        boxes = QHBoxLayout()
        boxes.setSpacing(look.px(4))
        for widget in (self.present, self.subtracted):
            boxes.addWidget(widget)
        boxes.addStretch(1)
        boxes.addWidget(self.remove)
        self.grid.addLayout(boxes, 2, 0, 1, 2)
        self.show_part(one)

    def show_part(self, one: Attached) -> None:
        """Show it as the project has it now."""
        self._one = one
        if not self.name.hasFocus():
            self.name.setText(one.name)
            self.name.setCursorPosition(0)
        self.value.set_value(one.ohm or one.current_a)
        self.present.setChecked(one.present)
        self.subtracted.setChecked(one.subtracted)
        self.detail.setText(f"{one.detail}{', ' if one.detail else ''}{one.grade.value}")
        self.update()

    def _on_name(self) -> None:
        self._send("rename", name=self.name.text().strip() or self._one.name)

    def _box(self, words: str, send: Callable[[bool], None]) -> QCheckBox:
        box = QCheckBox(words)
        box.setFont(self.look.font("small"))
        box.clicked.connect(send)
        return box

    def _send(self, what: str, **changes: object) -> None:
        changed = msgspec.structs.replace(self._one, **changes)
        if changed != self._one:
            self.changed.emit(changed, f"{what} {self._one.name}")

    def _on_value(self, value: float) -> None:
        field = "ohm" if self._one.ohm else "current_a"
        self._send("set", **{field: value, "grade": Grade.ENTERED})

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        color = self.look.theme.ramp.color(max(self._one.draws_a(3.0), 1e-9))
        painter.fillRect(QRectF(0, 0, self.look.px(4), self.height()), color)
        if self._one.subtracted:
            painter.fillRect(QRectF(0, 0, self.look.px(4), self.height()), texture_brush(FINE, self.look.theme.sunken))
        painter.end()


class _Left(PaintedView):
    """What stays in the recordings, as a bar against the quietest state of the last run."""

    reads_as = "What is left of the supply"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.added: Added | None = None
        self.quietest: tuple[str, float] | None = None
        self.setFixedHeight(look.px(60))
        look.changed.connect(self.update)

    def paintEvent(self, event: QPaintEvent) -> None:
        if self.added is None:
            return
        painter = QPainter(self)
        look, theme, px = self.look, self.look.theme, self.look.px
        right = Qt.AlignmentFlag.AlignRight
        name, floor_a = self.quietest or ("the target's floor", 0.0)
        row = QRectF(0, 0, self.width(), px(18))
        draw_rich_text(painter, row, f"What is left, against {name}", look, dim=theme.ink)
        if floor_a:
            draw_rich_text(painter, row, quantity_text(floor_a, "A").rich, look, align=right)
        bar = QRectF(0, px(22), self.width() - 1, px(12))
        painter.fillRect(bar, theme.ramp.color(max(floor_a, 1e-9)) if floor_a else theme.raised)
        share = self.added.share_of(floor_a)
        stays = QRectF(bar.left(), bar.top(), bar.width() * min(1.0, share or 0.0), bar.height())
        painter.fillRect(stays, theme.ink)
        row = QRectF(0, px(38), self.width(), px(16))
        draw_rich_text(painter, row, f"stays in {quantity_text(self.added.stays_a, 'A').rich}", look, size="small")
        if share is not None:
            draw_rich_text(painter, row, f"**{100 * share:.2g}** %", look, size="small", align=right)
        painter.end()


class _Drawing(PaintedView):
    """The cards, and the lines between them."""

    reads_as = "Wiring"

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.look = look
        self.cards: list[QWidget] = []
        self.hanging: list[QWidget] = []
        self.rail: QWidget | None = None

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        theme, px = self.look.theme, self.look.px
        painter.setPen(QPen(theme.dim, 2))
        x = px(22)
        for upper, lower in zip(self.cards, self.cards[1:], strict=False):
            painter.drawLine(QPointF(x, upper.geometry().bottom()), QPointF(x, lower.geometry().top()))
        if self.rail is not None and self.hanging:
            top = self.rail.geometry().bottom()
            painter.drawLine(QPointF(px(8), top), QPointF(self.width() - px(2), top))
            last = self.hanging[-1].geometry()
            painter.drawLine(QPointF(px(10), top), QPointF(px(10), last.center().y()))
            for card in self.hanging:
                y = card.geometry().center().y()
                painter.drawLine(QPointF(px(10), y), QPointF(card.geometry().left(), y))
        painter.end()


class WiringPanel(QWidget):
    """Other loads on the rail, what each adds, and what stays.

    Signals
    -------
    changed
        ``(what, fields of the bench)`` to change.
    """

    changed = Signal(str, object)

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.look = look
        self._bench: Bench | None = None
        column = QVBoxLayout(self)
        px = look.px
        column.setContentsMargins(px(12), px(6), px(8), px(8))
        column.setSpacing(px(6))
        head = QHBoxLayout()
        head.addWidget(Label("Wiring"))
        head.addStretch(1)
        self.add = QPushButton("Add a load …")
        self.add.setFont(look.font("small"))
        self.add.clicked.connect(self._ask_part)
        head.addWidget(self.add)
        column.addLayout(head)
        self.drawing = _Drawing(look)
        self._rows = QVBoxLayout(self.drawing)
        self._rows.setContentsMargins(0, 0, px(4), 0)
        self._rows.setSpacing(px(8))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.drawing)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        column.addWidget(scroll, 1)
        self._build_chain()
        self.left = _Left(look)
        column.addWidget(self.left)

    def _build_chain(self) -> None:
        look = self.look
        self.source = _Card(look, "Source")
        self.voltage = QuantityEdit(look, "V", "Voltage of the source", 76)
        self.voltage.value_entered.connect(lambda value: self._send_settings("voltage", voltage_v=value))
        self.source.grid.addWidget(self.voltage, 0, 1)
        self.burden = _Card(look, "Burden and leads")
        self.ohm = QuantityEdit(look, "Ω", "Resistance in series", 76)
        self.ohm.value_entered.connect(lambda value: self.changed.emit("burden", {"burden_ohm": value}))
        self.burden.grid.addWidget(self.ohm, 0, 1)
        self.rail = Label("Rail")
        self.target = _Card(look, "Target")
        self.now = Label()
        self.target.grid.addWidget(self.now, 0, 1)
        for widget in (self.source, self.burden, self.rail):
            self._rows.addWidget(widget)
        self.drawing.cards = [self.source, self.burden]
        self.drawing.rail = self.rail
        self._hanging = QVBoxLayout()
        self._hanging.setContentsMargins(look.px(_INDENT), 0, 0, 0)
        self._hanging.setSpacing(look.px(8))
        self._hanging.addWidget(self.target)
        self._rows.addLayout(self._hanging)
        self._rows.addStretch(1)
        self.attached: list[_AttachedCard] = []
        self._kinds: list[bool] = []
        self.drawing.hanging = [self.target]

    def _send_settings(self, what: str, **fields: object) -> None:
        if self._bench is not None:
            self.changed.emit(what, {"settings": msgspec.structs.replace(self._bench.settings, **fields)})

    def _ask_part(self) -> None:
        menu = QMenu(self)
        for part in (*KNOWN_PARTS, Attached("Something else", 1e-6)):
            menu.addAction(f"{part.name}  {part.detail}", partial(self.hang, part))
        menu.popup(self.add.mapToGlobal(self.add.rect().bottomLeft()))

    def hang(self, part: Attached) -> None:
        """Hang something on the rail."""
        if self._bench is not None:
            fields = {"attached": (*self._bench.attached, part)}
            self.changed.emit(f"add {part.name} to the rail", fields)

    def show_bench(
        self, bench: Bench, *, peak_a: float, quietest: tuple[str, float] | None, burden_ohm: float | None
    ) -> None:
        """Show the bench of a project.

        Parameters
        ----------
        bench
            What the project says.
        peak_a
            The highest current of the last run: the burden is worked out at it.
        quietest
            Name and current of its quietest state, A.
        burden_ohm
            The instrument's own, where the project says nothing.
        """
        self._bench = bench
        settings = bench.settings
        self.voltage.set_value(settings.voltage_v)
        limit = f"limit {quantity_text(settings.limit_a, 'A')}, " if settings.limit_a else ""
        self.source.detail.setText(f"{limit}{'automatic range' if settings.range_a is None else 'one range'}")
        self.ohm.set_value(bench.burden_ohm if bench.burden_ohm is not None else burden_ohm)
        at_peak = at_target(bench, peak_a, burden_ohm)
        at_rest = at_target(bench, quietest[1], burden_ohm) if quietest is not None else None
        if at_peak is None:
            self.burden.detail.setText("enter its resistance to see its drop")
            self.rail.setText("Rail")
        else:
            rest = f", {quantity_text(at_rest.lost_v, 'V')} in {quietest[0]}" if at_rest and quietest else ""
            self.burden.detail.setText(
                f"drops {quantity_text(at_peak.lost_v, 'V')} at the {quantity_text(peak_a, 'A')} peak{rest}"
            )
            self.rail.setText(f"Rail   {quantity_text(at_peak.left_v, 'V')} left at the peak")
        identity = bench.identity
        self.target.title.setText(identity.target or "Target")
        words = [identity.board, identity.firmware and f"firmware {identity.firmware}", identity.options]
        self.target.detail.setText(", ".join(word for word in words if word) or "say on the right what it is")
        self._show_attached(bench.attached)
        self.left.added, self.left.quietest = added_by(bench), quietest
        self.left.update()

    def _show_attached(self, attached: tuple[Attached, ...]) -> None:
        """Show a card for each thing; cards stay as long as the things do, so that a field keeps the keyboard."""
        kinds = [(bool(one.ohm)) for one in attached]
        if kinds == self._kinds:
            for card, one in zip(self.attached, attached, strict=True):
                card.show_part(one)
            return
        self._kinds = kinds
        for card in self.attached:
            self._hanging.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.attached = []
        for index, one in enumerate(attached):
            card = _AttachedCard(self.look, one)
            card.changed.connect(partial(self._on_card, index))
            self._hanging.addWidget(card)
            self.attached.append(card)
        self.drawing.hanging = [self.target, *self.attached]
        self.drawing.update()

    def _on_card(self, index: int, changed: Attached | None, what: str) -> None:
        assert self._bench is not None
        before = self._bench.attached
        after = (*before[:index], *((changed,) if changed is not None else ()), *before[index + 1 :])
        self.changed.emit(what, {"attached": after})

    def show_now(self, current_a: float | None) -> None:
        """Show what the target draws now."""
        self.now.setText(str(quantity_text(current_a, "A")) if current_a is not None else "")
