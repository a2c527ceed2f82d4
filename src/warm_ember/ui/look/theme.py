"""Night and Day, the type, and the sizes that follow the desktop's text size."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QGuiApplication, QStaticText

from warm_ember.model.heat_ramp import DAY_DECADES, NIGHT_DECADES
from warm_ember.ui.look.ramp import Ramp

BASE_POINTS = 10.0
_REMEMBERED_TEXTS = 5000


@dataclass(frozen=True)
class Theme:
    """All colours beside the ramp.

    Parameters
    ----------
    ground, raised, sunken
        Pages; bars and panels; plots.
    rule, grid
        Thin lines between things and within plots.
    ink, dim, faint
        Figures; words; what may be overlooked.
    mark, mark_ground
        The reader's own marks: brackets, cursor, focus.
    accent
        The line of the navigation.
    warning, warning_text
        The one warning colour, as an area and as text.
    """

    name: str
    ground: QColor
    raised: QColor
    sunken: QColor
    bar: QColor
    rule: QColor
    grid: QColor
    ink: QColor
    dim: QColor
    faint: QColor
    mark: QColor
    mark_ground: QColor
    accent: QColor
    warning: QColor
    warning_text: QColor
    ramp: Ramp

    @property
    def is_night(self) -> bool:
        """Whether light stands on dark."""
        return self.name == "night"


def _theme(name: str, decades: tuple[str, ...], **colors: str) -> Theme:
    return Theme(name=name, ramp=Ramp(decades), **{key: QColor(value) for key, value in colors.items()})


NIGHT = _theme(
    "night", NIGHT_DECADES,
    ground="#171513", raised="#201d1a", sunken="#12100e", bar="#0e0c0b", rule="#35302a", grid="#26231f",
    ink="#f6f1e8", dim="#b3a99c", faint="#91877b", mark="#9cc4c9", mark_ground="#2a3433", accent="#d4615b",
    warning="#d3f24a", warning_text="#d3f24a",
)  # fmt: skip
DAY = _theme(
    "day", DAY_DECADES,
    ground="#f6f2ea", raised="#ece5d9", sunken="#fcfaf5", bar="#e8e1d4", rule="#cfc6b6", grid="#e4dfd3",
    ink="#1c1814", dim="#574e43", faint="#6a6054", mark="#1d6670", mark_ground="#d5dfdb", accent="#c04f51",
    warning="#b9dc00", warning_text="#536300",
)  # fmt: skip


class Appearance(QObject):
    """The theme and the type in use; everything that paints asks it and repaints when it changed.

    ``scale`` is the desktop's text size against 10 points.
    """

    changed = Signal()

    def __init__(self, theme: Theme | None = None) -> None:
        super().__init__()
        self.theme = theme or preferred_theme()
        self.scale = self._desktop_scale()
        self._types: dict[tuple[str, bool, float], tuple[QFont, QFontMetricsF]] = {}
        self._widths: dict[tuple[str, str, bool, float], float] = {}
        self._prepared: dict[tuple[str, str, bool, float], QStaticText] = {}

    def set_theme(self, theme: Theme) -> None:
        """Change the theme."""
        if theme is not self.theme:
            self.theme = theme
            self.changed.emit()

    @staticmethod
    def _desktop_scale() -> float:
        points = QGuiApplication.font().pointSizeF()
        return points / BASE_POINTS if points > 0 else 1.0

    def follow_text_size(self) -> None:
        """Take over the desktop's text size when it changed."""
        scale = self._desktop_scale()
        if scale != self.scale:
            self.scale = scale
            self.changed.emit()

    def px(self, length: float) -> int:
        """Return a length on the 8 px grid at the desktop's text size."""
        return round(length * self.scale)

    def font(self, size: str = "normal", *, bold: bool = False) -> QFont:
        """Return a font of one of the three sizes: ``small``, ``normal``, ``large``."""
        return self._type(size, bold=bold)[0]

    def metrics(self, size: str = "normal", *, bold: bool = False) -> QFontMetricsF:
        """Return the metrics of a font."""
        return self._type(size, bold=bold)[1]

    def width(self, text: str, size: str = "normal", *, bold: bool = False) -> float:
        """Return the width of a text; measured once, since lanes write the same words at every repaint."""
        key = (text, size, bold, self.scale)
        width = self._widths.get(key)
        if width is None:
            if len(self._widths) > _REMEMBERED_TEXTS:
                self._widths.clear()
            width = self._widths[key] = self.metrics(size, bold=bold).horizontalAdvance(text)
        return width

    def prepared(self, text: str, size: str = "normal", *, bold: bool = False) -> QStaticText:
        """Return a text laid out; once, as with `width`, since that takes longer than drawing it."""
        key = (text, size, bold, self.scale)
        prepared = self._prepared.get(key)
        if prepared is None:
            if len(self._prepared) > _REMEMBERED_TEXTS:
                self._prepared.clear()
            prepared = self._prepared[key] = QStaticText(text)
            prepared.setTextFormat(Qt.TextFormat.PlainText)
            prepared.setPerformanceHint(QStaticText.PerformanceHint.AggressiveCaching)
            prepared.prepare(font=self.font(size, bold=bold))
        return prepared

    def _type(self, size: str, *, bold: bool) -> tuple[QFont, QFontMetricsF]:
        key = (size, bold, self.scale)
        if key not in self._types:
            font = QFont(QGuiApplication.font())
            factor = {"small": 0.84, "normal": 1.0, "large": 1.28}[size]
            font.setPointSizeF(BASE_POINTS * self.scale * factor)
            font.setWeight(QFont.Weight.Bold if bold else QFont.Weight.Normal)
            self._types[key] = (font, QFontMetricsF(font))
        return self._types[key]


def preferred_theme() -> Theme:
    """Return the theme that fits the desktop's colour scheme."""
    is_light = QGuiApplication.styleHints().colorScheme() == Qt.ColorScheme.Light
    return DAY if is_light else NIGHT


def ink_on(color: QColor) -> QColor:
    """Return black or white, whichever reads better on a colour (WCAG 2.2 relative luminance)."""

    def linear(channel: float) -> float:
        return channel / 12.92 if channel <= 0.04045 else ((channel + 0.055) / 1.055) ** 2.4

    luminance = 0.2126 * linear(color.redF()) + 0.7152 * linear(color.greenF()) + 0.0722 * linear(color.blueF())
    return QColor("#120f0c") if luminance > 0.18 else QColor("#fffaf0")
