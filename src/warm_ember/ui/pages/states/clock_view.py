"""How the log's clock is laid on the capture's, and how well."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from warm_ember.model.placement import TYPED_CLOCK, Alignment
from warm_ember.model.project import TypedClock
from warm_ember.session import edits
from warm_ember.session.state_results import clock_sentence
from warm_ember.ui.look.painted_view import PaintedView
from warm_ember.ui.look.rich_text import draw_rich_text, plain
from warm_ember.ui.look.theme import Appearance
from warm_ember.ui.pages.states.part import StatesPart
from warm_ember.ui.project_controller import ProjectController
from warm_ember.ui.widgets.quantity_edit import QuantityEdit
from warm_ember.units import counted, duration_text, percent_text

if TYPE_CHECKING:
    from warm_ember.session.records import Residuals


_PPM = 1e-6
_MOST_DOTS = 2000
_RIGHT = Qt.AlignmentFlag.AlignRight


class _ResidualPlot(PaintedView):
    """What the map leaves over, a dot for each change of the log that the capture shows."""

    def __init__(self, look: Appearance) -> None:
        super().__init__(look)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)
        self._look = look
        self._found: Residuals | None = None
        self._duration_s = 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("What the clock map leaves over")
        look.changed.connect(self.update)

    def show_residuals(self, found: Residuals | None, duration_s: float) -> None:
        self._found, self._duration_s = found, duration_s
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        look, theme, px = self._look, self._look.theme, self._look.px
        painter.fillRect(self.rect(), theme.ground)
        found = self._found
        if found is not None and len(found.at_s):
            plot = QRectF(px(96), px(4), self.width() - px(104), self.height() - px(28))
            painter.fillRect(plot, theme.sunken)
            reach = max(float(np.abs(found.apart_s).max()), 1e-9)
            for share, words in (
                (1.0, f"+{duration_text(reach, 2)}"),
                (0.0, "0"),
                (-1.0, f"−{duration_text(reach, 2)}"),
            ):
                y = plot.center().y() - share * 0.46 * plot.height()
                painter.setPen(theme.rule if share == 0 else theme.grid)
                painter.drawLine(QPointF(plot.left(), y), QPointF(plot.right(), y))
                box = QRectF(0, y - px(8), plot.left() - px(8), px(16))
                draw_rich_text(painter, box, words, look, size="small", align=_RIGHT)
            painter.setPen(QPen(theme.mark, px(5), Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            every = -(-len(found.at_s) // _MOST_DOTS)
            xs = plot.left() + found.at_s[::every] / max(self._duration_s, 1e-12) * plot.width()
            ys = plot.center().y() - found.apart_s[::every] / reach * 0.46 * plot.height()
            painter.setClipRect(plot)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for x, y in zip(xs.tolist(), ys.tolist(), strict=True):
                painter.drawPoint(QPointF(x, y))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
            painter.setClipping(False)
            foot = QRectF(plot.left(), plot.bottom() + px(4), plot.width(), px(16))
            draw_rich_text(painter, foot, "0", look, size="small")
            draw_rich_text(painter, foot, str(duration_text(self._duration_s)), look, size="small", align=_RIGHT)
            words = "later (+) or earlier (−) than the map says"
            draw_rich_text(painter, foot, words, look, size="small", align=Qt.AlignmentFlag.AlignHCenter)
        else:
            draw_rich_text(
                painter, QRectF(self.rect()), "Nothing was matched.", look, align=Qt.AlignmentFlag.AlignHCenter
            )
        painter.end()


class ClockView(StatesPart):
    """Offset, drift and what is left, found or typed."""

    name = "clock"

    def __init__(self, controller: ProjectController, look: Appearance) -> None:
        super().__init__(controller, look)
        self.alignment: Alignment | None = None
        self.plot = _ResidualPlot(look)
        self.offset = QuantityEdit(look, "s", "Capture time at the log's time 0", 104, low=-1e12)
        self.drift = QuantityEdit(look, "", "Drift of the log's clock in millionths", 72, low=-1e5)
        self.find_again = QPushButton("Find it again")
        self.rows = [self.small() for _ in range(4)]
        self._build()
        self.offset.value_entered.connect(lambda offset_s: self._type(offset_s=offset_s))
        self.drift.value_entered.connect(lambda ppm: self._type(drift=ppm * _PPM))
        self.find_again.clicked.connect(self._on_find)

    def _build(self) -> None:
        px = self.look.px
        left = QVBoxLayout()
        for label in self.rows:
            label.setWordWrap(True)
            left.addWidget(label)
        left.addSpacing(px(8))
        for words, edit, unit in (("offset", self.offset, ""), ("drift", self.drift, "millionths (ppm)")):
            line = QHBoxLayout()
            label = self.small(words)
            label.setFixedWidth(px(56))
            for widget in (label, edit, self.small(unit)):
                line.addWidget(widget)
            line.addStretch(1)
            left.addLayout(line)
        left.addWidget(self.find_again, 0, Qt.AlignmentFlag.AlignLeft)
        left.addStretch(1)
        side = QWidget()
        side.setLayout(left)
        side.setFixedWidth(px(320))
        left.setContentsMargins(0, 0, 0, 0)
        row = QHBoxLayout(self)
        row.setContentsMargins(px(16), px(8), px(16), px(8))
        row.setSpacing(px(24))
        row.addWidget(side)
        row.addWidget(self.plot, 1)

    def ask(self) -> None:
        results = self.results
        assert results is not None
        project, name = self.controller.project, results.run.name
        self.alignment = results.placement.alignment
        self.work(lambda session, should_stop: session.states.residuals(project, name, should_stop), self._on_residuals)

    def show_nothing(self) -> None:
        self.alignment = None
        self.plot.show_residuals(None, 0.0)
        for label in self.rows:
            label.setText("")
        for edit in (self.offset, self.drift):
            edit.set_value(None)
        self.find_again.hide()

    def _on_residuals(self, found: tuple[Alignment, Residuals] | None) -> None:
        if found is None:
            self.show_nothing()
            self.changed.emit()
            return
        self.alignment, left = found
        duration_s = self.results.capture.duration_s if self.results is not None else 0.0
        self.plot.show_residuals(left, duration_s)
        alignment = self.alignment
        self.offset.set_value(alignment.offset_s)
        self.drift.set_value(round(alignment.drift / _PPM, 3))
        for label, words in zip(self.rows, self._words(alignment, left), strict=True):
            label.setText(words)
        self.find_again.setVisible(alignment.method == TYPED_CLOCK)
        self.changed.emit()

    @staticmethod
    def _words(alignment: Alignment, left: Residuals) -> tuple[str, str, str, str]:
        how = {TYPED_CLOCK: "typed"}.get(alignment.method, f"found by: {alignment.method}")
        matched = f"{left.matched} of {counted(left.expected, 'change')} of the log are seen in the capture"
        if alignment.confidence is not None:
            matched += f": confidence {percent_text(alignment.confidence)}"
        residual = f"they lie {duration_text(left.rms_s)} apart (root mean square)" if left.matched else ""
        rival = ""
        if alignment.rival_s is not None:
            rival = f"a shift of {duration_text(abs(alignment.rival_s))} fits as well: nothing is placed by the log"
        return how, matched, residual, rival

    def _type(self, **changes: float) -> None:
        """Change one of both; the other stays as precise as it was found."""
        if self.results is None or self.alignment is None:
            return
        known = TypedClock(self.results.run.name, self.alignment.offset_s, self.alignment.drift)
        self.controller.apply(edits.set_clock(msgspec.structs.replace(known, **changes)), "enter the clock's offset")

    def _on_find(self) -> None:
        if self.results is not None:
            self.controller.apply(edits.find_clock(self.results.run.name), "find the clock's offset")

    def sentence(self) -> str:
        alignment = self.alignment
        if self.results is None or alignment is None:
            return "This capture has no log whose clock could be laid on it."
        return clock_sentence(alignment)

    def text(self) -> str:
        return "\n".join(plain(label.text()) for label in self.rows)
