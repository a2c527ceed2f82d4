"""Text as the readers of tables take it: ASCII-compatible, with line ends, without what a cut power left behind."""

from __future__ import annotations

import codecs
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from warm_ember.errors import BadFileError

_HEAD_BYTES = 1 << 16
_PART_BYTES = 1 << 20
_MARKS = ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be"))


@dataclass(frozen=True)
class PlainText:
    """A text file, or a copy of it that can be read in the same way as any.

    Parameters
    ----------
    path
        What to read.
    encoding
        ``"utf-8"`` or ``"latin-1"``.
    first_byte, last_byte
        Where the text lies in it.
    notes
        What is odd about it.
    copy
        Keeps a copy as long as it is needed; None where the file itself is read.
    """

    path: Path
    encoding: str
    first_byte: int
    last_byte: int
    notes: tuple[str, ...] = ()
    copy: IO[bytes] | None = None


def plain_text(path: Path) -> PlainText:
    """Open a text file.

    Parameters
    ----------
    path
        UTF-8 with or without a byte-order mark, UTF-16 with one, else Latin-1; with any line ends.

    Raises
    ------
    BadFileError
        If it is empty, or holds no text.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(_HEAD_BYTES)
    if not head.strip(b"\0 \t\r\n\x0b\x0c"):
        raise BadFileError(path, "the file is empty" if not head.strip() else "expected text, found nothing but zeros")
    marked = next((encoding for mark, encoding in _MARKS if head.startswith(mark)), None)
    if marked is not None:
        return _copied(path, marked, f"{marked[:6].upper()} text")
    last_byte, notes = _without_zeros(path, size)
    if b"\0" in head[:last_byte]:
        where = f"byte {head.index(0)}"
        raise BadFileError(
            path,
            "expected text, found binary data",
            where=where,
            remedy="raw numbers need the format of their samples (--format)",
        )
    start = 3 if head.startswith(codecs.BOM_UTF8) else 0
    if b"\n" not in head and b"\r" in head:
        return _copied(path, _encoding(head[start:]), "lines that end in CR alone", start, last_byte)
    return PlainText(path, _encoding(head[start:]), start, last_byte, notes)


def _without_zeros(path: Path, size: int) -> tuple[int, tuple[str, ...]]:
    """Return where zeros begin that a file ends in: what was being written when the power was cut."""
    end = size
    with path.open("rb") as file:
        while end > 0:
            first = max(end - _PART_BYTES, 0)
            file.seek(first)
            kept = file.read(end - first).rstrip(b"\0")
            if kept:
                end = first + len(kept)
                break
            end = first
    notes = (f"{size - end} bytes of zeros at the end left out: the writing was cut off",) if end < size else ()
    return end, notes


def _encoding(head: bytes) -> str:
    try:
        head.decode("utf-8")
    except UnicodeDecodeError as error:
        # A character cut in two by the end of what was read is no sign of another encoding.
        if error.start < len(head) - 4:
            return "latin-1"
    return "utf-8"


def _copied(path: Path, encoding: str, what: str, first: int = 2, last: int | None = None) -> PlainText:
    """Write a copy in UTF-8 with line feeds."""
    copy = tempfile.NamedTemporaryFile(prefix="warm-ember-", suffix=".txt")  # noqa: SIM115 - lives as long as the text
    decoder = codecs.getincrementaldecoder(encoding)(errors="replace")
    left = (path.stat().st_size if last is None else last) - first
    was_return = False
    with path.open("rb") as file:
        file.seek(first)
        while left > 0:
            part = file.read(min(_PART_BYTES, left))
            left -= len(part)
            if not part:
                break
            text = decoder.decode(part, final=left <= 0).replace("\0", "")
            # A pair of carriage return and line feed may lie across two parts.
            skip = was_return and text.startswith("\n")
            was_return = text.endswith("\r")
            text = (text[1:] if skip else text).replace("\r\n", "\n").replace("\r", "\n")
            copy.write(text.encode("utf-8"))
    copy.flush()
    size = Path(copy.name).stat().st_size
    return PlainText(Path(copy.name), "utf-8", 0, size, (f"{what}, read as such",), copy)
