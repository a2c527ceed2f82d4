"""Runs of projects into a data set: one after the other, on this machine's processors, or on a cluster."""

from __future__ import annotations

import logging
import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from warm_ember.errors import BadArgumentError, Cancelled, WarmEmberError
from warm_ember.fleet.data_set import DataSet
from warm_ember.library.record import Record
from warm_ember.memory import keep_freed_memory
from warm_ember.signal.series import ShouldStop, never

if TYPE_CHECKING:
    from distributed import Client

log = logging.getLogger(__name__)

_TAG = re.compile(r"[A-Za-z][A-Za-z0-9_]{0,63}\Z")
_MAY_BE_TAGGED = frozenset({"commit", "board", "firmware"})
_LONGEST_TAG = 200
_FEW = 2
_LOOK_S = 0.5


class Collected(Record, frozen=True, kw_only=True):
    """What became of one run: ``written``, ``there`` already, or ``failed`` with the reason."""

    project: str
    run: str
    state: str
    reason: str | None = None


class Collection(Record, frozen=True, kw_only=True):
    """What became of all runs of a collection."""

    ROWS: ClassVar[str] = "runs"

    data_set: str
    written: int
    there: int
    failed: int
    runs: tuple[Collected, ...]


class _Task(Record, frozen=True, kw_only=True):
    """One run to collect, as it is sent to whoever does it."""

    project: str
    run: str
    data_set: str
    tags: tuple[tuple[str, str], ...]
    merged: frozenset[str]


def collect(
    data_set: str,
    projects: Sequence[Path | str],
    *,
    tags: Mapping[str, str] | None = None,
    jobs: int | None = None,
    scheduler: str | None = None,
    on_done: Callable[[Collected, int], object] | None = None,
    should_stop: ShouldStop = never,
) -> Collection:
    """Analyse all runs of projects and write them into a data set; what is there already is left as it is.

    Parameters
    ----------
    data_set
        Its folder, or an address that fsspec reads.
    projects
        Their folders.
    tags
        What is written beside every row; ``commit``, ``board`` and ``firmware`` take the place of what captures say.
    jobs
        How many at a time on this machine; as many as it has processors by default.
    scheduler
        Address of a Dask scheduler in their place. Its workers must see projects and data set under the same paths.
    on_done
        Called with what became of each run, and of how many it is one.
    should_stop
        Whether to stop; what was written stays, and the next time goes on from there.

    Raises
    ------
    BadArgumentError
        If a tag or a choice is impossible.
    ProjectError
        If a project cannot be opened.
    BadFileError
        If no data set can be at the address.
    Cancelled
        If `should_stop` answered yes.
    """
    check_tags(tags or {})
    if jobs is not None and (jobs < 1 or scheduler is not None):
        raise BadArgumentError("--jobs is a number of 1 or more, and goes without --scheduler")
    tasks = _tasks(DataSet(data_set), projects, tags or {})
    found: list[Collected] = []
    for one in _done(tasks, jobs or len(os.sched_getaffinity(0)), scheduler):
        if should_stop():
            raise Cancelled("stopped")
        found.append(one)
        if on_done is not None:
            on_done(one, len(tasks))
    DataSet(data_set).merge()
    order = {(task.project, task.run): at for at, task in enumerate(tasks)}
    found.sort(key=lambda one: order[one.project, one.run])
    states = [one.state for one in found]
    return Collection(
        data_set=data_set,
        written=states.count("written"),
        there=states.count("there"),
        failed=states.count("failed"),
        runs=tuple(found),
    )


