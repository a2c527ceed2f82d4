"""What helps: the guide with the keys, actions found by their words, the tour of the demo."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, Qt
from PySide6.QtWidgets import QMessageBox

from warm_ember.ui.shell.action_finder import ActionFinder, FoundAction, actions_in, buttons_in
from warm_ember.ui.shell.page_stack import TITLES
from warm_ember.ui.shell.tour_steps import tour_steps
from warm_ember.version import VERSION

if TYPE_CHECKING:
    from warm_ember.ui.pages.guide.view import KeyGroup
    from warm_ember.ui.shell.window import MainWindow

_LANE_KEYS = (
    ("Zoom around the pointer", "wheel"),
    ("Zoom in and out", "Up, Down"),
    ("Zoom to a stretch", "Shift + drag"),
    ("Pan", "drag the time axis, or Left, Right"),
    ("Bracket in the middle of the window", "Enter"),
    ("No snapping", "Alt while dragging"),
    ("Move the reading cursor", "Shift+Left, Shift+Right"),
    ("Start and end of the capture", "Home, End"),
    ("Choose a step's edge in the fold", "Left, Right"),
    ("Move, add and remove a step's edge", "Ctrl+Left, Ctrl+Right, Insert, Delete"),
)


class Help(QObject):
    """What a window offers to who looks for something.

    Parameters
    ----------
    window
        The window that is asked about.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__(window)
        self._window, self._controller = window, window.controller
        self._tour_waits = False
        window.pages.guide_built.connect(self._on_guide_built)
        window.controller.session_changed.connect(self._on_session)

    def guide_through_demo(self) -> None:
        """Begin the tour as soon as the demo is open."""
        self._tour_waits = True

    def _on_session(self) -> None:
        if self._tour_waits and self._controller.session is not None:
            self.begin_tour()

    def _on_guide_built(self) -> None:
        self._window.pages.guide.closed.connect(self._close_guide)

    def _keys_of(self, title: str) -> tuple[KeyGroup, ...]:
        """Return the keys of a page: its own, those of its lanes and plots, and those that work everywhere."""
        from warm_ember.ui.pages.guide.view import KeyGroup

        def keys(actions: Iterable[FoundAction]) -> tuple[tuple[str, str], ...]:
            return tuple(dict.fromkeys((one.words, one.keys) for one in actions if one.keys))

        groups = []
        if title in TITLES:
            self._window.pages.page(title)
            own = keys(actions_in(self._window.page_menus[title]))
            groups = [KeyGroup(f"Keys of {title}", own)] if own else []
            if title in ("Trace", "States", "Wakes", "Bench"):
                groups.append(KeyGroup("On the lanes", _LANE_KEYS))
        shared = (one for name in ("File", "View", "Capture", "Help") for one in actions_in(self._window.menu_of[name]))
        undo = (("Undo", "Ctrl+Z"), ("Redo", "Ctrl+Shift+Z"))
        return (*groups, KeyGroup("Everywhere", (*keys(shared), *undo)))

    def show_guide(self) -> None:
        """Open the guide at what is on the screen; the same key closes it."""
        if self._window.pages.is_reading:
            self._close_guide()
            return
        title = "Start" if self._window.pages.is_starting else self._window.last_page
        guide = self._window.pages.guide
        self._window.show_other(guide)
        guide.open_at(title, self._keys_of)

    def _close_guide(self) -> None:
        if self._controller.session is None:
            self._window.way_in.show_start()
        else:
            self._window.show_page(self._window.last_page)

    def find_action(self) -> None:
        """Find an action by its words, and do it on its page."""
        pages = {title: self._window.pages.page(title) for title in TITLES}
        found = [one for menu in self._window.menu_of.values() for one in actions_in(menu)]
        known = {one.words.rstrip(" …") for one in found}
        found += [one for title, page in pages.items() for one in buttons_in(page, title, known)]
        ActionFinder(self._window, self._window.look, found, self._do_found).open()

    def _do_found(self, found: FoundAction) -> None:
        page = next((name for name in found.place if name in TITLES), "")
        if page:
            self._window.show_page(page)
        found.action.trigger()

    def begin_tour(self) -> None:
        """Begin the tour of the demo, which is made first when it is not open."""
        from warm_ember.session.demo import NAME

        if self._controller.session is None or self._controller.project.name != NAME:
            self._window.way_in.choose("demo")
            return
        self._tour_waits = False
        self._window.tour.begin(tour_steps(self._window))

    def show_about(self) -> None:
        """Show what the program is."""
        what = "From amperes to months: where a battery device's charge goes, and what to change so that it lasts."
        text = f"Warm Ember {VERSION}\n\n{what}"
        box = QMessageBox(QMessageBox.Icon.NoIcon, "About", text, QMessageBox.StandardButton.Close, self._window)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()
