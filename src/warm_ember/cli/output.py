"""What the commands print: one JSON object, or tables of text."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from typing import Any

from warm_ember.units import THIN_SPACE


def print_json(content: Any) -> None:
    """Print one JSON object; what is not finite becomes null, and what an output cannot show is escaped."""
    from warm_ember.library.record import json_bytes

    text = json_bytes(content).decode()
    encoding = getattr(sys.stdout, "encoding", None) or "utf-8"
    if text.encode(encoding, "replace").decode(encoding, "replace") != text:
        text = json.dumps(json.loads(text))
    sys.stdout.write(text + "\n")


def print_line(text: str = "") -> None:
    """Print a line of text; what would steer a terminal is shown as a dot, the space within numbers as a plain one."""
    shown = text.replace(THIN_SPACE, " ")
    sys.stdout.write("".join(c if c.isprintable() else "·" for c in shown) + "\n")


def print_lines(lines: Iterable[str]) -> None:
    """Print lines of text."""
    for line in lines:
        print_line(line)


def print_table(header: Sequence[str], rows: Sequence[Sequence[object]], *, left: int = 1) -> None:
    """Print columns, the first `left` of them flush left and the rest flush right."""
    table = [[str(cell) for cell in row] for row in (header, *rows)]
    widths = [max(len(row[column]) for row in table) for column in range(len(header))]
    for row in table:
        cells = [
            cell.ljust(width) if column < left else cell.rjust(width)
            for column, (cell, width) in enumerate(zip(row, widths, strict=True))
        ]
        print_line("  ".join(cells).rstrip())
