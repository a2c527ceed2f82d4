"""The graph of results: each computed once, and remembered with what it read of the project and of the captures."""

from __future__ import annotations

import inspect
import threading
from collections import Counter, OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from functools import wraps
from typing import Any, Concatenate, ParamSpec, Protocol, TypeVar, cast

from warm_ember.errors import Cancelled, WarmEmberError
from warm_ember.model.project import Project
from warm_ember.session.footprint import Footprint
from warm_ember.signal.series import ShouldStop, never
from warm_ember.store.capture import Capture

T = TypeVar("T")
P = ParamSpec("P")

MOST_BYTES = 128 << 20
_MOST_OF_ONE = 32
_LOOK_S = 0.05

Question = Callable[..., Any]
Reads = dict[tuple[Question, tuple[Hashable, ...]], Any]
"""Questions about a project, as functions of it and arguments, with their answers."""


def _field_of(project: Project, name: str) -> Any:
    return getattr(project, name)


class ProjectView:
    """A project as a result function sees it: it reads like the project, and notes what was read.

    Parameters
    ----------
    project
        The project.

    Attributes
    ----------
    project
        The project itself, for the graph alone: what is read there is not noted.
    reads
        What was read, with what it was.
    """

    def __init__(self, project: Project) -> None:
        self.project = project
        self.reads: Reads = {}
        self.is_open = True

    def __getattr__(self, name: str) -> Any:
        if callable(getattr(Project, name, None)):
            method = getattr(Project, name)
            return lambda *arguments: self.ask(method, *arguments)
        return self.ask(_field_of, name)

    def ask(self, question: Question, *arguments: Hashable) -> Any:
        """Return the answer to a question about the project, and note question and answer."""
        if not self.is_open:
            raise RuntimeError("a project was read by a result that was already there")
        answer = question(self.project, *arguments)
        self.reads[question, arguments] = answer
        return answer


def look_up(project: Project, question: Callable[Concatenate[Project, ...], T], *arguments: Hashable) -> T:
    """Return the answer to a question, on which a result depends alone, not on all that is read for it.

    Parameters
    ----------
    project
        The project, or the view of it that a result function was given.
    question
        A quick function of a project and the arguments. It is asked again to find out whether the result still holds,
        so it has to be the same object each time: a function of a module, no closure.
    *arguments
        What else it is given.
    """
    if isinstance(project, ProjectView):
        return cast("T", project.ask(question, *arguments))
    return question(project, *arguments)


@dataclass(eq=False)
class _Kept:
    key: Hashable
    reads: Reads
    value: Any
    footprint: Footprint


@dataclass(eq=False)
class _Running:
    view: ProjectView
    askers: list[ShouldStop] = field(default_factory=list)
    is_done: bool = False

    def should_stop(self) -> bool:
        """Return whether nobody waits for it any more."""
        return all(asker() for asker in tuple(self.askers))


