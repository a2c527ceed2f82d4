"""Two views beside each other, or one below the other where there is no room for both."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QBoxLayout, QScrollArea, QWidget

from warm_ember.ui.look.theme import Appearance

_RIGHT, _DOWN, _UP = (
    QBoxLayout.Direction.LeftToRight,
    QBoxLayout.Direction.TopToBottom,
    QBoxLayout.Direction.BottomToTop,
)


class SideBySide(QWidget):
    """Two views that share a width.

    Parameters
    ----------
    look
        Theme and type.
    left, right
        The views, and what share of the width each takes.
    wide
        Both stand beside each other from this width on.
    answers
        Which of them holds the answer: it stands on top where one is below the other.
    """

    def __init__(
        self, look: Appearance, left: tuple[QWidget, int], right: tuple[QWidget, int], wide: int, answers: QWidget
    ) -> None:
        super().__init__()
        self.setObjectName("page")
        self._look, self._wide, self._below = look, wide, _DOWN if answers is left[0] else _UP
        self._views = (left[0], right[0])
        self._layout = QBoxLayout(_RIGHT, self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(0)
        for view, share in (left, right):
            self._layout.addWidget(view, share)

    @property
    def is_wide(self) -> bool:
        """Whether both stand beside each other."""
        return self._layout.direction() == _RIGHT

    def resizeEvent(self, event: QResizeEvent) -> None:
        is_wide = event.size().width() >= self._look.px(self._wide)
        if is_wide == self.is_wide:
            return
        self._layout.setDirection(_RIGHT if is_wide else self._below)
        self._fit()

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().event(event)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:  # what is scrolled wants another height
            self._fit()
        return super().eventFilter(watched, event)

    def _fit(self) -> None:
        """Give what is scrolled in a view all its height where one is below the other: the page is scrolled then."""
        for view in self._views:
            for scroll in (view, *view.findChildren(QScrollArea)):
                if isinstance(scroll, QScrollArea) and scroll.isVisibleTo(self):
                    scroll.viewport().installEventFilter(self)  # again and again does no harm
                    held = scroll.widget()
                    height = 0 if self.is_wide or held is None else max(held.sizeHint().height(), held.minimumHeight())
                    if scroll.minimumHeight() != height:
                        scroll.setMinimumHeight(height)
        self.updateGeometry()
