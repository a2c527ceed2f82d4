"""Nothing is lost, by the script that tries to lose it, in small; by hand it tries every write, and for long."""

from __future__ import annotations

import signal
import time
from pathlib import Path

import fault_cases
import fault_mutations
import fault_programs
import fault_tracer
import pytest

Fault = fault_tracer.Fault

POINTS = 7


@pytest.mark.skipif(not fault_tracer.can_trace(), reason="no process may be traced here")
@pytest.mark.parametrize("fault", [Fault.KILL, Fault.FULL], ids=str)
@pytest.mark.parametrize("case", fault_cases.CASES, ids=lambda case: case.name)
def test_a_fault_at_a_write_loses_nothing(tmp_path: Path, case, fault) -> None:
    if fault is Fault.FULL and not fault_tracer.can_fill():
        pytest.skip("a full disk cannot be played on this machine")
    prepared = tmp_path / "prepared"
    prepared.mkdir()
    case.prepare(prepared)
    writes = fault_cases.count_writes(case.work, tmp_path / "count", case.prepare)
    assert writes > 5
    for point in {writes * turn // POINTS for turn in range(POINTS + 1)}:
        ended, lost = fault_cases.try_fault(case, fault, point, prepared, tmp_path / "work")
        assert not lost, (point, ended, lost)


def test_ten_programs_on_one_project_lose_nothing(tmp_path: Path) -> None:
    tried, lost = fault_programs.ten_programs(tmp_path)
    assert tried == 120
    assert not lost


def test_a_new_name_is_had_by_one_program(tmp_path: Path) -> None:
    _, lost = fault_programs.one_name(tmp_path, programs=4, turns=1)
    assert not lost


@pytest.mark.parametrize(
    ("number", "fault"),
    [(signal.SIGTERM, "none"), (signal.SIGHUP, "drip"), (signal.SIGKILL, "none")],
)
def test_whatever_ends_a_recording_its_output_goes_off(tmp_path: Path, number: int, fault: str) -> None:
    off_s, code, err, kept = fault_programs.end_recording(tmp_path, number, fault_programs.FaultMode(fault))
    assert off_s is not None, err  # within 2 s on a quiet machine, as the script measures it
    assert code == (-number if number == signal.SIGKILL else 128 + number)
    assert kept > 0
    if number != signal.SIGKILL:
        assert err.count("\n") == 1


def test_mutated_files_are_read_or_refused(tmp_path: Path) -> None:
    for what, tried, wrong, _ in fault_mutations.all_readers(tmp_path, 140, 1, time.monotonic() + 600):
        assert tried
        assert not wrong, (what, wrong)
