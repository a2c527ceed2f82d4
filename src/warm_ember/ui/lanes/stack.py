"""The lane stack: lanes over each other on one time axis, with one cursor through all."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRect, Qt, Signal
from PySide6.QtGui import QAction, QKeySequence, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QVBoxLayout, QWidget

from warm_ember.model.finding import Finding
from warm_ember.model.project import Note
from warm_ember.ui.lanes.charge import ChargeLane
from warm_ember.ui.lanes.current import CurrentLane
from warm_ember.ui.lanes.digital_lines import LinesLane
from warm_ember.ui.lanes.flags import AxisLane, FlagLane
from warm_ember.ui.lanes.lane import Lane
from warm_ember.ui.lanes.lane_data import LaneData
from warm_ember.ui.lanes.notes import NotesLane
from warm_ember.ui.lanes.quality import QualityLane
from warm_ember.ui.lanes.ribbon import RibbonLane
from warm_ember.ui.lanes.scalar import ScalarLane
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.lanes.whole_capture import WholeCaptureLane
from warm_ember.ui.look.theme import Appearance


class _Cursor(QWidget):
    """The dashed line through all lanes; it lets the mouse through."""

    def __init__(self, stack: LaneStack) -> None:
        super().__init__(stack)
        self._stack = stack
        self._x: float | None = None
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        stack.window_on_time.cursor_moved.connect(self._on_moved)
        stack.window_on_time.changed.connect(lambda: self._on_moved(stack.window_on_time.cursor_s))

    def _on_moved(self, time_s: object) -> None:
        before, self._x = self._x, None
        if isinstance(time_s, float):
            self._x = self._stack.current.x_of(time_s)
        for x in (before, self._x):
            if x is not None:
                self.update(QRect(int(x) - 2, 0, 5, self.height()))

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._x is None or self._x < self._stack.current.plot_rect.left():
            return
        painter = QPainter(self)
        painter.setPen(QPen(self._stack.look.theme.mark, 1, Qt.PenStyle.DashLine))
        x = round(self._x) + 0.5
        painter.drawLine(QPointF(x, self._stack.current.y()), QPointF(x, self._stack.axis.y()))
        painter.end()


class LaneStack(QWidget):
    """A stack of lanes.

    Parameters
    ----------
    look
        Theme and type.
    window
        The shared window on time; pages that show the same capture share one.
    with_flags
        Whether brackets have their rail.
    above
        The page's own lanes, above the current.
    folded
        Names of lanes that start folded.
    """

    folds_changed = Signal()

    def __init__(
        self,
        look: Appearance,
        window: TimeWindow,
        *,
        with_flags: bool,
        above: tuple[Lane, ...] = (),
        folded: tuple[str, ...] = (),
    ) -> None:
        super().__init__()
        self.look, self.window_on_time = look, window
        self.results: LaneData | None = None
        self.flags = FlagLane(look, window) if with_flags else None
        self.above = above
        self.current = CurrentLane(look, window)
        self.current.setMinimumHeight(look.px(110))
        self.current.setMaximumHeight(16777215)  # it takes what room there is
        self.ribbon = RibbonLane(look, window)
        self.lines = LinesLane(look, window)
        self.charge = ChargeLane(look, window)
        self.voltage = ScalarLane(look, window, "Voltage", "V")
        self.power = ScalarLane(look, window, "Power", "W")
        self.notes = NotesLane(look, window)
        self.faults = QualityLane(look, window)
        self.aux: list[ScalarLane] = []
        self.axis = AxisLane(look, window)
        self.whole = WholeCaptureLane(look, window)
        self._folded = set(folded)
        self._lay_out()
        self._cursor = _Cursor(self)
        self.axis.unfold_asked.connect(self._show_folded)
        for lane in self._foldable:
            lane.folded.connect(self._on_folded)
        look.changed.connect(self._on_look)
        self._apply_folds()

    def _lay_out(self) -> None:
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for lane in self.lanes:
            layout.addWidget(lane, 1 if lane is self.current else 0)

    @property
    def lanes(self) -> list[Lane]:
        """All lanes from above."""
        some = (
            self.flags,
            *self.above,
            self.current,
            self.notes,
            self.faults,
            self.ribbon,
            self.lines,
            self.charge,
            self.voltage,
            self.power,
            *self.aux,
            self.axis,
            self.whole,
        )
        return [lane for lane in some if lane is not None]

    @property
    def _foldable(self) -> list[Lane]:
        return [
            *self.above,
            self.notes,
            self.faults,
            self.ribbon,
            self.lines,
            self.charge,
            self.voltage,
            self.power,
            *self.aux,
        ]

    def set_results(self, results: LaneData | None) -> None:
        """Show another run, or the same with new states."""
        self.results = results
        self._make_aux_lanes(results)
        for lane in self.lanes:
            lane.set_results(results)
        self._apply_folds()

    def _make_aux_lanes(self, results: LaneData | None) -> None:
        """Have a lane for each auxiliary channel of the run."""
        wanted = {name: unit for name, (_, unit) in results.capture.aux.items()} if results is not None else {}
        if [(lane.name, lane.unit) for lane in self.aux] == list(wanted.items()):
            return
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        for lane in self.aux:
            layout.removeWidget(lane)
            lane.hide()
            lane.deleteLater()
        self.aux = [ScalarLane(self.look, self.window_on_time, name, unit) for name, unit in wanted.items()]
        for lane in self.aux:
            lane.folded.connect(self._on_folded)
            layout.insertWidget(layout.indexOf(self.axis), lane)
        self._cursor.raise_()

    def set_findings(self, findings: tuple[Finding, ...]) -> None:
        """Show where the measurement is at fault."""
        self.faults.set_findings(findings)
        self._apply_folds()

    def set_notes(self, notes: tuple[Note, ...]) -> None:
        """Show what is noted of the capture."""
        self.notes.set_notes(notes)
        self._apply_folds()

    def _on_folded(self, name: str) -> None:
        self.set_folded(name, True)

    def set_folded(self, name: str, folded: bool) -> None:
        """Fold a lane away or show it."""
        if folded:
            self._folded.add(name)
        else:
            self._folded.discard(name)
        self._apply_folds()
        self.folds_changed.emit()

    def is_folded(self, name: str) -> bool:
        """Return whether a lane is folded away."""
        return name in self._folded

    def foldable_names(self) -> list[str]:
        """Return the names of the lanes that have data and can be folded."""
        return [lane.name for lane in self._foldable if lane.has_data()]

    def refold(self) -> None:
        """Show or hide lanes whose data has come or gone."""
        self._apply_folds()

    def _apply_folds(self) -> None:
        for lane in self._foldable:
            lane.setVisible(lane.has_data() and lane.name not in self._folded)
        self.axis.set_folded(
            tuple(lane.name for lane in self._foldable if lane.has_data() and lane.name in self._folded)
        )

    def _show_folded(self) -> None:
        menu = QMenu(self)
        for name in self.axis.hidden_lanes:
            action = QAction(name, menu)
            action.triggered.connect(lambda _checked=False, name=name: self.set_folded(name, False))
            menu.addAction(action)
        if not menu.isEmpty():
            menu.popup(self.axis.mapToGlobal(self.axis.rect().bottomLeft()))

    def _on_look(self) -> None:
        for lane in self.lanes:
            if lane is self.current:
                lane.refresh()
            else:
                lane.rescale()

    def resizeEvent(self, event: object) -> None:
        self._cursor.setGeometry(self.rect())
        self._cursor.raise_()

    def paint_onto(self, painter: QPainter) -> None:
        """Paint all shown lanes anew, for a picture."""
        with self.window_on_time.reader.waiting():
            for lane in self.lanes:
                if not lane.isHidden():
                    painter.save()
                    painter.translate(lane.pos())
                    lane.paint_onto(painter)
                    painter.restore()

    def step_state_edge(self, direction: int) -> None:
        """Centre the window on the next or previous state edge."""
        if self.results is None:
            return
        window = self.window_on_time
        edges = self.results.placement.edges[1:-1] * self.results.capture.current.interval_s
        middle = (window.from_s + window.to_s) / 2
        reach = window.interval_s
        found = edges[edges > middle + reach][:1] if direction > 0 else edges[edges < middle - reach][-1:]
        if len(found):
            half = window.length_s / 2
            window.show(float(found[0]) - half, float(found[0]) + half)
            window.set_cursor(float(np.clip(found[0], window.from_s, window.to_s)))

    def actions_for_menu(self) -> list[QAction]:
        """Return the actions that move the window on time."""
        actions = []
        for text, keys, slot in (
            ("Fit the whole capture", "F", self.window_on_time.fit),
            ("Previous window", "Backspace", self.window_on_time.back),
            ("Next window", "Shift+Backspace", self.window_on_time.forward),
            ("Next state edge", "]", lambda: self.step_state_edge(1)),
            ("Previous state edge", "[", lambda: self.step_state_edge(-1)),
        ):
            action = QAction(text, self)
            action.setShortcut(QKeySequence(keys))
            action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            action.triggered.connect(lambda _checked=False, slot=slot: slot())
            actions.append(action)
        return actions
