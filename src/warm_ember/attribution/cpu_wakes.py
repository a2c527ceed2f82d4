"""Wakes of single CPUs, as a kernel trace tells them: each CPU wakes and sleeps independently, several at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from warm_ember.model.arrays import Floats, Indices
from warm_ember.model.capture import Event

_MARK = "cpu="


@dataclass(frozen=True, eq=False)
class CpuSpans:
    """Wakes and idle stretches by CPU, in samples, each ordered by its beginning.

    Parameters
    ----------
    first, last, cpu, source
        The wakes.
    idle_first, idle_last, idle_cpu, idle_s, mode
        The idle stretches, with their lengths to the trace's resolution.
    """

    first: Indices
    last: Indices
    cpu: Indices
    source: list[str]
    idle_first: Indices
    idle_last: Indices
    idle_cpu: Indices
    idle_s: Floats
    mode: list[str]

    def only(self, cpu: int) -> CpuSpans:
        """Return what one CPU does."""
        mine, idle = self.cpu == cpu, self.idle_cpu == cpu
        return CpuSpans(
            self.first[mine],
            self.last[mine],
            self.cpu[mine],
            [name for name, one in zip(self.source, mine.tolist(), strict=True) if one],
            self.idle_first[idle],
            self.idle_last[idle],
            self.idle_cpu[idle],
            self.idle_s[idle],
            [name for name, one in zip(self.mode, idle.tolist(), strict=True) if one],
        )


def cpus_of(events: Sequence[Event]) -> dict[int, list[Event]]:
    """Return the wakes and sleeps of each CPU; none when the log does not tell CPUs apart."""
    found: dict[int, list[Event]] = {}
    for event in events:
        if event.event in ("wake", "sleep") and event.value.startswith(_MARK):
            number = event.value.removeprefix(_MARK)
            if number.isdigit():
                found.setdefault(int(number), []).append(event)
    return found


def cpu_spans(
    by_cpu: dict[int, list[Event]], to_capture: Callable[[float], float], interval_s: float, samples: int, unknown: str
) -> CpuSpans:
    """Pair each CPU's wakes with its sleeps; what lies outside the capture, or is cut off by its ends, is left out."""
    wakes: list[tuple[int, int, int, str]] = []
    idle: list[tuple[int, int, int, float, str]] = []
    for cpu, events in by_cpu.items():
        told = sorted((to_capture(e.time_s), e.event, e.name) for e in events)
        before: tuple[float, str, str] | None = None
        for time_s, kind, name in told:
            if not -0.5 <= time_s / interval_s <= samples:
                before = None
                continue
            if before is not None and before[1] != kind:
                first = round(before[0] / interval_s)
                last = max(round(time_s / interval_s), first + 1)
                if kind == "sleep":
                    wakes.append((first, last, cpu, before[2]))
                else:
                    idle.append((first, last, cpu, time_s - before[0], before[2]))
            if before is None or before[1] != kind:
                before = (time_s, kind, name or unknown)
    wakes.sort()
    idle.sort()
    ends = np.array([wake[:3] for wake in wakes], dtype=np.int64).reshape(-1, 3)
    idle_ends = np.array([one[:3] for one in idle], dtype=np.int64).reshape(-1, 3)
    idle_s = np.array([one[3] for one in idle], dtype=np.float64)
    sources, modes = [wake[3] for wake in wakes], [one[4] for one in idle]
    return CpuSpans(
        ends[:, 0],
        ends[:, 1],
        ends[:, 2],
        sources,
        idle_ends[:, 0],
        idle_ends[:, 1],
        idle_ends[:, 2],
        idle_s,
        modes,
    )


def covered(first: Indices, last: Indices, edges: Indices) -> Indices:
    """Count how many spans lie over each interval between edges.

    Parameters
    ----------
    first, last
        Ends of the spans, shapes ``(n,)``; all of them are among the edges.
    edges
        Rising, shape ``(m,)``.

    Returns
    -------
    Indices
        Shape ``(m - 1,)``.
    """
    steps = np.zeros(len(edges), dtype=np.int64)
    np.add.at(steps, np.searchsorted(edges, first), 1)
    np.add.at(steps, np.searchsorted(edges, last), -1)
    return np.asarray(np.cumsum(steps)[:-1])
