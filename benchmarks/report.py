"""Speed of a report: the demo's five runs as HTML and as PDF, each time in a program of its own.

    .venv/bin/python benchmarks/report.py

Each figure is printed with the limit it is held to.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "src"))

import numpy as np
from kinds import row

from warm_ember.session.demo import make_demo

ROUNDS = 3


def main() -> None:
    """Make the demo and report on it."""
    with tempfile.TemporaryDirectory() as folder:
        project = Path(folder) / "post"
        make_demo(project).close()
        for ending in (".html", ".pdf"):
            taken = []
            for _ in range(ROUNDS):
                start = time.perf_counter()
                subprocess.run([ROOT / "warm-ember", "report", project, "-o", Path(folder) / f"r{ending}"], check=True)
                taken.append(time.perf_counter() - start)
            row(f"report of the demo as {ending}", f"{float(np.median(taken)):.2f} s", "5 s")


if __name__ == "__main__":
    main()
