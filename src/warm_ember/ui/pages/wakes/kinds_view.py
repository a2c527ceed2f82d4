"""The kinds of wakes of a run: the table, one kind in detail, and the battery's model that they make."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember.session.kind_results import KindsShown
from warm_ember.session.kind_words import model_sentence, most_alike
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.wakes.kind_detail import KindDetail
from warm_ember.ui.pages.wakes.kind_table import NOTHING, KindTable
from warm_ember.ui.widgets.key_button import KeyButton
from warm_ember.ui.widgets.model_strip import ModelStrip
from warm_ember.ui.widgets.side_by_side import SideBySide

if TYPE_CHECKING:
    from warm_ember.model.arrays import Floats

_DETAIL, _WIDE = 400, 1040


class KindsView(QWidget):
    """Kinds, sorted and named; what is edited is asked for, and done by the page.

    Signals
    -------
    kind_chosen
        A kind's letter.
    wake_asked
        The index of a wake that shall be shown.
    rename_asked, join_asked, split_asked, bracket_asked
        A key was pressed.
    """

    kind_chosen = Signal(str)
    wake_asked = Signal(int)
    join_asked = Signal()
    split_asked = Signal()
    bracket_asked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.shown: KindsShown | None = None
        self.table, self.detail = KindTable(look), KindDetail(look)
        self.strip = ModelStrip(look, "Enter")
        self.rename_key = KeyButton(look, "Rename", "F2")
        self.join_key = KeyButton(look, "Join with another", "J")
        self.split_key = KeyButton(look, "Split the odd ones", "K")
        self.bracket_key = KeyButton(look, "Bracket is one of these", "B")
        side = QWidget()
        side.setObjectName("page")
        column = QVBoxLayout(side)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._scrolled(self.detail), 1)
        keys = QGridLayout()
        keys.setContentsMargins(look.px(16), look.px(8), look.px(16), look.px(8))
        keys.setSpacing(look.px(8))
        for at, key in enumerate((self.rename_key, self.join_key, self.split_key, self.bracket_key)):
            keys.addWidget(key, at // 2, at % 2)
        column.addLayout(keys)
        side.setMinimumWidth(look.px(_DETAIL))
        kinds = self._scrolled(self.table)
        both = SideBySide(look, (kinds, 1), (side, 0), _WIDE, kinds)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(both, 1)
        layout.addWidget(self.strip)
        self._connect()

    def _scrolled(self, widget: QWidget) -> QScrollArea:
        scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setWidget(widget)
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        return scroll

    def _connect(self) -> None:
        self.table.kind_chosen.connect(self.kind_chosen)
        self.detail.wake_asked.connect(self.wake_asked)
        self.rename_key.clicked.connect(self.table.rename)
        self.join_key.clicked.connect(self.join_asked)
        self.split_key.clicked.connect(self.split_asked)
        self.bracket_key.clicked.connect(self.bracket_asked)
        self.table.model_asked.connect(self.strip.taken)

    def show_kinds(self, shown: KindsShown | None, activities: Collection[str]) -> None:
        """Show the kinds of another run; the model that they make is offered unless activities are those already."""
        self.shown = shown
        self.table.show_kinds(shown)
        labels = {kind.label for kind in shown.kinds.kinds} if shown is not None else set()
        offers = bool(labels) and not labels <= set(activities)
        self.strip.offer(model_sentence(shown.kinds) if shown is not None and offers else "", len(activities))
        letters = self.table.letters
        self.choose(self.table.chosen if self.table.chosen in letters else next(iter(letters), NOTHING))

    @property
    def chosen(self) -> str:
        """The letter of the kind that is chosen."""
        return self.table.chosen

    def choose(self, letter: str) -> None:
        """Mark a kind and show it in detail."""
        self.table.choose(letter)
        self.detail.show_kind(self.shown, letter)
        other = most_alike(self.shown, letter) if self.shown is not None else None
        self.join_key.setText("Join with another" if other is None else f"Join with {other}")

    @property
    def lit_s(self) -> Floats:
        """From when to when the wakes of the chosen kind go on, s, shape ``(wakes, 2)``."""
        if self.shown is None:
            return np.zeros((0, 2))
        kinds, kind = self.shown.kinds, self.shown.kind(self.chosen)
        mine = kinds.of(kind.number) if kind is not None else kinds.unsorted
        ends = np.column_stack((kinds.first[mine], kinds.last[mine])).astype(np.float64)
        return np.asarray(ends * kinds.interval_s)
