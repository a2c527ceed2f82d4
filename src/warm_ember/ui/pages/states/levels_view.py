"""The levels of the current: how many, where, how wide, and which state each belongs to."""

from __future__ import annotations

from dataclasses import dataclass

import msgspec
import numpy as np
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSpinBox, QVBoxLayout

from warm_ember.model.rules import LevelsRule
from warm_ember.session import edits
from warm_ember.session.session import Session
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import MOST_LEVELS, Levels, find_levels
from warm_ember.signal.series import ShouldStop
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import FigureTable
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import duration_text, percent_text, quantity_text

_HEADER = ("level", "at", "four fifths within", "stays", "usual stay", "of the time", "of the charge", "state")
_STATE = len(_HEADER) - 1
_KEEP, _FIND = "Keep for every run", "Find in each run"


@dataclass(frozen=True, eq=False)
class LevelRows:
    """The levels with what lies at each."""

    rule: LevelsRule
    levels: Levels
    stays: np.ndarray
    usual_s: np.ndarray
    time_s: np.ndarray
    charge_c: np.ndarray


def level_rows(session: Session, rule: LevelsRule, name: str, should_stop: ShouldStop) -> LevelRows:
    """Measure the levels that a rule places by, or would."""
    capture = session.capture(name)
    if rule.centres_a or rule.most != MOST_LEVELS:
        levels = find_levels(capture.current, most=rule.most, centres_a=rule.centres_a, should_stop=should_stop)
    else:
        levels = session.results.levels(session.project, name, should_stop)
    sums = interval_sums(capture.current, levels.edges, should_stop=should_stop)
    lengths_s = np.diff(levels.edges) * capture.current.interval_s
    count = len(levels.centres_a)
    here = levels.level >= 0
    of = levels.level[here]
    usual = [float(np.median(lengths_s[levels.level == k])) if (of == k).any() else 0.0 for k in range(count)]
    return LevelRows(
        rule,
        levels,
        np.bincount(of, minlength=count),
        np.array(usual),
        np.bincount(of, lengths_s[here], count),
        np.bincount(of, sums.total[here], count) * capture.current.interval_s,
    )


class LevelsView(StatesPart):
    """A row for each level, named in place; several may be one state."""

    name = "levels"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.found: LevelRows | None = None
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
        rule, name = self.rule, results.run.name
        self.work(lambda session, should_stop: level_rows(session, rule, name, should_stop), self._on_found)

    def show_nothing(self) -> None:
        self.found = None
        self.table.show_rows([])

    def _on_found(self, found: LevelRows) -> None:
        self.found = found
        time_s, charge_c = max(float(found.time_s.sum()), 1e-30), float(found.charge_c.sum())
        rows: list[list[tuple[str, float | str]]] = []
        for k, centre in enumerate(found.levels.centres_a.tolist()):
            low, high = found.levels.spreads_a[k].tolist()
            spread = f"{quantity_text(low, 'A')} to {quantity_text(high, 'A')}" if low == low else "not in this run"
            state = found.rule.names.get(found.levels.name_of(k), found.levels.name_of(k))
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
            self.most.setValue(found.rule.most)
        self.absorb.set_value(found.rule.absorb_s)
        self.learn.setText(_FIND if found.rule.centres_a else _KEEP)
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
        if self.found.rule.centres_a:
            self._change(centres_a=())
            return
        levels, names = self.found.levels, self.found.rule.names
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
        kept = "kept" if self.found.rule.centres_a else "found"
        return f"**{count}** level{'s' if count > 1 else ''} {kept}; {share} of the charge is taken at {at}."

    def text(self) -> str:
        return self.table.text()
