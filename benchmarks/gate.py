"""Speed of the gate: a capture of 10^8 samples, whose summary exists, compared with limits.

    .venv/bin/python benchmarks/gate.py [SAMPLES]

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
from kinds import row, write

from warm_ember.model.project import Run
from warm_ember.session.session import Session

LIMITS = """\
[average]
max_a = 1
[life]
min_months = 0.001
[findings]
forbid = ["clipped"]
[measurement]
max_missing = 0.01
max_unplaced = 0.01
"""
ROUNDS = 3


def main() -> None:
    """Write a capture and compare it with limits, each time in a program of its own, as a build does."""
    samples = int(float(sys.argv[1])) if len(sys.argv) > 1 else 100_000_000
    with tempfile.TemporaryDirectory() as folder:
        project, limits = Path(folder) / "p", Path(folder) / "limits.toml"
        (project / "captures").mkdir(parents=True)
        session = Session.open_or_create(project)
        write(session.folder.capture_path("long"), samples)
        session.add_run(Run("long"))
        session.save()
        session.close()
        for name, text in (("average and shares", LIMITS.partition("[findings]")[0]), ("findings as well", LIMITS)):
            limits.write_text(text)
            command = [ROOT / "warm-ember", "gate", project, "long", "--limits", limits]
            taken = []
            for _ in range(ROUNDS):
                start = time.perf_counter()
                code = subprocess.run(command, stdout=subprocess.DEVNULL, check=False).returncode
                taken.append(time.perf_counter() - start)
                assert code == 0, code
            row(f"gate on {samples:.0e} samples, {name}", f"{float(np.median(taken)):.2f} s", "2 s")


if __name__ == "__main__":
    main()
