"""The graph of results: what is read is what counts, once however many ask, and never more memory than said."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from session.small import make_small, write_capture
from warm_ember.errors import BadFileError, Cancelled
from warm_ember.model.project import Project, Run
from warm_ember.session.footprint import Footprint
from warm_ember.session.graph import ResultGraph, look_up, remembered
from warm_ember.signal.series import ShouldStop, never

WAIT_S = 20.0


def no_captures(name: str):
    raise BadFileError(Path(name), "there is none")


def first_name(project: Project) -> str:
    return project.runs[0].name if project.runs else ""


class Counted:
    """Results that count how often they are computed."""

    def __init__(self) -> None:
        self.graph = ResultGraph(no_captures)
        self.computed: list[str] = []

    @remembered
    def title(self, project: Project, should_stop: ShouldStop = never) -> str:
        self.computed.append("title")
        return f"{project.name} of {look_up(project, first_name)}"

    @remembered
    def outer(self, project: Project, ending: str, should_stop: ShouldStop = never) -> str:
        self.computed.append("outer")
        if project.target_s is None:
            return ending
        return f"{self.title(project, should_stop)} in {project.target_s}{ending}"


def test_a_result_holds_as_long_as_what_it_read() -> None:
    results, project = Counted(), Project(name="one", target_s=1.0)
    change = msgspec.structs.replace
    assert results.outer(project, "!") == results.outer(project, ending="!") == "one of  in 1.0!"
    assert results.computed == ["outer", "title"]
    results.outer(change(project, supply_v=3.0), "!")  # nobody read it
    results.outer(change(project), "!")
    assert results.computed == ["outer", "title"]
    assert results.outer(change(project, target_s=2.0), "!") == "one of  in 2.0!"
    assert results.computed == ["outer", "title", "outer"]
    assert results.outer(change(project, name="two"), "!") == "two of  in 1.0!"  # read by what it asked for
    with_run = change(project, runs=(Run("a"),))
    assert results.outer(with_run, "!") == "one of a in 1.0!"
    before = len(results.computed)
    results.outer(change(with_run, runs=(Run("a", title="A"), Run("b"))), "!")  # the answer is the same
    results.outer(project, "!")  # as after undo
    assert len(results.computed) == before
    assert results.outer(change(project, name="two", target_s=None), "?") == "?"
    results.outer(change(project, name="three", target_s=None), "?")  # the name was not even looked at
    assert len(results.computed) == before + 1


def test_a_project_is_not_read_after_its_result_is_there() -> None:
    graph, kept = ResultGraph(no_captures), []
    graph.get_or_compute("lazy", Project(name="one"), lambda project, _: kept.append(project))
    with pytest.raises(RuntimeError, match="already there"):
        _ = kept[0].name


@given(sizes=st.lists(st.integers(0, 400), max_size=40))
def test_no_more_memory_is_held_than_said(sizes: list[int]) -> None:
    graph, shared = ResultGraph(no_captures, most_bytes=100_000), np.zeros(2000)
    for number, size in enumerate(sizes):
        graph.get_or_compute(number, Project(), lambda _project, _stop, size=size: (np.zeros(size), shared, shared[5:]))
    assert graph.held_bytes <= 100_000
    assert graph.held_bytes >= (16_000 if sizes else 0)
    assert graph.get_or_compute("x", Project(), lambda _project, _stop: 1) == 1


def test_what_is_larger_than_all_memory_is_kept_until_something_else_comes() -> None:
    graph, made = ResultGraph(no_captures, most_bytes=1000), []

    def large(_project: Project, _stop: ShouldStop) -> np.ndarray:
        made.append(1)
        return np.zeros(1000)

    for _ in range(2):
        graph.get_or_compute("large", Project(), large)
    assert len(made) == 1
    graph.get_or_compute("small", Project(), lambda _project, _stop: 1)
    assert graph.held_bytes < 1000
    graph.get_or_compute("large", Project(), large)
    assert len(made) == 2


def test_a_footprint_counts_arrays_once_and_long_containers_by_their_beginning() -> None:
    @dataclass(frozen=True)
    class Record:
        values: np.ndarray
        names: tuple[str, ...]

    values = np.zeros(10_000)
    found = Footprint([Record(values, ()), Record(values[::2], tuple(f"name {k:06d}" for k in range(50_000)))])
    assert sum(found.arrays.values()) == values.nbytes
    assert 50_000 * 50 < found.rest_bytes < 50_000 * 90


def in_threads(*works: Callable[[], object]) -> list[threading.Thread]:
    threads = [threading.Thread(target=work, daemon=True) for work in works]
    for thread in threads:
        thread.start()
    return threads


def test_what_many_ask_for_at_once_is_computed_once() -> None:
    graph, begun, go = ResultGraph(no_captures), threading.Event(), threading.Event()
    computed, answers = [], []

    def slow(project: Project, _stop: ShouldStop) -> str:
        computed.append(project.name)
        begun.set()
        assert go.wait(WAIT_S)
        return project.name

    project = Project(name="one")
    ask = lambda: answers.append(graph.get_or_compute("slow", project, slow))  # noqa: E731
    threads = in_threads(ask)
    assert begun.wait(WAIT_S)
    threads += in_threads(
        ask, ask, lambda: answers.append(graph.get_or_compute("slow", Project(name="one", supply_v=1.0), slow))
    )
    other = graph.get_or_compute(
        "slow", Project(name="two"), lambda project, _: project.name
    )  # not held up by the others
    go.set()
    for thread in threads:
        thread.join(WAIT_S)
    assert (answers, other, computed) == (["one"] * 4, "two", ["one"])


def test_who_no_longer_wants_it_fails_nobody_else() -> None:
    graph, begun = ResultGraph(no_captures), threading.Event()
    given_up, joined, answers = threading.Event(), threading.Event(), {}

    def slow(_project: Project, should_stop: ShouldStop) -> str:
        begun.set()
        assert joined.wait(WAIT_S)
        given_up.set()
        if should_stop():
            raise Cancelled("nobody wants it")
        return "there"

    def asking(who: str, should_stop: ShouldStop) -> None:
        try:
            answers[who] = graph.get_or_compute("slow", Project(), slow, should_stop)
        except Cancelled:
            answers[who] = "cancelled"

    def stays() -> bool:
        joined.set()  # asked while it waits
        return False

    def leaves() -> bool:
        return given_up.is_set()

    threads = in_threads(lambda: asking("first", leaves))
    assert begun.wait(WAIT_S)
    threads += in_threads(lambda: asking("second", stays))
    for thread in threads:
        thread.join(WAIT_S)
    assert answers["first"] == "cancelled"  # though it was computed in its own thread
    assert answers["second"] == "there"


def test_what_fails_is_told_to_each_who_asks_and_tried_again() -> None:
    graph, tries = ResultGraph(no_captures), []

    def failing(_project: Project, _stop: ShouldStop) -> None:
        tries.append(1)
        raise BadFileError(Path("x"), "broken")

    for _ in range(2):
        with pytest.raises(BadFileError):
            graph.get_or_compute("failing", Project(), failing)
    assert len(tries) == 2


def test_a_capture_that_was_replaced_is_computed_anew(tmp_path: Path) -> None:
    with make_small(tmp_path / "p") as session:
        before = session.run("a")
        assert session.run("a") is before
        path = session.folder.capture_path("a")
        graph, gone = session.results.graph, session.capture("a").identity
        session.forget_capture("a")
        assert not [kept for kept in graph._by_age.values() if gone in kept.reads.values()]
        path.unlink()
        write_capture(path, 0, 1e-4)
        assert session.run("a").ledger.row("Sleep").mean.value == pytest.approx(1e-4, rel=1e-2)
        assert session.run("b") is session.run("b")