class ResultGraph:
    """Results by what they are of and by what they read; safe to ask from several threads.

    A result is computed once however many ask for it at the same time; it stops when all of them want it to. What was
    not asked for the longest is forgotten when all together hold too much memory; the newest stays, whatever it holds.

    Parameters
    ----------
    open_capture
        Opens a capture by its name.
    most_bytes
        How much may be held.
    """

    def __init__(self, open_capture: Callable[[str], Capture], most_bytes: int = MOST_BYTES) -> None:
        self._open_capture = open_capture
        self._most_bytes = most_bytes
        self._kept: dict[Hashable, list[_Kept]] = {}
        self._by_age: OrderedDict[int, _Kept] = OrderedDict()
        self._holders: Counter[int] = Counter()
        self.held_bytes = 0
        self._running: dict[Hashable, list[_Running]] = {}
        self._changed = threading.Condition()

    def capture(self, project: Project, name: str) -> Capture:
        """Open a capture for a result, which holds as long as the capture is that one."""
        if isinstance(project, ProjectView):
            project.ask(self._identity_of, name)
        return self._open_capture(name)

    def _identity_of(self, _project: Project, name: str) -> Hashable:
        return self._open_capture(name).identity

    def get_or_compute(
        self,
        key: Hashable,
        project: Project,
        work: Callable[[Project, ShouldStop], T],
        should_stop: ShouldStop = never,
    ) -> T:
        """Return what is known under a key and holds for a project, else compute it.

        Parameters
        ----------
        key
            What the result is of, beside the project.
        project
            The project, or the view of it that another result is computed with: that one then depends on all that
            this one read.
        work
            Computes it from a view of the project.
        should_stop
            Whether this asker no longer wants it.

        Raises
        ------
        Cancelled
            If `should_stop` answered yes.
        """
        mine = project.project if isinstance(project, ProjectView) else project
        kept = self._find(key, mine) or self._compute(key, mine, work, should_stop)
        if isinstance(project, ProjectView):
            project.reads.update(kept.reads)
        return cast("T", kept.value)

    def forget_captures(self, is_gone: Callable[[Hashable], bool]) -> None:
        """Forget what was computed of captures that are gone.

        Parameters
        ----------
        is_gone
            Says so of a capture's identity.
        """
        with self._changed:
            for kept in tuple(self._by_age.values()):
                if any(
                    question == self._identity_of and is_gone(answer) for (question, _), answer in kept.reads.items()
                ):
                    self._forget(kept)

    def _find(self, key: Hashable, project: Project) -> _Kept | None:
        with self._changed:
            known = tuple(self._kept.get(key, ()))
        for kept in reversed(known):
            if _holds(kept.reads, project):
                with self._changed:
                    if id(kept) in self._by_age:
                        self._by_age.move_to_end(id(kept))
                return kept
        return None

    def _compute(
        self, key: Hashable, project: Project, work: Callable[[Project, ShouldStop], Any], should_stop: ShouldStop
    ) -> _Kept:
        while True:
            running, is_mine = self._begin_or_join(key, project, should_stop)
            try:
                kept = self._work(key, running, work) if is_mine else self._wait_for(key, running, project, should_stop)
            finally:
                with self._changed:
                    running.askers.remove(should_stop)
            if should_stop():
                raise Cancelled("stopped")
            if kept is not None:
                return kept

    def _begin_or_join(self, key: Hashable, project: Project, should_stop: ShouldStop) -> tuple[_Running, bool]:
        """Join who computes the same, as far as can be told; else begin."""
        with self._changed:
            others = tuple(self._running.get(key, ()))
        for running in others:
            if running.view.project is project or _holds(dict(running.view.reads), project):
                with self._changed:
                    running.askers.append(should_stop)
                return running, False
        with self._changed:
            if tuple(self._running.get(key, ())) == others:
                running = _Running(ProjectView(project), [should_stop])
                self._running.setdefault(key, []).append(running)
                return running, True
        return self._begin_or_join(key, project, should_stop)

    def _work(self, key: Hashable, running: _Running, work: Callable[[Project, ShouldStop], Any]) -> _Kept | None:
        try:
            known = self._find(key, running.view.project)  # somebody was quicker
            if known is not None:
                return known
            value = work(cast("Project", running.view), running.should_stop)
            return self._keep(_Kept(key, dict(running.view.reads), value, Footprint(value)))
        finally:
            running.view.is_open = False
            with self._changed:
                running.is_done = True
                others = [one for one in self._running[key] if one is not running]
                if others:
                    self._running[key] = others
                else:
                    del self._running[key]
                self._changed.notify_all()

    def _wait_for(self, key: Hashable, running: _Running, project: Project, should_stop: ShouldStop) -> _Kept | None:
        with self._changed:
            while not running.is_done:
                if should_stop():
                    raise Cancelled("stopped")
                self._changed.wait(_LOOK_S)
        return self._find(key, project)

    def _keep(self, kept: _Kept) -> _Kept:
        with self._changed:
            self._kept.setdefault(kept.key, []).append(kept)
            self._by_age[id(kept)] = kept
            self.held_bytes += kept.footprint.rest_bytes
            for array, size in kept.footprint.arrays.items():
                self._holders[array] += 1
                self.held_bytes += size if self._holders[array] == 1 else 0
            if len(self._kept[kept.key]) > _MOST_OF_ONE:
                self._forget(self._kept[kept.key][0])
            while self.held_bytes > self._most_bytes and len(self._by_age) > 1:
                self._forget(next(iter(self._by_age.values())))
        return kept

    def _forget(self, kept: _Kept) -> None:
        del self._by_age[id(kept)]
        self.held_bytes -= kept.footprint.rest_bytes
        for array, size in kept.footprint.arrays.items():
            self._holders[array] -= 1
            if not self._holders[array]:
                del self._holders[array]
                self.held_bytes -= size
        left = [one for one in self._kept[kept.key] if one is not kept]
        if left:
            self._kept[kept.key] = left
        else:
            del self._kept[kept.key]


def _holds(reads: Reads, project: Project) -> bool:
    """Return whether a project answers all questions as another did."""
    for (question, arguments), answer in reads.items():
        try:
            now = question(project, *arguments)
        except WarmEmberError:  # a capture that is gone
            return False
        if now is not answer and now != answer:
            return False
    return True


class _HasGraph(Protocol):
    @property
    def graph(self) -> ResultGraph: ...


def remembered(function: Callable[P, T]) -> Callable[P, T]:
    """Make a method a result: computed once for all that it reads of the project, and remembered.

    Parameters
    ----------
    function
        Its parameters are self, which has a graph, the project, what the result is of, hashable, and `should_stop`. It
        sees a view of the project and must read nothing else that may change; captures come from
        `ResultGraph.capture`.
    """
    signature = inspect.signature(function)

    @wraps(function)
    def ask(*args: P.args, **kwargs: P.kwargs) -> T:
        asked = signature.bind(*args, **kwargs)
        asked.apply_defaults()
        owner: _HasGraph
        (_, owner), (_, project), *about = asked.arguments.items()
        should_stop: ShouldStop = asked.arguments["should_stop"]
        of = {name: value for name, value in about if name != "should_stop"}

        def work(view: Project, stop: ShouldStop) -> T:
            return cast("Callable[..., T]", function)(owner, view, **of, should_stop=stop)

        return owner.graph.get_or_compute((function, *of.values()), project, work, should_stop)

    return ask
