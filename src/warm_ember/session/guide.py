"""The guide: a chapter for the start and one for each page, searched by words."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib import resources
from pathlib import Path


@dataclass(frozen=True)
class Chapter:
    """A chapter.

    Parameters
    ----------
    title
        Its heading, which is the title of the page that it is about.
    text
        All of it, as Markdown.
    """

    title: str
    text: str

    def fits(self, wanted: str) -> bool:
        """Return whether all of some words stand in it."""
        there = self.text.casefold()
        return all(word in there for word in wanted.casefold().split())


@cache
def chapters() -> tuple[Chapter, ...]:
    """Return the chapters in their order."""
    found = []
    files = (one for one in resources.files("warm_ember").joinpath("guide").iterdir() if one.name.endswith(".md"))
    for file in sorted(files, key=lambda one: one.name):
        text = file.read_text(encoding="utf-8")
        found.append(Chapter(text.splitlines()[0].removeprefix("# ").strip(), text))
    return tuple(found)


def picture(name: str) -> bytes:
    """Return a picture of the guide, PNG; nothing where there is none."""
    file = resources.files("warm_ember").joinpath("screenshots").joinpath(Path(name).name)
    return file.read_bytes() if file.is_file() else b""


def passage(text: str, wanted: str) -> str:
    r"""Return the line of a text in which the first of some words stands.

    Examples
    --------
    >>> passage("# Trace\n\n- Wheel zooms\n- F fits", "zoom")
    'Wheel zooms'
    """
    first = next(iter(wanted.casefold().split()), "")
    line = next((line for line in text.splitlines() if first and first in line.casefold()), "")
    return line.strip().lstrip("-# ").replace("**", "").replace("*", "").replace("`", "")
