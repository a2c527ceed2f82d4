"""The levels of the current: how many, where, how wide, and which state each belongs to."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSpinBox, QVBoxLayout

from warm_ember.model.rules import LevelsRule
from warm_ember.session import edits
from warm_ember.session.state_results import MOST_LEVELS
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import LevelStays


_HEADER = ("level", "at", "four fifths within", "stays", "usual stay", "of the time", "of the charge", "state")
_STATE = len(_HEADER) - 1
_KEEP, _FIND = "Keep for every run", "Find in each run"


class LevelsView(StatesPart):
    """A row for each level, named in place; several may be one state."""

    name = "levels"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.found: LevelStays | None = None
        self._shown_rule = LevelsRule()
        self.table = FigureTable(look, _HEADER, editable=_STATE, sortable=False, words=(0, _STATE))
        self.table.share_width(9, 9, 18, 7, 10, 10, 11, 18)
        self.table.setAccessibleName("Levels of the current")
        self.most = QSpinBox()
        self.most.setRange(1, MOST_LEVELS)
        self.most.setAccessibleName("At most so many levels")
        self.absorb = QuantityEdit(look, "s", "Shorter stays belong to what surrounds them", 88)
        self._tried = LevelsRule()
        self.learn = QPushButton(_KEEP)
        self.use = QPushButton("Place by these")
        self._build()
        self.table.cell_renamed.connect(self._on_named)
        self.most.editingFinished.connect(self._on_most)
        self.absorb.value_entered.connect(lambda value: self._change(absorb_s=value))
        self.learn.clicked.connect(self._on_learn)
        self.use.clicked.connect(lambda: self._apply(self.rule))

    def _build(self) -> None:
        px = self.look.px
        fields = QHBoxLayout()
        for widget in (
            self.small("At most"), self.most, self.small("levels; stays under"), self.absorb,
            self.small("join what is around them"),
        ):  # fmt: skip
            fields.addWidget(widget)
        fields.addStretch(1)
        fields.addWidget(self.use)
        fields.addWidget(self.learn)
        column = QVBoxLayout(self)
        column.setContentsMargins(px(16), px(6), px(16), px(8))
        column.addLayout(fields)
        column.addWidget(self.table, 1)

    @property
    def _placing(self) -> LevelsRule | None:
        """The rule by which levels place states now; None while something else does."""
        return next((rule for rule in self.controller.project.rules if isinstance(rule, LevelsRule)), None)

    @property
    def rule(self) -> LevelsRule:
        """The rule that is shown: the project's, else one that is being tried."""
        return self._placing or self._tried

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, rule, name = self.controller.project, self.rule, results.run.name
        self.work(
            lambda session, should_stop: session.states.level_stays(
                project, name, rule.most, tuple(rule.centres_a), should_stop
            ),
            lambda found: self._on_found(rule, found),
        )

    def show_nothing(self) -> None:
        self.found = None
        self.table.show_rows([])

    def _on_found(self, rule: LevelsRule, found: LevelStays) -> None:
        self.found, self._shown_rule = found, rule
        time_s, charge_c = max(float(found.time_s.sum()), 1e-30), float(found.charge_c.sum())
        rows: list[list[tuple[str, float | str]]] = []
        for k, centre in enumerate(found.levels.centres_a.tolist()):
            low, high = found.levels.spreads_a[k].tolist()
            spread = f"{quantity_text(low, 'A')} to {quantity_text(high, 'A')}" if low == low else "not in this run"
            state = rule.names.get(found.levels.name_of(k), found.levels.name_of(k))
            share = float(found.charge_c[k]) / charge_c if charge_c else 0.0
            rows.append(
                [
                    (found.levels.name_of(k), float(k)),
                    (str(quantity_text(centre, "A")), centre),
                    (spread, low),
                    (str(found.stays[k]), float(found.stays[k])),
                    (str(duration_text(float(found.usual_s[k]))), float(found.usual_s[k])),
                    (str(percent_text(float(found.time_s[k]) / time_s)), float(found.time_s[k])),
                    (str(percent_text(share)), share),
                    (state, state),
                ]
            )
        self.table.show_rows(rows)
        if not self.most.hasFocus():
            self.most.setValue(rule.most)
        self.absorb.set_value(rule.absorb_s)
        self.learn.setText(_FIND if rule.centres_a else _KEEP)
        self.use.setVisible(self._placing is None)
        self.changed.emit()

    def _apply(self, rule: LevelsRule) -> None:
        self.controller.apply(edits.place_rest_by(rule), "place states by levels")

    def _change(self, **changes: object) -> None:
        """Change the rule: at once where it places states, else for a look."""
        rule = msgspec.structs.replace(self.rule, **changes)
        if rule == self.rule:
            return
        if self._placing is not None:
            self._apply(rule)
        else:
            self._tried = rule
            self.refresh()

    def _on_most(self) -> None:
        if self.most.value() != self.rule.most:
            self._change(most=self.most.value(), centres_a=())

    def _on_learn(self) -> None:
        if self.found is None:
            return
        if self._shown_rule.centres_a:
            self._change(centres_a=())
            return
        levels, names = self.found.levels, self._shown_rule.names
        # What is learned is numbered by its centres.
        own = {f"level {k + 1}": levels.name_of(k) for k in range(len(levels.centres_a))}
        named = {new: names.get(old, old) for new, old in own.items() if names.get(old, old) != new}
        self._change(centres_a=tuple(levels.centres_a.tolist()), names=named)

    def _on_named(self, index: int, text: str) -> None:
        if self.found is None:
            return
        own = self.found.levels.name_of(index)
        names = {key: value for key, value in self.rule.names.items() if key != own}
        if text and text != own:
            names[own] = text
        self._change(names=names)

    def sentence(self) -> str:
        if self.found is None:
            return "Looking for the levels of the current …"
        count = len(self.found.levels.centres_a)
        if not count:
            return "Nothing was measured."
        top = int(np.argmax(self.found.charge_c))
        at = quantity_text(float(self.found.levels.centres_a[top]), "A").rich
        charge = float(self.found.charge_c.sum())
        share = percent_text(float(self.found.charge_c[top]) / charge if charge else 0.0).rich
        kept = "kept" if self._shown_rule.centres_a else "found"
        return f"**{count}** level{'s' if count > 1 else ''} {kept}; {share} of the charge is taken at {at}."

    def text(self) -> str:
        return self.table.text()
