"""Which captures files stand for, with what lies beside each of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from warm_ember.session.importing import ImportRequest

_BESIDE = {"lines": (".vcd",), "stream": (".itm", ".swo"), "program": (".elf", ".axf", ".out")}


def requests_for(paths: list[Path], name_of: Callable[[str], str]) -> list[ImportRequest]:
    """Put captures together with the logs, line dumps, trace streams and programs beside them.

    Parameters
    ----------
    paths
        What was dropped or chosen: ``night.csv``, ``night.events.csv``, ``night.vcd``, ``night.itm``, ``post.elf``.
    name_of
        A capture name that is not taken, for a wanted one.
    """
    logs = {path.name.split(".")[0]: path for path in paths if ".events." in path.name}
    by_kind = {kind: {p.stem: p for p in paths if p.suffix.lower() in endings} for kind, endings in _BESIDE.items()}
    beside = [logs, *by_kind.values()]
    captures = [path for path in paths if not any(path in found.values() for found in beside)]
    alone = len(captures) == 1

    def of(path: Path, found: dict[str, Path]) -> Path | None:
        return found.get(path.stem) or (next(iter(found.values()), None) if alone else None)

    def program(path: Path) -> Path | None:
        """One program may have run in all of the captures."""
        programs = by_kind["program"]
        return of(path, programs) or (next(iter(programs.values())) if len(programs) == 1 else None)

    return [
        ImportRequest(
            path,
            name=name_of(path.stem),
            events_file=of(path, logs),
            lines_file=of(path, by_kind["lines"]),
            trace_file=of(path, by_kind["stream"]),
            elf_file=program(path) if of(path, by_kind["stream"]) else None,
        )
        for path in captures
    ]
