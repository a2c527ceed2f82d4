"""The navigation: the links from amperes to months, each a way into its page and a live figure."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QSizePolicy, QWidget

from warm_ember.session.page_links import LinkFigure
from warm_ember.ui.look.label import tip
from warm_ember.ui.look.rich_text import draw_rich_text, plain, width_of
from warm_ember.ui.look.theme import Appearance

_HEIGHT = 56


class NavigationLink(QAbstractButton):
    """One link of the navigation."""

    def __init__(self, look: Appearance, title: str, shortcut: str) -> None:
        super().__init__()
        self._look, self.title = look, title
        self._shortcut = shortcut
        self._focus_is_shown = False
        self.shown = LinkFigure()
        self.is_stale = False
        self.figure_size = "large"
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setText(title)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        look.changed.connect(self.update)

    def show_figure(self, figure: LinkFigure) -> None:
        """Show new figures."""
        if figure == self.shown:
            return
        self.shown = figure
        words = f"{plain(figure.figure)}, {plain(figure.detail)}"
        doubt = f"\nNot trusted yet: {figure.doubt}" if figure.doubt else ""
        self.setToolTip(tip(f"{self.title}: {words}{doubt}\n{self._shortcut}"))
        self.setAccessibleName(f"{self.title}: {words}")
        self.update()

    def set_stale(self, stale: bool) -> None:
        """Show that the figure is being computed anew."""
        self.is_stale = stale
        self.update()

    def focusInEvent(self, event: QFocusEvent) -> None:
        self._focus_is_shown = event.reason() != Qt.FocusReason.MouseFocusReason
        super().focusInEvent(event)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        self._focus_is_shown = False
        super().focusOutEvent(event)

    def sizeHint(self) -> QSize:
        return QSize(self._look.px(160), self._look.px(_HEIGHT))

    def minimumSizeHint(self) -> QSize:
        return QSize(self._look.px(64), self._look.px(_HEIGHT))  # its figures are elided

    @property
    def _left(self) -> int:
        return self._look.px(16 if self.width() >= self._look.px(150) else 9)

    @property
    def has_room(self) -> bool:
        """Whether the figure fits at its full size."""
        room = self.width() - self._left - self._look.px(4)
        return width_of(self._look, self.shown.figure, "large") <= room

    def set_figure_size(self, size: str) -> None:
        """Show the figure in a size, which all links share."""
        if size != self.figure_size:
            self.figure_size = size
            self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        theme = self._look.theme
        painter = QPainter(self)
        lit = self.isChecked()
        painter.fillRect(
            self.rect(), theme.ground if lit else theme.raised.darker(108) if theme.is_night else theme.raised
        )
        self._paint_words(painter, lit)
        self._paint_edges(painter, lit)
        if self.shown.doubt:
            side, right, top = self._look.px(15), self.width() - (3 if lit else 1), 3 if lit else 0
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.warning)
            painter.drawPolygon(
                QPolygonF([QPointF(right - side, top), QPointF(right, top), QPointF(right, top + side)])
            )
        painter.end()

    def _paint_words(self, painter: QPainter, lit: bool) -> None:
        look, theme, px = self._look, self._look.theme, self._look.px
        width = self.width() - self._left - px(4)

        def line(top: int, height: int) -> QRectF:
            return QRectF(self._left, px(top), width, px(height))

        title = f"**{self.title}**" if lit else self.title
        draw_rich_text(painter, line(4, 15), title, look, size="small", ink=theme.ink)
        ink = theme.faint if self.is_stale else theme.ink if lit else theme.dim
        dim = theme.dim if lit else theme.faint
        draw_rich_text(painter, line(18, 20), self.shown.figure, look, size=self.figure_size, ink=ink, dim=dim)
        detail = "recomputing" if self.is_stale else self.shown.detail
        dim = theme.mark if self.is_stale else theme.dim
        draw_rich_text(painter, line(37, 15), detail, look, size="small", ink=ink, dim=dim)

    def _paint_edges(self, painter: QPainter, lit: bool) -> None:
        theme = self._look.theme
        width, height = self.width(), self.height()
        painter.setPen(QPen(theme.accent, 2))
        if lit:
            painter.drawLine(QPointF(1, height), QPointF(1, 1))
            painter.drawLine(QPointF(1, 1), QPointF(width - 1, 1))
            painter.drawLine(QPointF(width - 1, 1), QPointF(width - 1, height))
        else:
            style = Qt.PenStyle.DashLine if self.is_stale else Qt.PenStyle.SolidLine
            painter.setPen(QPen(theme.accent, 2, style))
            painter.drawLine(QPointF(0, height - 1), QPointF(width, height - 1))
            painter.setPen(QPen(theme.rule, 1))
            painter.drawLine(QPointF(width - 0.5, 10), QPointF(width - 0.5, height - 14))
        if self._focus_is_shown:
            painter.setPen(QPen(theme.mark, 1))
            painter.drawRect(QRectF(4.5, 4.5, width - 9, height - 11))


class NavigationBar(QWidget):
    """The row of links.

    Signals
    -------
    chosen
        The title of the link that was opened.
    """

    chosen = Signal(str)

    def __init__(self, look: Appearance, titles: tuple[str, ...]) -> None:
        super().__init__()
        self._look = look
        self.links: dict[str, NavigationLink] = {}
        layout = self._row = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        for index, title in enumerate(titles):
            link = NavigationLink(look, title, f"Alt+{index + 1}")
            link.clicked.connect(lambda _checked=False, title=title: self.chosen.emit(title))
            self.links[title] = link
            layout.addWidget(link, 1)
        self.setFixedHeight(look.px(_HEIGHT))
        look.changed.connect(lambda: self.setFixedHeight(look.px(_HEIGHT)))

    def show_figures(self, figures: Mapping[str, LinkFigure]) -> None:
        """Show new figures on links."""
        for title, figure in figures.items():
            self.links[title].show_figure(figure)
        self._fit()

    def _fit(self) -> None:
        """Make the figures of all links smaller where one has no room."""
        size = "large" if all(link.has_room for link in self.links.values()) else "normal"
        for link in self.links.values():
            link.set_figure_size(size)

    def resizeEvent(self, event: QResizeEvent) -> None:
        self._row.activate()
        self._fit()

    def light(self, title: str) -> None:
        """Light the link of the open page; an empty title lights none."""
        for name, link in self.links.items():
            link.setAutoExclusive(bool(title))
            link.setChecked(name == title)
        self.update()

    def set_stale(self, stale: bool) -> None:
        """Show on all links that results are being computed anew."""
        for link in self.links.values():
            link.set_stale(stale)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        titles = list(self.links)
        focused = next((t for t, link in self.links.items() if link.hasFocus()), None)
        if focused and event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = 1 if event.key() == Qt.Key.Key_Right else -1
            self.links[titles[(titles.index(focused) + step) % len(titles)]].setFocus()
        else:
            super().keyPressEvent(event)
