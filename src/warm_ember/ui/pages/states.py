"""The States page: where the charge goes, by state, and the rules that place it."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QAction, QGuiApplication
from PySide6.QtWidgets import QScrollArea, QVBoxLayout

from warm_ember.attribution.ledger import UNPLACED_NAME, LedgerRow
from warm_ember.attribution.placing import default_rules, longest_unplaced
from warm_ember.model.placement import Placement
from warm_ember.model.project import ExpectedValue
from warm_ember.model.rules import LevelsRule, LineRule, LogRule, Rule
from warm_ember.session import edits
from warm_ember.session.results import RunResults
from warm_ember.ui.desk import Desk
from warm_ember.ui.lanes.stack import LaneStack
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.look.theme import Look
from warm_ember.ui.pages.ledger_view import LedgerView
from warm_ember.ui.pages.page import Page
from warm_ember.ui.pages.rule_editor import RuleEditor
from warm_ember.ui.shell.headline import Switch
from warm_ember.ui.shell.spine import LinkFigure
from warm_ember.units import percent_text

_LANE = 122


class StatesPage(Page):
    """States, their ledger and their rules.

    Signals
    -------
    trace_asked
        Something is to be looked at on the lanes.
    """

    title = "States"
    trace_asked = Signal()

    def __init__(self, desk: Desk, look: Look, window: TimeWindow) -> None:
        super().__init__(desk, look)
        self.results: RunResults | None = None
        folded = ("Overview", "Lines", "Charge so far", "Voltage", "Power")
        self.stack = LaneStack(look, window, with_flags=False, folded=folded)
        self.stack.current.setMinimumHeight(look.px(_LANE))
        self._day_was_chosen = False
        self.ledger = LedgerView(look)
        self.editor = RuleEditor(look)
        self.ledger.set_editor(self.editor)
        self._build()
        self._connect()
        copy = self.make_action("Copy the ledger as text", "Ctrl+C", self._copy)
        self._actions = [copy]
        self.addActions(self.stack.actions_for_menu())

    def _build(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.stack, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.ledger)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._scroll = scroll
        layout.addWidget(scroll, 1000)
        self.ledger.height_changed.connect(scroll.setMaximumHeight)

    def _connect(self) -> None:
        self.ledger.state_chosen.connect(self.choose)
        self.stack.ribbon.state_chosen.connect(self.choose)
        self.stack.current.bracket_drawn.connect(self._on_stretch)
        self.editor.previewed.connect(self._preview)
        self.editor.placed.connect(self._place)
        self.editor.rule_dropped.connect(lambda rule: self.desk.apply(edits.drop_rule(rule), "remove a rule"))
        self.editor.renamed.connect(self._rename)
        self.editor.expected_entered.connect(self._expect)

    def _copy(self) -> None:
        QGuiApplication.clipboard().setText(self.ledger.text())

    def page_actions(self) -> list[QAction]:
        return self._actions

    def show_results(self, results: RunResults | None) -> None:
        self.results = results
        self.stack.set_results(results)
        if not self._day_was_chosen:
            self.ledger.a_day = results is not None and bool(results.load.costs)
        self.ledger.set_results(results)
        self.choose(self.ledger.chosen)

    def choose(self, state: str) -> None:
        """Open a state's row; an empty name closes it."""
        known = results.ledger.all_rows if (results := self.results) is not None else ()
        if state and state in [row.name for row in known] and self.results is not None:
            self.editor.show_state(state, self.results, self.desk.project)
            self.ledger.choose(state)
            top = self.ledger.top_of(next(i for i, s in enumerate(self.ledger.rows) if s.row.name == state))
            self._scroll.ensureVisible(0, top + self.look.px(60), 0, self.look.px(100))
            if state == UNPLACED_NAME:
                self._show_unplaced()
        else:
            self.ledger.choose("")
            self.stack.current.set_highlight(None)
            self.stack.ribbon.set_preview(None)
        self.headline_changed.emit()

    def _show_unplaced(self) -> None:
        if self.results is None:
            return
        longest = longest_unplaced(self.results.placement)
        if longest is not None:
            interval_s = self.results.capture.current.interval_s
            self.stack.current.set_highlight((longest[0] * interval_s, longest[1] * interval_s))

    def _on_stretch(self, from_s: float, to_s: float) -> None:
        """Take a stretch drawn on the lane for placing by hand."""
        self.stack.current.set_highlight((from_s, to_s))
        self.editor.set_bracket((from_s, to_s))
        if not self.ledger.chosen and self.results is not None:
            self.choose(self.stack.ribbon.state_at((from_s + to_s) / 2))
        self.editor.kinds["by hand"].click()

    def _rules_with(self, rule: Rule) -> tuple[Rule, ...]:
        if self.results is None:
            return ()
        return edits.add_rule(rule, default_rules(self.results.capture))(self.desk.project).rules

    def _preview(self, rule: Rule | None) -> None:
        """Show in the ribbon what an edited rule would place."""
        session, results = self.desk.session, self.results
        if rule is None or session is None or results is None:
            self.stack.ribbon.set_preview(None)
            self.editor.show_preview("")
            return
        project = edits.add_rule(rule, default_rules(results.capture))(session.project)
        state = getattr(rule, "state", "")
        name = results.run.name

        def work(should_stop: object, _progress: object) -> tuple[Placement, LedgerRow | None, float]:
            placement = session.results.placement(project, name, should_stop)  # type: ignore[arg-type]
            ledger = session.results.ledger(project, name, should_stop)  # type: ignore[arg-type]
            return placement, ledger.row(state), ledger.unplaced_share

        def done(found: tuple[Placement, LedgerRow | None, float]) -> None:
            placement, row, unplaced = found
            self.stack.ribbon.set_preview(placement)
            if row is None:
                self.editor.show_preview(f"places nothing as {state}")
                return
            self.editor.show_preview(
                f"{state} would have {row.entries} entries, {percent_text(row.time_share)} of the time and "
                f"{percent_text(row.charge_share)} of the charge; {percent_text(unplaced)} would stay unplaced"
            )

        self.desk.jobs.run("preview", "trying a rule", work, done, lambda _error: None, quiet=True)

    def _place(self, rule: Rule) -> None:
        if self.results is None:
            return
        self.desk.jobs.stop("preview")
        self.ledger.choose(getattr(rule, "state", ""))
        self.editor.set_bracket(None)
        edit = edits.add_rule(rule, default_rules(self.results.capture))
        self.desk.apply(edit, f"place {getattr(rule, 'state', '')}")

    def _rename(self, old: str, new: str) -> None:
        if self.results is not None:
            self.ledger.chosen = new
            self.desk.apply(edits.rename_state(old, new, default_rules(self.results.capture)), f"rename {old}")

    def _expect(self, value: ExpectedValue) -> None:
        self.desk.apply(edits.set_expected(value, value.state), f"expect {value.state}")

    def sentence(self) -> str:
        if self.results is None:
            return "States appear with the first capture."
        rows = self.ledger.rows
        if not rows:
            return "Nothing was measured."
        costly = max(rows, key=lambda s: s.charge_share)
        long = max(rows, key=lambda s: s.time_share)
        charge, time = percent_text(costly.charge_share).marked, percent_text(costly.time_share).marked
        text = f"{costly.row.name} takes {charge} of the charge in {time} of the time"
        if long.row.name != costly.row.name:
            charge, time = percent_text(long.charge_share).marked, percent_text(long.time_share).marked
            text += f"; {long.row.name.lower()} takes {charge} in {time}"
        return text + (" of a mean day." if self.ledger.a_day else ".")

    def warning(self) -> str:
        if self.results is None:
            return ""
        share, limit = self.results.ledger.unplaced_share, self.desk.project.settings.unplaced_limit
        if share <= limit:
            return ""
        return f"**{percent_text(share)}** is unplaced, the limit is **{percent_text(limit)}**: place it below"

    def switches(self) -> tuple[Switch, ...]:
        if self.results is None:
            return ()
        ledger = Switch(
            "Ledger",
            ("a day", "whole capture"),
            "a day" if self.ledger.a_day else "whole capture",
            self._on_ledger,
        )
        capture, rules = self.results.capture, self.desk.project.rules or default_rules(self.results.capture)
        kinds: dict[str, Rule] = {}
        if any(event.event == "state" for event in capture.events):
            kinds["log"] = LogRule()
        if capture.lines is not None and capture.lines.names:
            kinds["lines"] = LineRule()
        kinds["levels"] = LevelsRule()
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
            self.desk.apply(edits.place_rest_by(kinds[word]), f"place states by {word}")

        return (Switch("States from", tuple(kinds), chosen, choose), ledger)

    def _on_ledger(self, option: str) -> None:
        self._day_was_chosen = True
        self.ledger.set_a_day(option == "a day")
        self.headline_changed.emit()

    def link(self) -> LinkFigure:
        if self.results is None:
            return LinkFigure(detail="no states yet")
        ledger = self.results.ledger
        count = len(ledger.rows)
        detail = f"**{count}** state{'s' if count != 1 else ''}{' + unplaced' if ledger.unplaced else ''}"
        figure = f"{percent_text(1 - ledger.unplaced_share).marked} placed"
        return LinkFigure(figure, detail, self.warning().replace("**", ""))
