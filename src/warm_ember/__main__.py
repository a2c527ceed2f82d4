"""Start of the program."""

from __future__ import annotations

import logging
import sys

from warm_ember.memory import keep_freed_memory


def main() -> None:
    """Run the command line and leave with its exit code."""
    logging.basicConfig(level=logging.ERROR, format="%(message)s", handlers=[logging.NullHandler()])
    keep_freed_memory()
    from warm_ember.cli.app import run

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
