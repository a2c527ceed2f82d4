"""The ledger as mirrored bars: share of time to the left, share of charge to the right."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from warm_ember.model.figure import Bound, Figure, signed
from warm_ember.model.placement import UNPLACED_NAME
from warm_ember.session.run_results import RunResults
from warm_ember.session.state_results import day_ledger
from warm_ember.ui.look.painted_view import NamedBox, PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, plain, rich_figure, width_of
from warm_ember.ui.look.textures import CROSS, Swatch, fill, swatches
from warm_ember.ui.look.theme import Appearance, ink_on
from warm_ember.ui.pages.states.ledger_rows import (
    CHARGE,
    ENERGY,
    SORTS,
    ShownRow,
    entries_text,
    spread_text,
    verdict_words,
)
from warm_ember.units import (
    DAY_S,
    column_writer,
    counted,
    duration_text,
    format_significant,
    percent_text,
    quantity_text,
)

if TYPE_CHECKING:
    from warm_ember.session.records import DayRow, Ledger, LedgerRow


_ROW = 46
_HEADER = 40
_FOOT = 34
_NARROW = 1150
"""Below this width, in pixels at 10 points, the bars are short and two columns are left out."""
_RIGHT, _LEFT = Qt.AlignmentFlag.AlignRight, Qt.AlignmentFlag.AlignLeft


class LedgerView(PaintedView):
    """The rows of the ledger; one may be chosen, and makes room for its editor.

    Signals
    -------
    state_chosen
        A row was clicked or reached by the arrow keys; empty when it was clicked again.
    height_changed
        How high all rows are together.
    """

    state_chosen = Signal(str)
    height_changed = Signal(int)

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self.results: RunResults | None = None
        self.a_day = False
        self.by = CHARGE
        self._groups: Ledger | None = None
        self.chosen = ""
        self.rows: list[ShownRow] = []
        self._sort, self._rising = "share of charge", False
        self._editor: QWidget | None = None
        self._headers: dict[str, QRectF] = {}
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Ledger of states")
        look.changed.connect(self._arrange)

    def set_editor(self, editor: QWidget) -> None:
        """Take the widget that is shown under the chosen row."""
        self._editor = editor
        editor.setParent(self)
        editor.hide()

    def set_results(self, results: RunResults | None, groups: Ledger | None = None) -> None:
        """Show another run: its states, or groups of them."""
        self.results, self._groups = results, groups
        self._fill()

    def set_by(self, by: str) -> None:
        """Show shares of the charge or of the energy."""
        self.by = by
        if self._sort in ("share of charge", "share of energy"):
            self._sort = f"share of {by}"
        self._fill()

    def set_a_day(self, a_day: bool) -> None:
        """Show a mean day instead of the capture."""
        self.a_day = a_day
        self._fill()

    def choose(self, name: str) -> None:
        """Choose a row and open its editor."""
        self.chosen = name
        self._arrange()
        index = self._index(name)
        if index is not None:
            self.tell_named(index)

    def _fill(self) -> None:
        results = self.results
        self._mean_text, self._energy_text = column_writer((), "A"), column_writer((), "J")
        self.rows = []
        if results is not None:
            day = day_ledger(results) if self._shows_day else {}
            rows = (self._groups or results.ledger).all_rows
            shown = [self._shown(row, day.get(row.name)) for row in rows]
            whole_j = sum(one.energy_j or 0.0 for one in shown)
            self.rows = [
                replace(one, energy_share=(one.energy_j or 0.0) / whole_j if whole_j else 0.0) for one in shown
            ]
            expected = [row.expected.current_a if row.expected is not None else None for row in rows]
            self._mean_text = column_writer([*(row.mean.shown for row in rows), *expected], "A")
            self._energy_text = column_writer([one.energy_j for one in shown], "J")
            self._sort_rows()
        if self.chosen not in [shown.row.name for shown in self.rows]:
            self.chosen = ""
        self._arrange()

    @property
    def _shows_day(self) -> bool:
        return self.a_day and self._groups is None

    def _shown(self, row: LedgerRow, day: DayRow | None) -> ShownRow:
        if day is None:
            return ShownRow(row, row.time_share, row.charge_share, row.entries, row.energy_j)
        return ShownRow(row, day.time_share, day.charge_share, day.entries, day.energy_j)

    def _sort_rows(self) -> None:
        if self._sort == "state":
            self.rows.sort(key=lambda s: s.row.name.casefold(), reverse=not self._rising)
        else:
            self.rows.sort(key=SORTS[self._sort], reverse=not self._rising)

    def _arrange(self) -> None:
        px = self._look.px
        editor = self._editor
        height = px(_HEADER + _FOOT) + px(_ROW) * len(self.rows)
        if editor is not None:
            index = self._index(self.chosen)
            editor.setVisible(index is not None)
            if index is not None:
                editor_height = editor.sizeHint().height()
                editor.setGeometry(px(4), px(_HEADER) + px(_ROW) * (index + 1), self.width() - px(8), editor_height)
                height += editor_height
        self.setMinimumHeight(height)
        self.height_changed.emit(height)
        self.update()

    def resizeEvent(self, event: object) -> None:
        self._arrange()

    def named_boxes(self) -> list[NamedBox]:
        height, width = self._look.px(_ROW), self.width()
        return [
            NamedBox(shown.row.name, QRectF(0, self.top_of(index), width, height), shown.row.name == self.chosen)
            for index, shown in enumerate(self.rows)
        ]

    def _index(self, name: str) -> int | None:
        return next((i for i, shown in enumerate(self.rows) if shown.row.name == name), None)

    def top_of(self, index: int) -> int:
        """Return the y of a row."""
        px = self._look.px
        top = px(_HEADER) + px(_ROW) * index
        chosen = self._index(self.chosen)
        if self._editor is not None and chosen is not None and index > chosen:
            top += self._editor.height()
        return top

    def text(self) -> str:
        """Return the ledger as tab-separated text."""
        heads = ("state", "share of time", "share of charge", "entries", "mean dwell (s)", "mean current (A)")
        lines = ["\t".join((*heads, "energy (J)", "expected (A)", "verdict"))]
        for shown in self.rows:
            row = shown.row
            expected = row.expected.current_a if row.expected else ""
            lines.append(
                f"{row.name}\t{shown.time_share:.6g}\t{shown.charge_share:.6g}\t{shown.entries:.6g}\t{row.mean_dwell_s:.6g}\t"
                f"{row.mean.value or 0:.6g}\t{shown.energy_j or 0:.6g}\t{expected}\t{plain(verdict_words(row)[0])}"
            )
        return "\n".join(lines)

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self._look.theme.ground)
        if self.results is not None:
            self._paint_header(painter)
            looks = swatches(self._look, [(s.row.name, s.row.mean.value) for s in self._in_order()])
            for index, shown in enumerate(self.rows):
                self._paint_row(painter, self.top_of(index), shown, looks[shown.row.name])
            self._paint_sum(painter, self.top_of(len(self.rows)))
        painter.end()

    def _in_order(self) -> list[ShownRow]:
        """Return the rows in the ledger's own order, in which textures are given everywhere."""
        ledger = self._groups or (self.results.ledger if self.results is not None else None)
        order = {row.name: i for i, row in enumerate(ledger.all_rows)} if ledger is not None else {}
        return sorted(self.rows, key=lambda s: order[s.row.name])

    @property
    def _is_narrow(self) -> bool:
        return self.width() < self._look.px(_NARROW)

    def _columns(self) -> dict[str, float]:
        """Return the right edges of the columns of figures, spread over the width there is."""
        px = self._look.px
        rights = {
            "entries": 650,
            "mean dwell": 736,
            "mean current": 858,
            "energy": 946,
            "expected": 970,
            "verdict": 1164,
        }
        whole = 1276
        if self._is_narrow:
            rights, whole = {"entries": 446, "mean current": 540, "expected": 556, "verdict": 728}, 848
        spare = max(0.0, self.width() - px(whole)) / len(rights)
        return {name: px(right) + spare * (i + 1) for i, (name, right) in enumerate(rights.items())}

    @property
    def _time_zero(self) -> int:
        return self._look.px(120 if self._is_narrow else 236)

    @property
    def _time_width(self) -> float:
        return self._look.px(48 if self._is_narrow else 184)

    @property
    def _charge_zero(self) -> int:
        return self._look.px(248 if self._is_narrow else 380)

    @property
    def _charge_width(self) -> int:
        return self._look.px(72 if self._is_narrow else 176)

    @property
    def _expected_width(self) -> int:
        return self._look.px(164 if self._is_narrow else 190)

    @property
    def _charge_reach(self) -> float:
        """Return the share of charge at the right end of its axis."""
        most = max((shown.share_by(self.by) for shown in self.rows), default=1.0)
        return next(reach for reach in (0.2, 0.4, 0.6, 0.8, 1.0) if reach >= min(most, 1.0) - 1e-9)

    def _paint_header(self, painter: QPainter) -> None:
        theme, px = self._look.theme, self._look.px
        painter.fillRect(QRectF(0, 0, self.width(), px(_HEADER)), theme.raised)
        self._headers = {}
        unit, rights, line = "a day" if self._shows_day else "", self._columns(), px(16)
        between = QRectF(self._time_zero, px(4), self._charge_zero - self._time_zero, line)
        self._paint_head(painter, "share of time", QRectF(px(8), px(4), self._time_zero - px(8), line), _RIGHT)
        self._paint_head(painter, "state", between, Qt.AlignmentFlag.AlignHCenter)
        self._paint_head(painter, f"share of {self.by}", QRectF(self._charge_zero, px(4), px(150), line), _LEFT)
        for name, second in (
            ("entries", unit),
            ("mean dwell", ""),
            ("mean power", "") if self.by == ENERGY else ("mean current", "± of the mean"),
            ("charge", unit) if self.by == ENERGY else ("energy", unit),
        ):
            right = rights.get({"mean power": "mean current", "charge": "energy"}.get(name, name))
            if right is not None:
                self._paint_head(painter, name, QRectF(right - px(110), px(4), px(110), line), _RIGHT, second)
        box = QRectF(rights["expected"], px(4), self._expected_width, line)
        draw_rich_text(painter, box, "expected, and when it holds", self._look, size="small")
        self._paint_head(painter, "verdict", QRectF(rights["verdict"] + px(12), px(4), px(100), line), _LEFT)
        self._paint_scales(painter)
        painter.setPen(theme.rule)
        painter.drawLine(QPointF(0, px(_HEADER) - 0.5), QPointF(self.width(), px(_HEADER) - 0.5))

    def _paint_head(self, painter: QPainter, name: str, box: QRectF, align: Qt.AlignmentFlag, second: str = "") -> None:
        """Paint a heading that can be clicked, with a second line below."""
        look, px = self._look, self._look.px
        text = f"**{name}** {'▴' if self._rising else '▾'}" if self._sort == name else name
        draw_rich_text(painter, box, text, look, size="small", align=align)
        if second:
            below = box.translated(0, px(14))
            draw_rich_text(painter, below, second, look, size="small", dim=look.theme.faint, align=align)
        self._headers[name] = QRectF(box.left(), 0, box.width(), px(_HEADER))

    def _paint_scales(self, painter: QPainter) -> None:
        """Paint what the two axes of shares reach to."""
        steps = (0.0, 1.0) if self._is_narrow else (0.0, 0.5, 1.0)
        for step in steps:
            reach = self._charge_reach
            self._paint_scale_mark(painter, self._time_zero - step * self._time_width, step, is_last=step == 1)
            self._paint_scale_mark(painter, self._charge_zero + step * self._charge_width, reach * step, step == 1)

    def _paint_scale_mark(self, painter: QPainter, x: float, share: float, is_last: bool) -> None:
        px = self._look.px
        box, words = QRectF(x - px(24), px(20), px(48), px(14)), f"{share * 100:.0f}{' %' if is_last else ''}"
        draw_rich_text(painter, box, words, self._look, size="small", align=Qt.AlignmentFlag.AlignHCenter)

    def _paint_row(self, painter: QPainter, top: int, shown: ShownRow, swatch: Swatch) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        row, height = shown.row, px(_ROW)
        self._paint_row_ground(painter, top, is_chosen=row.name == self.chosen)
        self._paint_time_bar(painter, top, shown.time_share, swatch)
        bar = QRectF(
            self._charge_zero,
            top + px(11),
            max(1.5, min(shown.share_by(self.by) / self._charge_reach, 1.0) * self._charge_width),
            height - px(22),
        )
        fill(painter, bar, swatch, theme.ground)
        if swatch.texture == CROSS:
            painter.setPen(swatch.color)
            painter.drawRect(bar)
        draw_rich_text(
            painter,
            QRectF(bar.right() + px(7), bar.top(), px(70), bar.height()),
            percent_text(shown.share_by(self.by)).rich,
            look,
        )
        name_box = QRectF(self._time_zero + px(6), top + px(6), self._charge_zero - self._time_zero - px(12), px(18))
        draw_rich_text(painter, name_box, row.name, look, dim=theme.ink, align=Qt.AlignmentFlag.AlignHCenter)
        how_color = theme.warning_text if row.name == UNPLACED_NAME else theme.faint
        draw_rich_text(
            painter,
            name_box.translated(0, px(17)),
            row.how,
            look,
            size="small",
            dim=how_color,
            align=Qt.AlignmentFlag.AlignHCenter,
        )
        self._paint_figures(painter, top, shown)

    def _paint_row_ground(self, painter: QPainter, top: int, *, is_chosen: bool) -> None:
        theme, px = self._look.theme, self._look.px
        height, editor_height = px(_ROW), 0
        if is_chosen:
            editor_height = self._editor.height() if self._editor is not None and self._editor.isVisible() else 0
            painter.fillRect(QRectF(0, top, self.width(), height + editor_height), theme.mark_ground)
            painter.fillRect(QRectF(0, top, px(3), height + editor_height), theme.mark)
            if self.hasFocus():
                painter.setPen(QPen(theme.mark, 1))
                painter.drawRect(QRectF(0.5, top + 0.5, self.width() - 1, height - 2))
        self._paint_grid(painter, top, height)
        painter.setPen(theme.rule)
        bottom = top + height + editor_height - 0.5
        painter.drawLine(QPointF(0, bottom), QPointF(self.width(), bottom))

    def _paint_grid(self, painter: QPainter, top: int, height: int) -> None:
        theme = self._look.theme
        painter.setPen(theme.grid)
        for share in (1.0, 0.5):
            x = self._time_zero - share * self._time_width
            painter.drawLine(QPointF(x, top), QPointF(x, top + height))
        for step in (0.5, 1.0):
            x = self._charge_zero + step * self._charge_width
            painter.drawLine(QPointF(x, top), QPointF(x, top + height))
        painter.setPen(theme.rule)
        for x in (self._time_zero, self._charge_zero):
            painter.drawLine(QPointF(x + 0.5, top), QPointF(x + 0.5, top + height))

    def _paint_time_bar(self, painter: QPainter, top: int, share: float, swatch: Swatch) -> None:
        px, look = self._look.px, self._look
        width = max(1.5, share * self._time_width)
        bar = QRectF(self._time_zero - width, top + px(11), width, px(_ROW - 22))
        fill(painter, bar, swatch, look.theme.ground)
        text = percent_text(share).rich
        if bar.width() > width_of(look, text) + px(70):
            ink = ink_on(swatch.color)
            on = swatch.color if swatch.texture != "plain" else None
            draw_rich_text(painter, bar.adjusted(px(8), 0, 0, 0), text, look, ink=ink, dim=ink, on=on)
        else:
            draw_rich_text(painter, QRectF(0, bar.top(), bar.left() - px(7), bar.height()), text, look, align=_RIGHT)

    def _paint_figures(self, painter: QPainter, top: int, shown: ShownRow) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        row, rights = shown.row, self._columns()
        first, second = px(6), px(23)

        def cell(name: str, rich: str, offset: int = first, size: str = "normal", faint: bool = False) -> None:
            if name not in rights:
                return
            box = QRectF(rights[name] - px(120), top + offset, px(120), px(18))
            draw_rich_text(painter, box, rich, look, size=size, dim=theme.faint if faint else None, align=_RIGHT)

        cell("entries", f"**{entries_text(shown.entries)}**")
        cell("mean dwell", duration_text(row.mean_dwell_s).rich)
        if self.by == ENERGY:
            cell("mean current", quantity_text(shown.mean_w, "W").rich)
        elif row.mean.bound is Bound.AT_LEAST:
            cell("mean current", signed(row.mean.bound, self._mean_text(row.mean.shown).rich))
            cell("mean current", "range exceeded", second, "small", True)
        elif row.mean.bound is not None:
            cell("mean current", rich_figure(row.mean, "A"))
            cell("mean current", "under the resolution", second, "small", True)
        else:
            cell("mean current", self._mean_text(row.mean.value).rich)
            cell("mean current", spread_text(row), second, "small", True)
        cell("energy", (shown.charge_text if self.by == ENERGY else self._energy_text(shown.energy_j)).rich)
        self._paint_expected(painter, QRectF(rights["expected"], top + first, self._expected_width, px(18)), row)
        self._paint_verdict(painter, top + first, row, *verdict_words(row))

    def _paint_expected(self, painter: QPainter, box: QRectF, row: LedgerRow) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        if row.expected is not None:
            text = f"{self._mean_text(row.expected.current_a).rich} ± {row.expected.tolerance * 100:.0f} %"
            draw_rich_text(painter, box, text, look)
            parts = len(row.expected.parts)
            source = f"{counted(parts, 'part')}" if parts else row.expected.source
            condition = ", ".join(part for part in (row.expected.condition, source) if part)
            draw_rich_text(painter, box.translated(0, px(17)), condition, look, size="small", dim=theme.faint)
        elif row.name != UNPLACED_NAME:
            draw_rich_text(painter, box, "not set", look, size="small", dim=theme.faint)

    def _paint_verdict(self, painter: QPainter, top: float, row: LedgerRow, words: str, warns: bool) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        left = self._columns()["verdict"]
        if warns:
            painter.fillRect(QRectF(left, top + px(2), px(4), px(15)), theme.warning)
        color = theme.warning_text if warns else theme.dim
        box = QRectF(left + px(12), top, self.width() - left - px(16), px(18))
        draw_rich_text(painter, box, words, look, ink=color, dim=color)
        if row.mismatches:
            below = box.translated(0, px(17))
            draw_rich_text(painter, below, row.mismatches[0], look, size="small", dim=theme.warning_text)

    def _paint_sum(self, painter: QPainter, top: int) -> None:
        if self.results is None:
            return
        look, theme, px = self._look, self._look.theme, self._look.px
        box = px(_FOOT - 8)
        y = top + px(4)
        time_share = percent_text(sum(s.time_share for s in self.rows)).rich
        self._draw_sum(painter, self._time_zero - px(8), y, time_share)
        draw_rich_text(
            painter,
            QRectF(self._time_zero, y, self._charge_zero - self._time_zero, box),
            "sum",
            look,
            dim=theme.ink,
            align=Qt.AlignmentFlag.AlignHCenter,
        )
        draw_rich_text(
            painter,
            QRectF(self._charge_zero, y, px(90), box),
            percent_text(sum(s.share_by(self.by) for s in self.rows)).rich,
            look,
        )
        self._paint_sum_figures(painter, y, self.results)

    def _paint_sum_figures(self, painter: QPainter, y: int, results: RunResults) -> None:
        ledger, load, rights = results.ledger, results.load, self._columns()
        length_s = DAY_S if self._shows_day else ledger.duration_s
        mean = Figure(load.mean_a, bound=load.bound) if self._shows_day else ledger.mean
        mean_a = mean.value
        energies = [s.energy_j for s in self.rows if s.energy_j is not None]
        energy_j = sum(energies) if energies else None
        if self.by == ENERGY:
            mean_words = quantity_text(energy_j / length_s if energy_j else None, "W").rich
            last_words = quantity_text(mean_a * length_s if mean_a is not None else None, "C").rich
        else:
            mean_words, last_words = (
                signed(mean.bound, self._mean_text(mean.shown).rich),
                self._energy_text(energy_j).rich,
            )
        self._draw_sum(painter, rights.get("mean dwell"), y, duration_text(length_s).rich)
        self._draw_sum(painter, rights.get("mean current"), y, mean_words)
        self._draw_sum(painter, rights.get("energy"), y, last_words)
        budget_a = results.life.budget_a
        if budget_a and self._shows_day and mean_a is not None:
            self._paint_budget(painter, y, mean_a / budget_a, f"≤ {quantity_text(budget_a, 'A').rich} for the target")

    def _draw_sum(self, painter: QPainter, edge: float | None, y: int, words: str) -> None:
        px = self._look.px
        if edge is not None:
            box = QRectF(edge - px(120), y, px(120), px(_FOOT - 8))
            draw_rich_text(painter, box, words, self._look, align=_RIGHT)

    def _paint_budget(self, painter: QPainter, y: float, ratio: float, words: str) -> None:
        """Paint what the target allows, and whether the mean is within it."""
        look, theme, px, rights = self._look, self._look.theme, self._look.px, self._columns()
        box = px(_FOOT - 8)
        draw_rich_text(painter, QRectF(rights["expected"], y, self._expected_width, box), words, look)
        if ratio > 1:
            painter.fillRect(QRectF(rights["verdict"], y + px(5), px(4), px(15)), theme.warning)
        color = theme.warning_text if ratio > 1 else theme.dim
        verdict = f"over by **{format_significant(ratio, 2)} ×**" if ratio > 1 else "within"
        where = QRectF(rights["verdict"] + px(12), y, px(110), box)
        draw_rich_text(painter, where, verdict, look, ink=color, dim=color)

    def _name_at(self, y: float) -> str | None:
        for index, shown in enumerate(self.rows):
            if self.top_of(index) <= y < self.top_of(index) + self._look.px(_ROW):
                return shown.row.name
        return None

    def mousePressEvent(self, event: QMouseEvent) -> None:
        position = event.position()
        if position.y() < self._look.px(_HEADER):
            for name, box in self._headers.items():
                if box.contains(position):
                    self.sort_by(name)
            return
        chosen = self._name_at(position.y())
        if chosen is not None:
            self.state_chosen.emit("" if chosen == self.chosen else chosen)

    def sort_by(self, column: str) -> None:
        """Sort by a column; the other way round when it is already."""
        self._rising = not self._rising if self._sort == column else column == "state"
        self._sort = column
        self._sort_rows()
        self._arrange()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        index = self._index(self.chosen)
        step = {Qt.Key.Key_Down: 1, Qt.Key.Key_Up: -1}.get(Qt.Key(event.key()))
        if step is not None and self.rows:
            at = 0 if index is None else min(max(index + step, 0), len(self.rows) - 1)
            self.state_chosen.emit(self.rows[at].row.name)
        elif event.key() == Qt.Key.Key_Escape and self.chosen:
            self.state_chosen.emit("")
        else:
            super().keyPressEvent(event)
