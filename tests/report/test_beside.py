"""What is computed beside is what would be computed here, whatever becomes of the copy."""

import subprocess
import sys
import threading

import pytest

from warm_ember.errors import BadArgumentError
from warm_ember.report.beside import Beside

PROGRAM = """
import os, sys, threading
from warm_ember.report.beside import Beside

here = os.getpid()

def work():
    if {dies} and os.getpid() != here:
        os._exit(3)
    if {fails}:
        raise ValueError("impossible")
    return os.getpid() == here, sum(range(10))

with Beside(work) as beside:
    try:
        print(*beside.result())
    except ValueError as error:
        print(error)
print(threading.active_count())
"""


@pytest.mark.parametrize(
    ("dies", "fails", "said"),
    [(False, False, "False 45"), (True, False, "True 45"), (False, True, "impossible"), (True, True, "impossible")],
)
def test_a_program_of_one_thread_gets_a_copy(dies: bool, fails: bool, said: str) -> None:
    program = PROGRAM.format(dies=dies, fails=fails)
    run = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
    assert (run.stdout.splitlines(), run.stderr) == ([said, "1"], "")


def test_no_copy_is_made_of_a_program_with_threads() -> None:
    asked, go_on = [], threading.Event()
    other = threading.Thread(target=go_on.wait)
    other.start()
    try:
        with Beside(lambda: asked.append(threading.get_ident())) as beside:
            assert not asked  # not before it is wanted
            beside.result()
        assert asked == [threading.get_ident()]
        with Beside(lambda: asked.append(0)):
            pass
        assert len(asked) == 1  # nobody wanted it

        def impossible() -> None:
            raise BadArgumentError("this cannot be")

        with Beside(impossible) as beside, pytest.raises(BadArgumentError, match="cannot be"):
            beside.result()
    finally:
        go_on.set()
        other.join()
