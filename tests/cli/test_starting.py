"""How soon a command answers: what it does not need it does not load."""

import subprocess
import sys
from pathlib import Path

import pytest

from warm_ember.cli.app import COMMANDS

SLOW = ("numpy", "h5py", "pyarrow", "scipy", "pydantic", "PySide6", "matplotlib", "duckdb", "pyvisa")
PROGRAM = """
import sys
from warm_ember.cli.app import run
codes = [run(arguments) for arguments in {arguments}]
print(codes, [name for name in {slow} if name in sys.modules], file=sys.stderr)
"""


def loaded(*arguments: list[str]) -> str:
    """Run commands one after the other, and return their exit codes and which slow libraries they loaded."""
    program = PROGRAM.format(arguments=list(arguments), slow=SLOW)
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    return done.stderr.splitlines()[-1]


@pytest.mark.parametrize("command", COMMANDS)
def test_help_and_errors_in_arguments_wait_for_no_library(command: str) -> None:
    assert loaded([command, "--help"], [command, "--there-is-no-such-option"]) == "[0, 2] []"


def test_a_reading_loads_what_reads_and_nothing_of_the_analysis(demo_path: Path) -> None:
    arguments = ["stretch", str(demo_path), "r5", "--from", "1", "--to", "2", "--json"]
    assert loaded(arguments) == "[0] ['numpy', 'h5py']"
