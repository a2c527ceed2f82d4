"""The style sheet of the few stock widgets: flat, square, thin rules."""

from __future__ import annotations

from PySide6.QtGui import QColor, QPalette
from PySide6.QtWidgets import QApplication

from warm_ember.ui.look.theme import Appearance

_BASE, _FUSION = "base style", "Fusion"


def dress(application: QApplication, look: Appearance) -> None:
    """Give the program's widgets the look.

    Done before the widgets are made each is dressed once, when it is shown; afterwards each must be undressed first,
    which for the whole window takes a second.
    """
    # A style sheet hides which style lies below it, and setting that again dresses every widget anew.
    if application.property(_BASE) != _FUSION:
        application.setStyle(_FUSION)
        application.setProperty(_BASE, _FUSION)
    sheet = style_sheet(look)
    if application.styleSheet() != sheet:
        application.setPalette(palette(look))
        application.setStyleSheet(sheet)


def palette(look: Appearance) -> QPalette:
    """Return the palette of a theme."""
    theme = look.theme
    made = QPalette(theme.ink, theme.ground)
    role = QPalette.ColorRole
    for name, color in (
        (role.Window, theme.ground), (role.Base, theme.sunken), (role.AlternateBase, theme.raised),
        (role.Text, theme.ink), (role.WindowText, theme.ink), (role.ButtonText, theme.ink),
        (role.Button, theme.raised), (role.Highlight, theme.mark), (role.HighlightedText, theme.sunken),
        (role.ToolTipBase, theme.raised), (role.ToolTipText, theme.ink), (role.PlaceholderText, theme.faint),
    ):  # fmt: skip
        made.setColor(name, QColor(color))
    return made


def style_sheet(look: Appearance) -> str:
    """Return the style sheet of a theme at the desktop's text size."""
    return _grounds_and_menus(look) + _controls(look) + _tables_and_scrolls(look)


def _grounds_and_menus(look: Appearance) -> str:
    t, px = look.theme, look.px
    return f"""
    QWidget {{ color: {t.ink.name()}; }}
    QMainWindow, QDialog, QWidget#page {{ background: {t.ground.name()}; }}
    QWidget#panel {{ background: {t.raised.name()}; }}
    QMenuBar {{ background: {t.raised.name()}; spacing: 0; padding: 0; }}
    QMenuBar::item {{ padding: {px(4)}px {px(11)}px; background: transparent; }}
    QMenuBar::item:selected, QMenu::item:selected {{ background: {t.mark_ground.name()}; }}
    QMenu {{ background: {t.raised.name()}; border: 1px solid {t.rule.name()}; padding: {px(4)}px 0; }}
    QMenu::item {{ padding: {px(5)}px {px(28)}px {px(5)}px {px(16)}px; }}
    QMenu::item:disabled {{ color: {t.faint.name()}; }}
    QMenu::separator {{ height: 1px; background: {t.rule.name()}; margin: {px(4)}px 0; }}
    QToolTip {{ background: {t.raised.name()}; color: {t.ink.name()}; border: 1px solid {t.rule.name()}; padding: 4px; }}
    """


def _controls(look: Appearance) -> str:
    t, px = look.theme, look.px
    return f"""
    QLineEdit, QComboBox, QSpinBox, QPlainTextEdit {{ background: {t.sunken.name()}; border: 1px solid {t.rule.name()}; padding: {px(2)}px {px(6)}px;
        selection-background-color: {t.mark.name()}; selection-color: {t.sunken.name()}; font-weight: bold; }}
    QLineEdit:focus, QComboBox:focus, QSpinBox:focus, QPlainTextEdit:focus, QTextEdit:focus, QListView:focus {{ border: 1px solid {t.mark.name()}; }}
    QCheckBox, QRadioButton {{ border: 1px solid transparent; padding: 1px; }}
    QCheckBox:focus, QRadioButton:focus {{ border: 1px solid {t.mark.name()}; }}
    QLineEdit[wrong="true"] {{ border: 1px solid {t.warning.name()}; }}
    QComboBox::drop-down {{ border: none; width: {px(18)}px; }}
    QComboBox QAbstractItemView {{ background: {t.raised.name()}; border: 1px solid {t.rule.name()};
        selection-background-color: {t.mark_ground.name()}; selection-color: {t.ink.name()}; }}
    QPushButton {{ background: transparent; border: 1px solid {t.rule.name()}; padding: {px(3)}px {px(10)}px; text-align: left; }}
    QPushButton:hover, QPushButton:checked {{ background: {t.mark_ground.name()}; }}
    QPushButton:checked {{ border: 1px solid {t.mark.name()}; font-weight: bold; }}
    QPushButton:focus {{ border: 1px solid {t.mark.name()}; }}
    QPushButton#quiet {{ border: 1px solid transparent; padding: {px(1)}px {px(2)}px; color: {t.dim.name()}; }}
    QPushButton#quiet:focus {{ border: 1px solid {t.mark.name()}; }}
    QSplitter::handle {{ background: {t.rule.name()}; image: none; height: 1px; }}
    QPushButton:disabled {{ color: {t.faint.name()}; }}
    """


def _tables_and_scrolls(look: Appearance) -> str:
    t, px = look.theme, look.px
    return f"""
    QTableView {{ background: transparent; border: none; selection-background-color: {t.mark_ground.name()};
        selection-color: {t.ink.name()}; outline: none; }}
    QTableView::item {{ border-bottom: 1px solid {t.rule.name()}; padding: 0 {px(6)}px; }}
    QTableView::item:selected {{ background: {t.mark_ground.name()}; color: {t.ink.name()}; }}
    QTableView:focus {{ border: 1px solid {t.mark.name()}; }}
    QHeaderView, QTableView {{ background: transparent; font-size: {look.font("small").pointSizeF()}pt; }}
    QHeaderView::section {{ background: transparent; color: {t.dim.name()}; border: none;
        border-bottom: 1px solid {t.rule.name()}; padding: {px(2)}px {px(6)}px; }}
    QScrollArea, QScrollArea > QWidget > QWidget {{ background: transparent; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: {px(8)}px; }}
    QScrollBar:horizontal {{ background: transparent; height: {px(8)}px; }}
    QScrollBar::handle {{ background: {t.rule.name()}; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page {{ background: none; height: 0; width: 0; }}
    QProgressBar {{ background: {t.sunken.name()}; border: none; height: {px(4)}px; }}
    QProgressBar::chunk {{ background: {t.mark.name()}; }}
    """
