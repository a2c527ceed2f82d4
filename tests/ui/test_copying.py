"""Copying: tables as cells, views as pictures."""

from __future__ import annotations

from html.parser import HTMLParser

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from warm_ember.ui.look.copying import copy_text, table_html
from warm_ember.ui.shell.window import MainWindow

cells = st.text(st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp")), min_size=1, max_size=8)


class Cells(HTMLParser):
    """Reads a table back."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.rows: list[list[str]] = []
        self.tags: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        if tag == "tr":
            self.rows.append([])
        if tag == "td":
            self.rows[-1].append("")

    def handle_data(self, data: str) -> None:
        self.rows[-1][-1] += data


@given(st.lists(st.lists(cells, min_size=2, max_size=4), min_size=1, max_size=4))
def test_a_table_comes_back_from_its_html(rows: list[list[str]]) -> None:
    read = Cells(table_html("\n".join("\t".join(row) for row in rows)))
    assert read.rows == rows
    assert read.tags <= {"table", "tr", "td"}


def test_tables_are_copied_as_text_and_as_cells(qapp: QApplication) -> None:
    copy_text("a\tb\nall of it")
    data = QApplication.clipboard().mimeData()
    assert data.text() == "a\tb\nall of it"
    assert Cells(data.html()).rows == [["a", "b"], ["all of it"]]
    copy_text("only words")
    assert not QApplication.clipboard().mimeData().hasHtml()


@pytest.mark.all_runs
def test_the_view_that_has_the_keyboard_is_copied_as_a_picture(window: MainWindow, qtbot: QtBot, settle) -> None:
    window.show_page("Runs")
    settle()
    window.pages.runs.history.setFocus(Qt.FocusReason.TabFocusReason)
    size = window.pages.runs.history.size()
    window.exports.copy_picture()  # which is then told in a line that makes the page lower
    picture = QApplication.clipboard().image()
    assert picture.size() == size * 2
    colours = {picture.pixel(x, y) for x in range(0, picture.width(), 7) for y in range(0, picture.height(), 7)}
    assert len(colours) > 8
    window.pages.runs.setFocus()
    settle()
    size = window.pages.runs.size()
    window.exports.copy_picture()
    assert QApplication.clipboard().image().size() == size * 2
