"""Tables of figures: sorted by value whatever they say, known by the rows that they were given."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeySequence
from pytestqt.qtbot import QtBot

from ui.driving import LEFT
from warm_ember.ui.look.theme import NIGHT, Appearance
from warm_ember.ui.widgets.figure_table import FigureTable

VALUES = st.lists(st.floats(-1e9, 1e9), max_size=40)


@pytest.fixture
def table(qtbot: QtBot) -> FigureTable:
    table = FigureTable(Appearance(NIGHT), ("name", "charge"), largest_first=1)
    table.resize(400, 300)
    qtbot.addWidget(table)
    table.show()
    return table


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(VALUES, VALUES)
def test_rows_stand_in_the_order_of_their_values(table: FigureTable, first: list[float], then: list[float]) -> None:
    for values in (first, then):
        table.show_rows(
            [[(f"r{k}", f"r{k}"), (lambda value=value: f"{value:g} C", value)] for k, value in enumerate(values)]
        )
        shown = [int(table.cell_text(place, 0)[1:]) for place in range(table.row_count())]
        assert sorted(shown) == list(range(len(values)))
        assert [values[row] for row in shown] == sorted(values, reverse=True)
        assert all(table.cell_text(place, 1) == f"{values[row]:g} C" for place, row in enumerate(shown))


def test_what_is_selected_stays_when_it_is_sorted(table: FigureTable, qtbot: QtBot) -> None:
    table.show_rows([[(name, name), (str(value), value)] for name, value in (("a", 2.0), ("b", 3.0), ("c", 1.0))])
    table.selectRow(0)
    assert table.selected_row() == 1
    head = table.horizontalHeader()
    for column in (1, 0, 0):
        qtbot.mouseClick(head.viewport(), LEFT, pos=head.rect().center() if column else head.rect().topLeft())
        assert table.selected_row() == 1
    asked: list[int] = []
    table.row_asked.connect(asked.append)
    qtbot.keyClick(table, Qt.Key.Key_Return)
    assert asked == [1]
    qtbot.keyClick(table, *_keys(QKeySequence.StandardKey.Copy))
    lines = QGuiApplication.clipboard().text().splitlines()
    assert lines[0] == "name\tcharge"
    assert sorted(lines[1:]) == ["a\t2.0", "b\t3.0", "c\t1.0"]


def test_a_hundred_thousand_rows_make_the_texts_that_are_seen(table: FigureTable) -> None:
    made: list[int] = []

    def text(number: int) -> str:
        made.append(number)
        return str(number)

    table.show_rows([[("x", "x"), (lambda k=k: text(k), float(k))] for k in range(100_000)])
    table.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    table.grab()
    assert table.cell_text(0, 1) == "0"
    assert len(made) < 200


def _keys(standard: QKeySequence.StandardKey) -> tuple[Qt.Key, Qt.KeyboardModifier]:
    combined = QKeySequence(standard)[0]
    return combined.key(), combined.keyboardModifiers()
