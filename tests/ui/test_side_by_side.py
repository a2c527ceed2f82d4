"""Two views beside each other, or one below the other where there is no room for both."""

from __future__ import annotations

import pytest
from PySide6.QtWidgets import QApplication, QScrollArea, QWidget
from pytestqt.qtbot import QtBot

from warm_ember.ui.look.theme import NIGHT, Appearance
from warm_ember.ui.widgets.side_by_side import SideBySide


def scrolled(height: int) -> QScrollArea:
    held = QWidget()
    held.setMinimumSize(100, height)
    scroll = QScrollArea()
    scroll.setWidgetResizable(True)
    scroll.setWidget(held)
    return scroll


@pytest.mark.parametrize("answers_left", [True, False])
def test_the_answer_stands_on_top_where_there_is_no_room_for_both(qtbot: QtBot, answers_left: bool) -> None:
    left, right = scrolled(500), scrolled(300)
    both = SideBySide(Appearance(NIGHT), (left, 1), (right, 1), 600, left if answers_left else right)
    qtbot.addWidget(both)
    both.resize(800, 400)
    both.show()
    qtbot.waitExposed(both)
    assert both.is_wide
    assert (left.y(), right.y()) == (0, 0)
    assert left.width() == right.width() == 400
    both.resize(500, 1000)
    QApplication.processEvents()
    assert not both.is_wide
    upper, lower = (left, right) if answers_left else (right, left)
    assert upper.y() < lower.y()
    assert left.height() >= 500  # nothing is scrolled within a page that is scrolled
    assert right.height() >= 300
    assert both.minimumSizeHint().height() >= 800
    left.widget().setMinimumHeight(700)  # what comes later gets its room too
    QApplication.processEvents()
    assert left.minimumHeight() >= 700
    both.resize(800, 400)
    QApplication.processEvents()
    assert both.is_wide
    assert both.minimumSizeHint().height() < 400
