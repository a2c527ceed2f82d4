"""The ledger with what is edited in its rows: rules, names, expected values, groups."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from warm_ember.model.placement import UNPLACED_NAME, Placement
from warm_ember.model.project import ExpectedValue
from warm_ember.model.rules import KindsRule, LevelsRule, LineRule, LogRule, Rule
from warm_ember.session import edits, kind_edits
from warm_ember.session.placement_words import default_reason
from warm_ember.session.run_results import RunResults
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.entries_panel import EntriesPanel
from warm_ember.ui.pages.states.ledger_rows import CHARGE, ENERGY
from warm_ember.ui.pages.states.ledger_view import LedgerView
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.pages.states.rule_editor import RuleEditor
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.switches import Switch, Switches
from warm_ember.units import counted, percent_text

if TYPE_CHECKING:
    from warm_ember.session.records import Ledger, LedgerRow


class LedgerPart(StatesPart):
    """The rows; the chosen one shows how it is placed and what its entries are.

    Signals
    -------
    state_asked
        A row was chosen, or none.
    previewed
        How states would be placed, or None.
    """

    state_asked = Signal(str)
    previewed = Signal(object)
    name = "ledger"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self._day_was_chosen = False
        self._by_group = False
        self.ledger = LedgerView(look)
        self.editor = RuleEditor(look)
        self.entries = EntriesPanel(controller, look)
        self.switches = Switches(look)
        opened = self._opened = QWidget()
        inside = QVBoxLayout(opened)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(0)
        inside.addWidget(self.editor)
        inside.addWidget(self.entries)
        self.ledger.set_editor(opened)
        self._build()
        self._connect()

    def _build(self) -> None:
        strip = QHBoxLayout()
        strip.setContentsMargins(0, 0, self.look.px(4), 0)
        strip.addStretch(1)
        strip.addWidget(self.switches)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.ledger)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll = scroll
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addLayout(strip)
        column.addWidget(scroll, 1)

    def _connect(self) -> None:
        self.ledger.state_chosen.connect(self.state_asked)
        self.editor.previewed.connect(self._preview)
        self.editor.placed.connect(self.place)
        self.editor.rule_dropped.connect(lambda rule: self.controller.apply(edits.drop_rule(rule), "remove a rule"))
        self.editor.rule_preferred.connect(
            lambda rule: self.controller.apply(edits.put_first(rule), "put a rule first")
        )
        self.editor.renamed.connect(self._rename)
        self.editor.expected_entered.connect(self._expect)
        self.editor.group_entered.connect(self._group)

    def set_results(self, results: RunResults | None) -> None:
        if not self._day_was_chosen:
            self.ledger.a_day = results is not None and bool(results.load.costs)
        super().set_results(results)

    def refresh(self) -> None:
        # The ledger is there with the results: it needs no work of its own, unless groups are asked for.
        if self.results is None:
            self.show_nothing()
        elif self._by_group and self.controller.project.groups:
            self.ask()
        else:
            self._by_group = False
            self._show(self.results, None)

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, name = self.controller.project, results.run.name
        self.work(
            lambda session, should_stop: session.states.grouped(project, name, should_stop),
            lambda ledger: self._show(results, ledger),
        )

    def show_nothing(self) -> None:
        self._show(None, None)

    def _show(self, results: RunResults | None, groups: Ledger | None) -> None:
        self.ledger.set_results(results, groups)
        self.switches.show_switches(self._switches_now())
        self.changed.emit()

    @property
    def chosen(self) -> str:
        """The row that is open; empty for none."""
        return self.ledger.chosen

    def choose(self, state: str) -> None:
        """Open a state's row; an empty name closes it."""
        results = self.results
        if not state or results is None or state not in [shown.row.name for shown in self.ledger.rows]:
            self.ledger.choose("")
            self.previewed.emit(None)
            return
        is_state = state in [row.name for row in results.ledger.all_rows] and not self._by_group
        self.editor.setVisible(is_state)
        if is_state:
            self.editor.show_state(state, results, self.controller.project)
        if self._by_group:
            self.entries.show_group(results, state)
        else:
            self.entries.show_state(results, state)
        self.ledger.choose(state)
        top = self.ledger.top_of(next(i for i, s in enumerate(self.ledger.rows) if s.row.name == state))
        bottom = top + self.look.px(60) + self._opened.height()
        self._scroll.ensureVisible(0, bottom, 0, 0)
        self._scroll.ensureVisible(0, top, 0, self.look.px(44))

    def _preview(self, rule: Rule | None) -> None:
        """Show what an edited rule would place: the ribbon first, then its figures."""
        session, results = self.controller.session, self.results
        if rule is None or session is None or results is None:
            self.previewed.emit(None)
            self.editor.show_preview("")
            return
        project = edits.add_rule(rule, results.placement.rules)(session.project)
        name = results.run.name

        def count(should_stop: object, _progress: object) -> Ledger:
            return session.results.ledger(project, name, should_stop)  # type: ignore[arg-type]

        def placed(placement: Placement) -> None:
            self.previewed.emit(placement)
            self.controller.jobs.run(
                "rule preview",
                "trying a rule",
                count,
                lambda ledger: self._told(rule, ledger),
                lambda _e: None,
                quiet=True,
            )

        self.controller.jobs.run(
            "rule preview",
            "trying a rule",
            lambda should_stop, _progress: session.results.placement(project, name, should_stop),
            placed,
            lambda _error: None,
            quiet=True,
        )

    def _told(self, rule: Rule, ledger: Ledger) -> None:
        state = getattr(rule, "state", "")
        row: LedgerRow | None = ledger.row(state)
        if row is None:
            self.editor.show_preview(f"places nothing as {state}")
            return
        self.editor.show_preview(
            f"{state} would have {counted(row.entries, 'entry', 'entries')}, {percent_text(row.time_share)} of "
            f"the time and "
            f"{percent_text(row.charge_share)} of the charge; {percent_text(ledger.unplaced_share)} would stay unplaced"
        )

    def place(self, rule: Rule) -> None:
        """Add a rule."""
        if self.results is None:
            return
        self.controller.jobs.stop("rule preview")
        self.ledger.choose(getattr(rule, "state", ""))
        self.editor.set_bracket(None)
        edit = edits.add_rule(rule, self.results.placement.rules)
        self.controller.apply(edit, f"place {getattr(rule, 'state', '')}")

    def _rename(self, old: str, new: str) -> None:
        if self.results is not None:
            self.ledger.chosen = new
            capture = self.results.capture
            modes = frozenset(event.name for event in capture.events if event.event == "sleep")
            self.controller.apply(edits.rename_state(old, new, self.results.placement.rules, modes), f"rename {old}")

    def _expect(self, value: ExpectedValue) -> None:
        self.controller.apply(edits.set_expected(value, value.state), f"expect {value.state}")

    def _group(self, state: str, group: str) -> None:
        self.controller.apply(edits.set_group(state, group), f"group {state}")

    def sentence(self) -> str:
        rows = self.ledger.rows
        if not rows:
            return "Nothing was measured."
        what = "energy" if self.ledger.by == ENERGY else "charge"
        costly = max(rows, key=lambda s: s.share_by(self.ledger.by))
        long = max(rows, key=lambda s: s.time_share)
        share, time = percent_text(costly.share_by(self.ledger.by)).rich, percent_text(costly.time_share).rich
        text = f"{costly.row.name} takes {share} of the {what} in {time} of the time"
        if long.row.name != costly.row.name:
            share, time = percent_text(long.share_by(self.ledger.by)).rich, percent_text(long.time_share).rich
            text += f"; {long.row.name.lower()} takes {share} in {time}"
        text += " of a mean day." if self.ledger.a_day and not self._by_group else "."
        return f"{text} {self._why_so()}".rstrip()

    def _why_so(self) -> str:
        """Return what places the states, and why that, while the project says nothing of it."""
        if self.results is None or self.controller.project.rules:
            return ""
        return default_reason(self.results.capture, self.results.placement)

    def _switches_now(self) -> tuple[Switch, ...]:
        results, project = self.results, self.controller.project
        if results is None:
            return ()
        found = [self._base_switch(results)]
        if project.groups:
            found.append(Switch("Rows", ("states", "groups"), "groups" if self._by_group else "states", self._on_rows))
        if results.ledger.energy_j is not None:
            found.append(Switch("Share of", (CHARGE, ENERGY), self.ledger.by, self._on_by))
        if not self._by_group:
            chosen = "a day" if self.ledger.a_day else "whole capture"
            found.append(Switch("Ledger", ("a day", "whole capture"), chosen, self._on_day))
        return tuple(found)

    def _base_switch(self, results: RunResults) -> Switch:
        capture, rules = results.capture, self.controller.project.rules or results.placement.rules
        kinds: dict[str, Rule] = {}
        if any(event.event == "state" for event in capture.events):
            kinds["log"] = LogRule()
        if capture.lines is not None and capture.lines.names:
            kinds["lines"] = LineRule()
        kinds["levels"] = LevelsRule()
        shown = self.controller.wakes.kinds if self.controller.wakes is not None else None
        if shown is not None or KindsRule() in rules:
            kinds["kinds"] = KindsRule()
        chosen = next(
            (
                word
                for word, rule in kinds.items()
                for r in rules
                if type(r) is type(rule) and (r == rule or isinstance(r, LevelsRule))
            ),
            "",
        )

        def choose(word: str) -> None:
            edit = edits.place_rest_by(kinds[word])
            if word == "kinds" and shown is not None:
                edit = kind_edits.place_by_kinds(shown)  # named so that they can be renamed
            self.controller.apply(edit, f"place states by {word}")

        return Switch("States from", tuple(kinds), chosen, choose)

    def _on_rows(self, word: str) -> None:
        self._by_group = word == "groups"
        self.ledger.choose("")
        self.refresh()

    def _on_by(self, word: str) -> None:
        self.ledger.set_by(word)
        self.switches.show_switches(self._switches_now())
        self.changed.emit()

    def _on_day(self, word: str) -> None:
        self._day_was_chosen = True
        self.ledger.set_a_day(word == "a day")
        self.switches.show_switches(self._switches_now())
        self.changed.emit()

    def text(self) -> str:
        return self.ledger.text()

    @property
    def shows_unplaced(self) -> bool:
        """Whether the row of what is unplaced is open."""
        return self.chosen == UNPLACED_NAME
