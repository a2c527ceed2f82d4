"""Find an action: all that can be done, by its words, with its key; Enter does it."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass
from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QAction, QKeyEvent
from PySide6.QtWidgets import (
    QDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QMenu,
    QPushButton,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)  # fmt: skip

from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance

_MOST = 200


@dataclass(frozen=True)
class FoundAction:
    """An action with the way to it through the menus."""

    action: QAction
    place: tuple[str, ...]

    @property
    def words(self) -> str:
        """What it does."""
        return self.action.text().replace("&", "")

    @property
    def keys(self) -> str:
        """Its shortcut; empty where it has none."""
        return self.action.shortcut().toString()

    def fits(self, wanted: str) -> bool:
        """Return whether each of some words begins a word of the action or of where it stands."""
        there = " ".join((*self.place, self.words)).casefold().split()
        return all(any(word.startswith(one) for word in there) for one in wanted.casefold().split())


def actions_in(menu: QMenu, place: tuple[str, ...] = ()) -> Iterable[FoundAction]:
    """Yield the actions of a menu and of the menus in it."""
    for action in menu.actions():
        inner = action.menu()
        if isinstance(inner, QMenu):
            yield from actions_in(inner, (*place, inner.title().replace("&", "")))
        elif action.text() and not action.isSeparator():
            yield FoundAction(action, place)


def buttons_in(page: QWidget, title: str, known: Collection[str]) -> Iterable[FoundAction]:
    """Yield the buttons of a page that stand in no menu, as actions that show the view they are in and press them."""
    for button in page.findChildren(QPushButton):
        words = button.text().replace("&", "").split("   ")[0]
        # What begins with a small letter belongs to a row of a table and means nothing without it.
        if words[:1].isupper() and words not in known and button.window() is page.window():
            action = QAction(words, button)
            action.setToolTip(button.toolTip())
            action.triggered.connect(partial(_press, button))
            yield FoundAction(action, (title,))


def _press(button: QPushButton, _checked: bool = False) -> None:
    view: QWidget = button
    while (above := view.parentWidget()) is not None:
        if isinstance(above, QStackedWidget):
            above.setCurrentWidget(view)
        view = above
    button.setFocus()
    button.click()


class ActionFinder(QDialog):
    """A line to write a few words into, and the actions that they fit.

    Parameters
    ----------
    look
        Theme and type.
    actions
        All there are.
    trigger
        Does what was chosen.
    """

    def __init__(
        self, parent: QWidget, look: Appearance, actions: Iterable[FoundAction], trigger: Callable[[FoundAction], None]
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Find an action")
        self.setModal(True)
        self._actions, self._trigger = tuple(actions), trigger
        self.words = QLineEdit()
        self.words.setPlaceholderText("a few words: corrected copy, slack, export fold …")
        self.words.setAccessibleName("Words of the action")
        self.list = QListWidget()
        self.list.setAccessibleName("Actions")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.none = Label("No action has these words.")
        column = QVBoxLayout(self)
        for widget in (self.words, self.list, self.none):
            column.addWidget(widget)
        self.resize(look.px(560), look.px(420))
        self.words.textChanged.connect(self._show)
        self.list.itemActivated.connect(lambda _item: self._do())
        self.list.itemClicked.connect(lambda _item: self._do())
        self._show("")

    def _show(self, wanted: str) -> None:
        self.list.clear()
        for found in [one for one in self._actions if one.fits(wanted)][:_MOST]:
            where = " > ".join(found.place)
            keys = f"    {found.keys}" if found.keys else ""
            item = QListWidgetItem(f"{found.words}{keys}    ({where})")
            item.setData(Qt.ItemDataRole.UserRole, found)
            if not found.action.isEnabled():
                item.setFlags(item.flags() & ~Qt.ItemFlag.ItemIsEnabled)
            self.list.addItem(item)
        self.none.setVisible(not self.list.count())
        self.list.setCurrentRow(0 if self.list.count() else -1)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1, Qt.Key.Key_PageDown: 10, Qt.Key.Key_PageUp: -10}
        by = step.get(Qt.Key(event.key()))
        if by is not None:
            self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._do()
        else:
            super().keyPressEvent(event)

    def _do(self) -> None:
        item = self.list.currentItem()
        if item is not None and item.flags() & Qt.ItemFlag.ItemIsEnabled:
            found: FoundAction = item.data(Qt.ItemDataRole.UserRole)
            self.accept()
            self._trigger(found)
