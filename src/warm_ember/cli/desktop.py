"""``warm-ember desktop``: the program in the menu, its kinds of files, its manual, and completion in a shell."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer

from warm_ember.cli.output import print_line


class What(StrEnum):
    """What is to be done."""

    INSTALL = "install"
    REMOVE = "remove"


def desktop(what: Annotated[What, typer.Argument(metavar="install|remove", help="What is to be done.")]) -> None:
    """Install the menu entry, file types, manual page and shell completion for this user, or remove them."""
    from warm_ember.cli.command_words import command_words
    from warm_ember.desktop.installing import install, remove

    done = (install if what is What.INSTALL else remove)(command_words())
    word = "written" if what is What.INSTALL else "removed"
    for path in done:
        print_line(f"{word}: {path}")
    if not done:
        print_line("nothing was installed")