def check_tags(tags: Mapping[str, str]) -> None:
    """Check what is to be written beside every row.

    Raises
    ------
    BadArgumentError
        If a tag has no name of letters, digits and ``_``, the name of a column that there is, or an endless value.
    """
    from warm_ember.library.collected_rows import columns

    taken = columns() - _MAY_BE_TAGGED
    for key, value in tags.items():
        if not _TAG.match(key):
            raise BadArgumentError(f"a tag's name is of letters, digits and _, found {key!r}")
        if key.lower() in taken:
            raise BadArgumentError(f"there is a column {key!r} already: choose another name for the tag")
        if not value or len(value) > _LONGEST_TAG or not value.isprintable():
            raise BadArgumentError(f"the tag {key} needs a value of up to {_LONGEST_TAG} printable characters")


def _tasks(data_set: DataSet, projects: Sequence[Path | str], tags: Mapping[str, str]) -> list[_Task]:
    from warm_ember.library.project import Project

    merged = data_set.merged_hashes()
    tasks = {}
    for path in projects:
        with Project.open(path) as project:  # what was interrupted is finished first, once
            folder = str(project.path.resolve())
            for run in (one.name for one in project.session.project.rungs):
                tasks[folder, run] = _Task(
                    project=folder, run=run, data_set=data_set.address, tags=tuple(tags.items()), merged=merged
                )
    return list(tasks.values())


def _done(tasks: Sequence[_Task], jobs: int, scheduler: str | None) -> Iterator[Collected]:
    """Yield what became of the tasks, in the order in which they are done."""
    jobs = min(jobs, len(tasks))
    if scheduler is None and jobs < _FEW:
        yield from map(collect_run, tasks)
        return
    from distributed import as_completed

    with ExitStack() as opened:
        client = opened.enter_context(_own(opened, jobs) if scheduler is None else _reached(scheduler))
        by_future = {client.submit(collect_run, task, pure=False, retries=1): task for task in tasks}
        for future in as_completed(by_future):
            task = by_future[future]
            if future.status == "finished":
                yield future.result()
            else:  # its worker died with it, twice
                yield _failed(task, f"it could not be analysed ({future.exception()!r})")


def _own(opened: ExitStack, jobs: int) -> Client:
    import dask
    from distributed import Client, LocalCluster

    # Workers look at themselves a hundred times a second otherwise, which takes a tenth of their time.
    opened.enter_context(dask.config.set({"distributed.worker.profile.enabled": False}))
    cluster = LocalCluster(
        n_workers=jobs, threads_per_worker=1, dashboard_address="127.0.0.1:0", silence_logs=logging.ERROR
    )
    return Client(opened.enter_context(cluster))


def _reached(scheduler: str) -> Client:
    from distributed import Client

    try:
        return Client(scheduler, timeout="10s")
    except (OSError, ValueError, TimeoutError) as error:
        raise BadArgumentError(f"no scheduler answers at {scheduler}: {error}") from error


def collect_run(task: _Task) -> Collected:
    """Analyse one run and write it, unless it is there."""
    from warm_ember.library.collected_rows import firmware_of, rows_of, run_hash
    from warm_ember.library.project import Project
    from warm_ember.session.session import Session

    keep_freed_memory()  # the program does that at its start; a worker on a cluster is another one
    data_set, tags = DataSet(task.data_set), dict(task.tags)
    try:
        with Project(Session.open(Path(task.project))) as project:
            capture = project.session.capture(task.run)
            firmware, identity = firmware_of(capture, tags), run_hash(capture, project.session.project)
            if identity in task.merged or data_set.holds(firmware, identity):
                return Collected(project=task.project, run=task.run, state="there")
            data_set.write(firmware, identity, rows_of(project, task.run, identity, tags))
    except WarmEmberError as error:
        return _failed(task, error.one_line)
    except Exception as error:  # one capture must not end the others
        log.exception("a bug in the program, while %s of %s was collected", task.run, task.project)
        return _failed(task, f"a bug in the program ({type(error).__name__}: {error})")
    return Collected(project=task.project, run=task.run, state="written")


def _failed(task: _Task, reason: str) -> Collected:
    return Collected(project=task.project, run=task.run, state="failed", reason=reason)
