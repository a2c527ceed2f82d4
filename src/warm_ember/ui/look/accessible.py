"""What a screen reader gets of the views that paint themselves: each with its parts, their names and their figures."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint, QRect
from PySide6.QtGui import QAccessible, QAccessibleInterface, QWindow
from PySide6.QtWidgets import QAccessibleWidget

from warm_ember.ui.look.painted_view import PaintedView, ReadItem


class _Item(QAccessibleInterface):
    """A part of a view; which one is looked up each time, as the view may show something else by then."""

    def __init__(self, view: PaintedView, index: int) -> None:
        super().__init__()
        self._view, self._index = view, index

    @property
    def _item(self) -> ReadItem | None:
        items = self._view.read_items
        return items[self._index] if self._index < len(items) else None

    def isValid(self) -> bool:
        return self._item is not None

    def object(self) -> QObject | None:  # type: ignore[override]
        return None

    def window(self) -> QWindow | None:  # type: ignore[override]
        return self._view.window().windowHandle()

    def parent(self) -> QAccessibleInterface:
        return QAccessible.queryAccessibleInterface(self._view)

    def childCount(self) -> int:
        return 0

    def child(self, index: int) -> QAccessibleInterface | None:  # type: ignore[override]
        return None

    def childAt(self, x: int, y: int) -> QAccessibleInterface | None:  # type: ignore[override]
        return None

    def indexOfChild(self, child: QAccessibleInterface) -> int:
        return -1

    def role(self) -> QAccessible.Role:
        return QAccessible.Role.ListItem

    def state(self) -> QAccessible.State:
        state, item = QAccessible.State(), self._item
        state.selectable = True
        state.selected = bool(item is not None and item.is_chosen)
        return state

    def rect(self) -> QRect:
        item = self._item
        if item is None:
            return QRect()
        box = item.box.toRect()
        return QRect(self._view.mapToGlobal(box.topLeft()), box.size())

    def text(self, kind: QAccessible.Text) -> str:
        item = self._item
        if item is None:
            return ""
        return {QAccessible.Text.Name: item.name, QAccessible.Text.Value: item.value}.get(kind, "")

    def setText(self, kind: QAccessible.Text, text: str) -> None:
        """Leave it: what is painted is not edited here."""


class _View(QAccessibleWidget):
    """A painted view: its own controls, and after them its parts."""

    def __init__(self, view: PaintedView) -> None:
        super().__init__(view, view.accessible_role, view.accessibleName())
        self._view = view
        self._made: list[_Item] = []

    @property
    def _parts(self) -> list[_Item]:
        count = len(self._view.read_items)
        self._made += [_Item(self._view, index) for index in range(len(self._made), count)]
        return self._made[:count]

    def childCount(self) -> int:
        return super().childCount() + len(self._parts)

    def child(self, index: int) -> QAccessibleInterface | None:  # type: ignore[override]
        controls, parts = super().childCount(), self._parts
        if index < controls:
            return super().child(index)
        return parts[index - controls] if index - controls < len(parts) else None

    def indexOfChild(self, child: QAccessibleInterface) -> int:
        parts = self._parts
        return super().childCount() + parts.index(child) if child in parts else super().indexOfChild(child)

    def childAt(self, x: int, y: int) -> QAccessibleInterface | None:  # type: ignore[override]
        at = self._view.mapFromGlobal(QPoint(x, y))
        items = self._view.read_items
        found = next((part for part, one in zip(self._parts, items, strict=True) if one.box.contains(at)), None)
        return found if found is not None else super().childAt(x, y)

    def text(self, kind: QAccessible.Text) -> str:
        if kind == QAccessible.Text.Name:
            return self._view.accessibleName() or type(self._view).__name__
        return super().text(kind)


def _interface_of(_key: str, thing: QObject) -> QAccessibleInterface | None:
    if not isinstance(thing, PaintedView):
        return None
    thing.interface = _View(thing)  # it lives as long as the view does
    return thing.interface


_installed = False


def install() -> None:
    """Let screen readers read the painted views, from now on."""
    global _installed
    if not _installed:
        QAccessible.installFactory(_interface_of)
        _installed = True
