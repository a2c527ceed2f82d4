"""Start of the program."""

from __future__ import annotations

import io
import logging
import os
import sys
from pathlib import Path

from warm_ember.memory import keep_freed_memory


def main() -> None:
    """Run the command line and leave with its exit code."""
    logging.basicConfig(level=logging.ERROR, format="%(message)s", handlers=[logging.NullHandler()])
    logging.captureWarnings(capture=True)  # what a library warns of goes to the log, not between a command's lines
    keep_freed_memory()
    _prepare_streams()
    from warm_ember.cli.app import run

    code = run(sys.argv[1:])
    try:
        sys.stdout.flush()
    except OSError:
        # Whoever read the output is gone; the interpreter would complain about it once more at its end.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    sys.exit(code)


def _prepare_streams() -> None:
    """Let text be written wherever it goes: to a closed stream, which takes nothing, or to one without our letters."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, Path(os.devnull).open("w", encoding="utf-8"))  # noqa: SIM115 - for the program's whole life
        elif isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")


if __name__ == "__main__":
    main()
