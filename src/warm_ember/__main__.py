"""Start of the program."""

from __future__ import annotations

import logging
import sys


def main() -> None:
    """Run the command line and leave with its exit code."""
    logging.basicConfig(level=logging.ERROR, format="%(message)s", handlers=[logging.NullHandler()])
    from warm_ember.cli.app import run

    sys.exit(run(sys.argv[1:]))


if __name__ == "__main__":
    main()
