"""Copying: text as text, and as a table for programs that take one; a view as a picture."""

from __future__ import annotations

import html

from PySide6.QtCore import QMimeData, QPoint
from PySide6.QtGui import QGuiApplication, QImage, QPainter
from PySide6.QtWidgets import QWidget

_SHARPNESS = 2


def copy_text(text: str) -> None:
    """Copy text; where it is a table, as HTML as well, which office programs paste as cells."""
    data = QMimeData()
    data.setText(text)
    if "\t" in text:
        data.setHtml(table_html(text))
    QGuiApplication.clipboard().setMimeData(data)


def table_html(text: str) -> str:
    r"""Return lines of cells as an HTML table; a line without cells is one that goes across.

    Examples
    --------
    >>> table_html("a\tb<c")
    '<table><tr><td>a</td><td>b&lt;c</td></tr></table>'
    """
    rows = [line.split("\t") for line in text.splitlines()]
    most = max((len(row) for row in rows), default=1)

    def cells(row: list[str]) -> str:
        if len(row) == 1:
            return f'<td colspan="{most}">{html.escape(row[0])}</td>'
        return "".join(f"<td>{html.escape(cell)}</td>" for cell in row)

    return "<table>" + "".join(f"<tr>{cells(row)}</tr>" for row in rows) + "</table>"


def copy_picture(view: QWidget) -> None:
    """Copy what a view shows as a picture, twice as sharp as on the screen."""
    picture = QImage(view.size() * _SHARPNESS, QImage.Format.Format_RGB32)
    picture.setDevicePixelRatio(_SHARPNESS)
    painter = QPainter(picture)
    view.render(painter, QPoint())
    painter.end()
    QGuiApplication.clipboard().setImage(picture)
