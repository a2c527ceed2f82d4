"""What is done to kinds of wakes, as edits of the project."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject

from warm_ember.session import kind_edits
from warm_ember.session.kind_results import KindsShown
from warm_ember.session.kind_words import most_alike
from warm_ember.ui.pages.wakes.kinds_view import KindsView
from warm_ember.ui.project_controller import ProjectController


class KindEditing(QObject):
    """Make edits of what is asked for in the view of kinds; what cannot be done is said.

    Parameters
    ----------
    controller
        Of the project.
    view
        The kinds that are shown.
    """

    def __init__(self, controller: ProjectController, view: KindsView) -> None:
        super().__init__(view)
        self._controller, self._view = controller, view
        view.table.renamed.connect(self.name)
        view.table.joined.connect(self.join)
        view.table.moved.connect(self.sort_wake)
        view.join_asked.connect(self.join_most_alike)
        view.split_asked.connect(self.split_odd)
        view.bracket_asked.connect(self.sort_bracket)
        view.strip.taken.connect(self.take_model)

    @property
    def _shown(self) -> KindsShown | None:
        return self._view.shown

    @property
    def _odd_wake(self) -> int | None:
        """The wake that is chosen in the list of odd ones."""
        detail = self._view.detail
        return detail.odd[detail.chosen] if detail.odd else None

    def name(self, letter: str, name: str) -> None:
        """Name a kind; without a letter make the chosen lone wake a kind of that name."""
        shown, wake = self._shown, self._odd_wake
        if shown is None:
            return
        if letter:
            self._controller.apply(kind_edits.name_kind(shown, letter, name), "name a kind")
        elif name and wake is not None:
            self._controller.apply(kind_edits.sort_alone(shown, wake, name), "name a wake as a kind")

    def join(self, letter: str, into: str) -> None:
        """Make one kind of two."""
        if self._shown is not None and letter and into:
            self._controller.apply(kind_edits.join_kinds(self._shown, letter, into), "join two kinds")

    def join_most_alike(self) -> None:
        """Join the chosen kind with the one most like it."""
        shown, letter = self._shown, self._view.chosen
        other = most_alike(shown, letter) if shown is not None else None
        if other is None:
            self._controller.noted.emit("There is no other kind to join this one with.")
        else:
            self.join(letter, other)

    def split_odd(self) -> None:
        """Make the odd ones of the chosen kind, or the chosen lone wake, a kind of their own."""
        shown, wake = self._shown, self._odd_wake
        kind = shown.kind(self._view.chosen) if shown is not None else None
        if shown is not None and kind is None and wake is not None:
            self._controller.apply(kind_edits.sort_alone(shown, wake), "make a wake a kind of its own")
        elif shown is None or kind is None or not kind.odd:
            self._controller.noted.emit("This kind has no odd ones to split off.")
        else:
            edit = kind_edits.split_odd(shown, kind.letter)
            self._controller.apply(edit, "split the odd ones off a kind")

    def sort_wake(self, index: int, letter: str) -> None:
        """Sort a wake into a kind."""
        if self._shown is not None:
            kinds = self._shown.kinds
            middle_s = float(kinds.first[index] + kinds.last[index]) / 2 * kinds.interval_s
            self._controller.apply(kind_edits.sort_wake(self._shown, middle_s, letter), "sort a wake into a kind")

    def sort_bracket(self) -> None:
        """Say that the wake in the latest bracket is one of the chosen kind."""
        shown = self._shown
        if shown is None:
            return
        brackets = self._controller.project.brackets_of(shown.capture)
        if not brackets:
            self._controller.noted.emit("There is no bracket: draw one over a wake on the Trace page first.")
            return
        kinds, bracket = shown.kinds, brackets[-1]
        inside = np.flatnonzero(
            (kinds.last * kinds.interval_s > bracket.from_s) & (kinds.first * kinds.interval_s < bracket.to_s)
        )
        if not len(inside):
            self._controller.noted.emit(f"There is no wake in bracket {bracket.letter}.")
            return
        longest = inside[np.argmax((kinds.last - kinds.first)[inside])]
        self.sort_wake(int(longest), self._view.chosen)

    def take_model(self) -> None:
        """Make the kinds the battery's activities."""
        shown = self._shown
        if shown is None or not shown.kinds.kinds:
            self._controller.noted.emit("There are no kinds of wakes to take: look at them in the view of kinds.")
            return
        self._controller.apply(kind_edits.take_model(shown), "take the kinds as the battery's model")
        self._controller.noted.emit("The kinds are the battery's activities now. See Battery.")

    def forget(self) -> None:
        """Sort the wakes anew, whatever was said of kinds."""
        self._controller.apply(kind_edits.forget_kinds, "sort the wakes into kinds anew")
