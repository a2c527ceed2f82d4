"""The panel for messages and progress between page and budget bar: it never covers the work."""

from __future__ import annotations

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QProgressBar, QPushButton, QWidget

from warm_ember.ui.look.label import Label
from warm_ember.ui.look.theme import Appearance

_NOTE_MS = 12_000


class MessagePanel(QWidget):
    """One message at a time; trouble stays until it is dismissed, notes leave by themselves.

    Signals
    -------
    dismissed
        The message was closed.
    """

    dismissed = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        self._look = look
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(16), look.px(4), look.px(12), look.px(4))
        self._edge = Label()
        self._edge.setFixedWidth(look.px(4))
        self.words = Label()
        self.words.setWordWrap(True)
        self._button = QPushButton("Dismiss")
        self._button.clicked.connect(self._dismiss)
        row.addWidget(self._edge)
        row.addWidget(self.words, 1)
        row.addWidget(self._button)
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.setInterval(_NOTE_MS)
        self._timer.timeout.connect(self._dismiss)
        self._is_trouble = False
        self.hide()
        look.changed.connect(self._colour)

    def show_trouble(self, message: str) -> None:
        """Show what went wrong."""
        self._show(message, trouble=True)

    def show_note(self, message: str) -> None:
        """Show what was done."""
        self._show(message, trouble=False)

    def forget_note(self) -> None:
        """Take away what was done: it was another project."""
        if not self._is_trouble:
            self.hide()

    def _show(self, message: str, *, trouble: bool) -> None:
        self._is_trouble = trouble
        self.words.setText(message)
        self._colour()
        self.show()
        if trouble:
            self._timer.stop()
        else:
            self._timer.start()

    def _colour(self) -> None:
        color = self._look.theme.warning if self._is_trouble else self._look.theme.mark
        self._edge.setStyleSheet(f"background: {color.name()};")
        self.setStyleSheet(f"MessagePanel {{ background: {self._look.theme.raised.name()}; }}")

    def _dismiss(self) -> None:
        self._timer.stop()
        self.hide()
        self.dismissed.emit()


class ProgressPanel(QWidget):
    """What is being worked on, how far it is, and a way to stop it.

    Signals
    -------
    stop_asked
        The user wants it stopped.
    """

    stop_asked = Signal()

    def __init__(self, look: Appearance) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(look.px(16), look.px(2), look.px(12), look.px(2))
        self.words = Label()
        self._bar = QProgressBar()
        self._bar.setTextVisible(False)
        self._bar.setRange(0, 1000)
        self._button = QPushButton("Stop")
        self._button.clicked.connect(self.stop_asked)
        row.addWidget(self.words)
        row.addWidget(self._bar, 1)
        row.addWidget(self._button)
        self.hide()

    def show_work(self, what: str) -> None:
        """Show that something is being worked on."""
        self.words.setText(f"{what} …")
        self._bar.setRange(0, 0)
        self.show()

    def show_share(self, share: float) -> None:
        """Show how far it is."""
        self._bar.setRange(0, 1000)
        self._bar.setValue(round(share * 1000))
