"""What of a run goes into which kind of file."""

from __future__ import annotations

from pathlib import Path

from warm_ember.battery.emulation import emulation
from warm_ember.errors import BadArgumentError
from warm_ember.model.fold import FoldPlan
from warm_ember.report import tables
from warm_ember.report.contents import PAGE_TABLES, TABLES
from warm_ember.report.more_tables import more_table
from warm_ember.report.writing import TABLE_ENDINGS, check_ending, check_target, copy_file, write_batches, write_table
from warm_ember.session.session import Session
from warm_ember.signal.series import Progress, ShouldStop, ignore_progress, never
from warm_ember.signal.stretch import snap


def export(
    session: Session,
    name: str,
    what: str,
    path: Path,
    *,
    plan: FoldPlan | None = None,
    stretch: tuple[float | None, float | None] = (None, None),
    should_stop: ShouldStop = never,
    progress: Progress = ignore_progress,
) -> None:
    """Write a part of what is known of a capture to a file.

    Parameters
    ----------
    session, name
        The open project and the capture.
    what
        One of `TABLES`.
    path
        Ending in ``.csv`` or ``.parquet``; a capture also in ``.h5``.
    plan
        How to fold; the project's, else a default one.
    stretch
        From when to when, for a capture.

    Raises
    ------
    BadArgumentError
        If `what` or the ending is not known, the stretch is reversed or outside, there is nothing to fold, or the
        file belongs to the project.
    BadFileError
        If the capture cannot be read or the file cannot be written.
    Cancelled
        If `should_stop` answered yes; no file is left then.
    """
    if what not in TABLES:
        raise BadArgumentError(f"cannot export {what!r}; there are: {', '.join(TABLES)}")
    check_target(path, session.folder.path)
    check_ending(path, (*TABLE_ENDINGS, ".h5") if what == "capture" else TABLE_ENDINGS)
    project, capture = session.project, session.capture(name)
    if what == "capture" and path.suffix.lower() == ".h5":
        if stretch != (None, None):
            raise BadArgumentError("a capture goes to HDF5 as a whole: leave --from and --to out")
        copy_file(capture.path, path)
    elif what == "capture":
        begin, end = stretch
        first, last = snap(capture.current, begin or 0.0, capture.duration_s if end is None else end)
        batches = tables.capture_batches(capture, first, last, should_stop=should_stop)
        write_batches(path, tables.capture_schema(capture), batches, progress=progress)
    elif what in PAGE_TABLES:
        write_table(more_table(session, name, what, should_stop), path)
    elif what == "brackets":
        brackets = project.brackets_of(name)
        readings = [capture.reading(b.from_s, b.to_s, supply_v=project.supply_v) for b in brackets]
        write_table(tables.brackets_table(brackets, readings), path)
    elif what == "notes":
        write_table(tables.notes_table(project.notes_of(name)), path)
    elif what == "ledger":
        write_table(tables.ledger_table(session.results.ledger(project, name, should_stop)), path)
    elif what == "crossings":
        write_table(tables.transitions_table(session.states.transitions(project, name, should_stop).changes), path)
    elif what == "wakes":
        write_table(tables.wakes_table(session.results.wake_ledger(project, name, should_stop=should_stop)), path)
    elif what == "kinds":
        write_table(tables.kinds_table(session.results.kinds(project, name, should_stop)), path)
    elif what == "functions":
        functions = session.states.functions(project, name, should_stop=should_stop)
        if functions is None:
            raise BadArgumentError(f"{name} holds no trace of the program: import it with --itm and --elf")
        write_table(tables.functions_table(functions), path)
    elif what == "battery":
        write_table(tables.battery_table(emulation(project.battery)), path)
    elif what == "plan":
        write_table(tables.plan_table(session.tuning.plan(project, name, should_stop)), path)
    elif what == "findings":
        write_table(tables.findings_table(session.results.findings(project, name, should_stop)), path)
    else:
        chosen = plan or session.results.fold_plan(project, name, should_stop)
        folded = session.results.fold(project, name, chosen, should_stop)
        write_table(tables.fold_table(folded) if what == "fold" else tables.cycles_table(folded), path)
