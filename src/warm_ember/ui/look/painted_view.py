"""A view that paints itself: reached by Tab, read by a screen reader, copied as text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from PySide6.QtCore import QEvent, QPoint, QRectF, Qt
from PySide6.QtGui import (
    QAccessible,
    QAccessibleAnnouncementEvent,
    QAccessibleEvent,
    QAccessibleInterface,
    QFocusEvent,
    QImage,
    QKeyEvent,
    QKeySequence,
    QPainter,
    QPen,
)
from PySide6.QtWidgets import QWidget

from warm_ember.ui.look.copying import copy_text
from warm_ember.ui.look.rich_text import DrawnText, noting_drawn
from warm_ember.ui.look.theme import Appearance

_SAME_LINE = 7.0
_BY_KEYS = (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason, Qt.FocusReason.ShortcutFocusReason)
_SIGNS = frozenset("▾▸→✓")


class NamedBox(NamedTuple):
    """A part of a view that has a name: a row, a cell, a bar; with what its words do not say of its value."""

    name: str
    box: QRectF
    is_chosen: bool = False
    value: str = ""


class ReadItem(NamedTuple):
    """What a screen reader says of a part of a view: its name, its figures, and where it is."""

    name: str
    value: str
    box: QRectF
    is_chosen: bool = False


class PaintedView(QWidget):
    """Base of the views that paint themselves.

    What the view paints is what is read and copied: its words are noted while it paints into nowhere. Views that keep
    their rows, cells or bars apart name them by `named_boxes`; the words within a box are then its value.

    Attributes
    ----------
    accessible_role
        What it is to a screen reader.
    reads_as
        Its name to one, as long as it is given no other.
    copies_itself
        Whether Ctrl+C copies it; what the page copies is copied otherwise.
    paints_focus
        Whether it shows by itself that it has the keyboard; else a frame does, from the first key on.
    interface
        What a screen reader holds on to.
    """

    accessible_role = QAccessible.Role.List
    reads_as = ""
    copies_itself = True
    paints_focus = False

    def __init__(self, look: Appearance, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName(self.reads_as)
        self._frame_look = look
        self._read_at = -1
        self._items: tuple[ReadItem, ...] | None = None
        self._is_reading = self._shows_frame = False
        self.interface: QAccessibleInterface | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def named_boxes(self) -> Sequence[NamedBox]:
        """Return the parts that have a name, in the order in which they are read."""
        return ()

    def paint_to_read(self, painter: QPainter) -> None:
        """Paint all of the view, for its words."""
        self.render(painter, QPoint(), renderFlags=QWidget.RenderFlag.DrawWindowBackground)

    @property
    def read_items(self) -> tuple[ReadItem, ...]:
        """What is read of the view, part by part."""
        if self._items is None:
            self._items = self._find_items()
        return self._items

    def read_text(self) -> str:
        """Return what is read of the view, a line a part."""
        return "\n".join("\t".join(part for part in (one.name, one.value) if part) for one in self.read_items)

    def copied_text(self) -> str:
        """Return what Ctrl+C copies."""
        text = getattr(self, "text", None)
        return str(text()) if callable(text) else self.read_text()

    def _find_items(self) -> tuple[ReadItem, ...]:
        nowhere = QImage(max(1, self.width()), max(1, self.height()), QImage.Format.Format_RGB32)
        self._is_reading = True
        try:
            painter = QPainter(nowhere)
            with noting_drawn() as drawn:
                self.paint_to_read(painter)
            painter.end()
        finally:
            self._is_reading = False
        rest, items = [one for one in drawn if one.words not in _SIGNS], []
        for named in self.named_boxes():
            inside = [one for one in rest if named.box.contains(one.box.center())]
            rest = [one for one in rest if one not in inside]
            words = [named.value, *(one.words for one in inside if one.words != named.name)]
            items.append(ReadItem(named.name, "  ".join(filter(None, words)), named.box, named.is_chosen))
        return (*_lines(rest), *items)

    def tell_named(self, index: int) -> None:
        """Tell a screen reader which of the parts that have a name has the keyboard now."""
        if QAccessible.isActive():
            self._items = None
            self.tell_item(len(self.read_items) - len(self.named_boxes()) + index)

    def tell_item(self, index: int) -> None:
        """Tell a screen reader that a named part has the keyboard now."""
        self._items = None
        if QAccessible.isActive():
            interface = QAccessible.queryAccessibleInterface(self)
            event = QAccessibleEvent(self, QAccessible.Event.Focus)
            event.setChild(interface.childCount() - len(self.read_items) + index)
            QAccessible.updateAccessibility(event)

    def announce(self, words: str) -> None:
        """Let a screen reader say what the keyboard has come to, where that is no part with a name."""
        if QAccessible.isActive():
            QAccessible.updateAccessibility(QAccessibleAnnouncementEvent(self, words))

    def event(self, event: QEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.KeyPress and not self._shows_frame:
            self._shows_frame = True
            self.update()
        if self.copies_itself and isinstance(event, QKeyEvent) and event.matches(QKeySequence.StandardKey.Copy):
            if kind == QEvent.Type.ShortcutOverride:
                event.accept()
                return True
            if kind == QEvent.Type.KeyPress:
                copy_text(self.copied_text())
                return True
        done = super().event(event)
        if kind == QEvent.Type.Paint and not self._is_reading:
            self._items = None
            if self.hasFocus():
                self._paint_focus()
        return done

    def _paint_focus(self) -> None:
        painter = QPainter(self)
        painter.setPen(QPen(self._frame_look.theme.mark, 1))
        if not self.paints_focus and self._shows_frame:
            painter.drawRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5))
        if 0 <= self._read_at < len(self.read_items):
            painter.drawRect(self.read_items[self._read_at].box.adjusted(-2, 0, 2, 0))
        painter.end()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is None or not self.read_items or event.modifiers() != Qt.KeyboardModifier.NoModifier:
            super().keyPressEvent(event)
            return
        self._read_at = min(max(self._read_at + step, 0), len(self.read_items) - 1)
        self.tell_item(self._read_at)
        self.update()

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._read_at = -1
        self.update()

    def focusInEvent(self, event: QFocusEvent) -> None:
        self._shows_frame = event.reason() in _BY_KEYS
        self.update()


def _lines(drawn: list[DrawnText]) -> list[ReadItem]:
    """Put words that stand beside each other together, from the top, each line read from the left."""
    lines: list[list[DrawnText]] = []
    for one in sorted(drawn, key=lambda one: one.box.center().y()):
        if lines and abs(lines[-1][0].box.center().y() - one.box.center().y()) < _SAME_LINE:
            lines[-1].append(one)
        else:
            lines.append([one])
    items = []
    for line in lines:
        ordered = sorted(line, key=lambda one: one.box.left())
        box = ordered[0].box
        for one in ordered[1:]:
            box = box.united(one.box)
        items.append(ReadItem(ordered[0].words, "  ".join(one.words for one in ordered[1:]), box))
    return items
