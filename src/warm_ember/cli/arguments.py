"""Arguments and options that several commands share."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated

import typer

from warm_ember.errors import BadArgumentError

ProjectArgument = Annotated[Path, typer.Argument(metavar="PROJECT", help="The project's folder.", show_default=False)]
NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The capture's name.", show_default=False)]
JsonOption = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
DataSetArgument = Annotated[
    str,
    typer.Argument(
        metavar="DATASET", help="The data set: a folder, or an address that fsspec reads.", show_default=False
    ),
]


def pairs(option: str, given: Sequence[str]) -> dict[str, str]:
    """Return what an option gave as ``KEY=VALUE``, by key.

    Raises
    ------
    BadArgumentError
        If one has no ``=``.
    """
    found = {}
    for one in given:
        key, is_pair, value = one.partition("=")
        if not is_pair:
            raise BadArgumentError(f"{option} expects KEY=VALUE, found {one!r}")
        found[key] = value
    return found
