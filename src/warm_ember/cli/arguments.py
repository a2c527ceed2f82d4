"""Arguments and options that several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

ProjectArgument = Annotated[Path, typer.Argument(metavar="PROJECT", help="The project's folder.", show_default=False)]
NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="The capture's name.", show_default=False)]
JsonOption = Annotated[bool, typer.Option("--json", help="Print one JSON object.")]
