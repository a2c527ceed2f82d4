"""What was predicted of changes beside what the run that contains them shows, state by state."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.tune.change_editor import words_of
from warm_ember.ui.pages.tune.proof_bars import ProofBars
from warm_ember.ui.pages.tune.proof_course import ProofCourse
from warm_ember.ui.widgets.difference_table import DifferenceTable, micro
from warm_ember.units import percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import Proof


_EMPTY = "No run contains a planned change yet: choose a change in the plan and say which run proves it."


class ProofView(QWidget):
    """All proofs at the left; of the chosen one what was done, and what came by state, at the right."""

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self.setObjectName("page")
        self.look = look
        self.proofs: tuple[Proof, ...] = ()
        self._budget_a: float | None = None
        self.bars = ProofBars(look)
        self.bars.chosen.connect(self._choose)
        self.words = Label()
        self.words.setWordWrap(True)
        self.words.setContentsMargins(look.px(16), look.px(8), look.px(16), look.px(8))
        self.table = DifferenceTable(look)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self.words)
        right.addWidget(self.table, 1)
        self.course = ProofCourse(look)
        self.course.chosen.connect(self._choose)
        left = QVBoxLayout()
        left.setSpacing(0)
        left.addWidget(self.bars)
        left.addWidget(self.course, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addLayout(left, 1)
        row.addLayout(right, 1)

    def show_proofs(self, proofs: tuple[Proof, ...], budget_a: float | None = None) -> None:
        """Show other proofs; the last one is chosen where the one before is gone."""
        chosen = self.proof
        self.proofs, self._budget_a = proofs, budget_a
        same = (n for n, one in enumerate(proofs) if chosen is not None and one.after == chosen.after)
        self._choose(next(same, len(proofs) - 1))

    def choose(self, proof: object) -> None:
        """Show one proof."""
        index = next((n for n, one in enumerate(self.proofs) if one is proof), None)
        if index is not None:
            self._choose(index)

    @property
    def proof(self) -> Proof | None:
        """The one that is shown."""
        return self.proofs[self.bars.at] if 0 <= self.bars.at < len(self.proofs) else None

    def _choose(self, index: int) -> None:
        self.bars.show_proofs(self.proofs, index)
        self.course.show_proofs(self.proofs, index, self._budget_a)
        proof = self.proof
        if proof is None:
            self.words.setText("")
            self.table.show_rows("Predicted against measured", ("predicted", "measured"), (), empty=_EMPTY)
            return
        steps = [quantity_text(one, "A") for one in (proof.predicted_step_a, proof.measured_step_a)]
        off = proof.measured_step_a / proof.predicted_step_a - 1 if proof.predicted_step_a else 0.0
        way = "less" if off < 0 else "more"
        verdict = "as predicted" if proof.is_proved else "not as predicted"
        lines = [f"Predicted to save {steps[0]}, saved {steps[1]}: {percent_text(abs(off))} {way}, {verdict}."]
        lines += [f"{one.name}: {'; '.join(words_of(effect) for effect in one.effects)}" for one in proof.changes]
        self.words.setText("\n".join(lines))
        average = proof.measured
        self.table.show_rows(
            f"What {proof.after} shows, µA",
            ("predicted", "measured"),
            proof.states,
            (("average, µA", average.before_a, average.after_a, micro, average.bounds),),
            notes=tuple(
                f"{one.name} differs by more than chance and a tenth of the step: look there." for one in proof.off[:3]
            ),
        )
