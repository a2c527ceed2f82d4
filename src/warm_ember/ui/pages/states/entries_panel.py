"""The entries of one state: how long they last, and the same state split by what its entries share."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from warm_ember.session.run_results import RunResults
from warm_ember.session.state_results import SplitBy, dwells_of
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.figure_table import Cell, FigureTable
from warm_ember.ui.widgets.switches import Switch, Switches
from warm_ember.units import duration_text, percent_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import DwellSpread, LedgerRow


_HEADER = ("part", "entries", "mean dwell", "mean current", "peak", "charge", "of the state")
_HEIGHT = 132
_RIGHT = Qt.AlignmentFlag.AlignRight
_CENTER = Qt.AlignmentFlag.AlignHCenter
_WORDS = {SplitBy.ENTRY: "entry", SplitBy.BEFORE: "what came before", SplitBy.WAKE: "wake", SplitBy.MARK: "mark"}


class _DwellPlot(PaintedView):
    """How long entries last, on a log axis, with the middle one and the tenth and ninetieth of a hundred."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self._look = look
        self._spread: DwellSpread | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("How long entries last")
        look.changed.connect(self.update)

    def show_dwells(self, spread: DwellSpread) -> None:
        self._spread = spread if spread.entries else None
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        if self._spread is not None:
            self._paint(painter, self._spread)
        painter.end()

    def _paint(self, painter: QPainter, spread: DwellSpread) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        words = f"entries last {duration_text(spread.middle_s).rich}"
        if spread.entries > 1:
            words += f", 80 % of them {duration_text(spread.low_s).rich} to {duration_text(spread.high_s).rich}"
        draw_rich_text(painter, QRectF(0, 0, self.width(), px(20)), words, look, size="small")
        plot = QRectF(0, px(24), self.width(), self.height() - px(44))
        painter.fillRect(plot, theme.sunken)
        begin, end = spread.edges[0], spread.edges[-1]
        scale = plot.width() / (end - begin)
        for count, left, right in zip(spread.counts.tolist(), spread.edges[:-1], spread.edges[1:], strict=True):
            height = 0.92 * plot.height() * count / int(spread.counts.max())
            width = max((right - left) * scale - 1, 1.0)
            box = QRectF(plot.left() + (left - begin) * scale, plot.bottom() - height, width, height)
            painter.fillRect(box, theme.dim)
        painter.setPen(QPen(theme.mark, 1, Qt.PenStyle.DashLine))
        x = plot.left() + (np.log10(spread.middle_s) - begin) * scale
        painter.drawLine(QPointF(x, plot.top()), QPointF(x, plot.bottom()))
        foot = QRectF(plot.left(), plot.bottom() + px(2), plot.width(), px(16))
        draw_rich_text(painter, foot, str(duration_text(spread.shortest_s)), look, size="small")
        draw_rich_text(painter, foot, str(duration_text(spread.longest_s)), look, size="small", align=_RIGHT)
        draw_rich_text(painter, foot, f"most in one bar: {spread.counts.max()}", look, size="small", align=_CENTER)


class EntriesPanel(QWidget):
    """What the entries of the opened state have in common, and what not."""

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__()
        self._controller, self._look = controller, look
        self._asked: tuple[RunResults, str, SplitBy] | None = None
        self.by = SplitBy.ENTRY
        self.rows: tuple[LedgerRow, ...] = ()
        self.dwells = _DwellPlot(look)
        self.table = FigureTable(look, _HEADER, largest_first=5)
        self.table.setAccessibleName("Parts of the state")
        self.switches = Switches(look)
        px = look.px
        right = QVBoxLayout()
        right.setSpacing(0)
        head = QHBoxLayout()
        head.addWidget(self.switches)
        head.addStretch(1)
        right.addLayout(head)
        right.addWidget(self.table, 1)
        row = QHBoxLayout(self)
        row.setContentsMargins(px(12), 0, px(12), px(8))
        row.setSpacing(px(24))
        row.addWidget(self.dwells, 2)
        row.addLayout(right, 3)
        self._on_look()
        look.changed.connect(self._on_look)

    def _on_look(self) -> None:
        self.setFixedHeight(self._look.px(_HEIGHT))

    def show_state(self, results: RunResults, state: str) -> None:
        """Show the entries of a state."""
        row = next((row for row in results.ledger.all_rows if row.name == state), None)
        self.dwells.show_dwells(dwells_of((row,) if row is not None else ()))
        if results.ledger.row(state) is None:
            self._asked, self.rows = None, ()
            self.table.show_rows([])
            return
        kinds = {event.event for event in results.capture.events}
        offered = [SplitBy.ENTRY, SplitBy.BEFORE]
        offered += [by for by, kind in ((SplitBy.WAKE, "wake"), (SplitBy.MARK, "mark")) if kind in kinds]
        if self.by not in offered:
            self.by = SplitBy.ENTRY
        words = {_WORDS[by]: by for by in offered}

        def choose(word: str) -> None:
            self.by = words[word]
            self.show_state(results, state)

        self.switches.show_switches((Switch("Split by", tuple(words), _WORDS[self.by], choose),))
        if self._asked == (results, state, self.by):
            return
        self._asked = (results, state, self.by)
        session, project, name, by = self._controller.session, self._controller.project, results.run.name, self.by
        if session is None:
            return
        self._controller.work(
            "sub-rows",
            f"splitting {state}",
            lambda should_stop, _progress: session.states.sub_rows(project, name, state, by, should_stop),
            lambda rows: self._on_rows(state, rows),
        )

    def show_group(self, results: RunResults, group: str) -> None:
        """Show the states of a group."""
        self._asked = None
        self._controller.jobs.stop("sub-rows")
        members = {state for state, name in self._controller.project.group_of.items() if name == group}
        rows = tuple(row for row in results.ledger.rows if row.name in members or row.name == group)
        self.dwells.show_dwells(dwells_of(rows))
        self.switches.show_switches(())
        self._on_rows(group, rows)

    def _on_rows(self, state: str, rows: tuple[LedgerRow, ...]) -> None:
        self.rows = rows
        whole_c = sum(row.charge_c for row in rows)
        shown: list[list[Cell]] = []
        for row in rows:
            part = row.name.removeprefix(f"{state}: ")
            share = row.charge_c / whole_c if whole_c else 0.0
            shown.append(
                [
                    (part, float(part.split()[0]) if part[:1].isdigit() and self.by is SplitBy.ENTRY else part),
                    (str(row.entries), float(row.entries)),
                    (partial(_length, row.mean_dwell_s), row.mean_dwell_s),
                    (partial(_quantity, row.mean.value, "A"), row.mean.value or 0.0),
                    (partial(_quantity, row.peak_a, "A"), row.peak_a or 0.0),
                    (partial(_quantity, row.charge_c, "C"), row.charge_c),
                    (str(percent_text(share)), share),
                ]
            )
        self.table.show_rows(shown)


def _length(value_s: float) -> str:
    return str(duration_text(value_s))


def _quantity(value: float | None, unit: str) -> str:
    return str(quantity_text(value, unit))
