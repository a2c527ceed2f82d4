"""What the firmware believes of its sleep, and what the current shows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from warm_ember.attribution.recording import Recording
from warm_ember.model.arrays import Flags, Indices
from warm_ember.model.placement import UNPLACED, Alignment, Placement
from warm_ember.signal.bands import band_stays
from warm_ember.signal.intervals import interval_sums
from warm_ember.signal.levels import Levels
from warm_ember.signal.series import CHUNK_SAMPLES, ShouldStop, never

SHORTEST_S = 1e-3
_HYSTERESIS = 0.2
_CLEARLY_ABOVE = 1.5
_MOST_PLACES = 200


@dataclass(frozen=True, slots=True)
class Marker:
    """How the firmware says that it sleeps, and what counts as awake.

    Parameters
    ----------
    line, asleep_when_high
        The line that says it; without one the log's ``sleep`` and ``wake`` events do.
    threshold_a
        At and above this the current shows a core that is awake, A; found when None.
    """

    line: str = ""
    asleep_when_high: bool = False
    threshold_a: float | None = None

    @property
    def words(self) -> str:
        """What it is."""
        level = "high" if self.asleep_when_high else "low"
        return f"line {self.line}, asleep when {level}" if self.line else "the log's sleep and wake events"


@dataclass(frozen=True, slots=True)
class AgreementRow:
    """One combination of belief and current.

    Parameters
    ----------
    believed_asleep, drew_asleep
        What the firmware says, and what the current shows.
    count
        Number of stretches.
    time_s, charge_c
        All together.
    mean_a
        None without time.
    """

    believed_asleep: bool
    drew_asleep: bool
    count: int
    time_s: float
    charge_c: float
    mean_a: float | None

    @property
    def agrees(self) -> bool:
        """Whether both say the same."""
        return self.believed_asleep == self.drew_asleep


@dataclass(frozen=True, slots=True)
class Disagreement:
    """A stretch in which belief and current differ: where it lies, what was believed, and what it took.

    The mean is over what was measured, None where nothing was.
    """

    from_s: float
    to_s: float
    believed_asleep: bool
    charge_c: float
    mean_a: float | None


@dataclass(frozen=True, eq=False)
class SleepAgreement:
    """All four combinations.

    Parameters
    ----------
    rows
        Agreement first, then asleep by belief and awake by the current, then the other way round.
    marker
        What the belief was taken from, in words.
    threshold_a
        At and above this the current shows a core that is awake.
    places
        Where they disagree; the most charge first.
    """

    rows: tuple[AgreementRow, ...]
    marker: str
    threshold_a: float
    places: tuple[Disagreement, ...]


def default_threshold_a(levels: Levels, asleep_a: float | None = None) -> float | None:
    """Return a current between sleep and running: midway, on the scale of decades, to the next level found above sleep.

    Parameters
    ----------
    levels
        The levels of the current.
    asleep_a
        What sleep should draw; the lowest level when None. With it a sleep that draws too much counts as awake.

    Returns
    -------
    float or None
        None where there is no level clearly above sleep.
    """
    centres = np.maximum(levels.centres_a, levels.scale_a)
    if not len(centres):
        return None
    lowest = float(centres[0]) if asleep_a is None else asleep_a
    above = centres[centres >= _CLEARLY_ABOVE * lowest]
    return math.sqrt(lowest * float(above[0])) if len(above) else None


def compare_sleep(
    recording: Recording,
    alignment: Alignment,
    threshold_a: float,
    marker: Marker,
    *,
    shortest_s: float = SHORTEST_S,
    should_stop: ShouldStop = never,
) -> SleepAgreement | None:
    """Hold the firmware's marker against the current.

    Parameters
    ----------
    recording
        The capture.
    alignment
        The log's clock on the capture's.
    threshold_a
        What is drawn asleep lies below it.
    marker
        What says that the firmware believes to sleep.
    shortest_s
        Shorter stretches of the current do not count: they are the ways in and out.

    Returns
    -------
    SleepAgreement or None
        None when the firmware says nothing of its sleep.

    Raises
    ------
    Cancelled
        If `should_stop` answered yes.
    """
    current = recording.current
    asleep = _believed(recording, alignment, marker)
    if asleep is None or not len(asleep):
        return None
    awake = band_stays(
        current, threshold_a, math.inf, hysteresis=_HYSTERESIS, shortest_s=shortest_s, should_stop=should_stop
    )
    edges = np.unique(np.concatenate(([0, current.samples], asleep.ravel(), awake.ravel())))
    edges = edges[(edges >= 0) & (edges <= current.samples)]
    believed, drew_awake = _within(edges[:-1], asleep), _within(edges[:-1], awake)
    sums = interval_sums(current, edges, should_stop=should_stop)
    charge_c = sums.total * current.interval_s
    length_s = np.diff(edges) * current.interval_s
    # Edges of the log are no better than its clock, and a change of current takes its time: slivers are no news.
    told = length_s >= shortest_s
    rows = []
    for believes, shows in ((True, True), (False, False), (True, False), (False, True)):
        here = (believed == believes) & (drew_awake != shows)
        here &= told | (believes == shows)
        time_s, charge = float(length_s[here].sum()), float(charge_c[here].sum())
        measured_s = float(sums.count[here].sum()) * current.interval_s
        rows.append(
            AgreementRow(believes, shows, int(here.sum()), time_s, charge, charge / measured_s if measured_s else None)
        )
    differ = np.flatnonzero((believed == drew_awake) & told)
    worst = differ[np.argsort(-charge_c[differ], kind="stable")][:_MOST_PLACES]
    at_s = edges * current.interval_s

    def disagreement(k: int) -> Disagreement:
        mean_a = float(sums.total[k] / sums.count[k]) if sums.count[k] else None
        return Disagreement(float(at_s[k]), float(at_s[k + 1]), bool(believed[k]), float(charge_c[k]), mean_a)

    places = tuple(disagreement(k) for k in worst.tolist())
    return SleepAgreement(tuple(rows), marker.words, threshold_a, places)


def state_asleep(recording: Recording, placement: Placement, marker: Marker, alignment: Alignment) -> str | None:
    """Return the state in which the firmware believes to sleep for the longest; None when it says nothing of it."""
    asleep = _believed(recording, alignment, marker)
    if asleep is None or not len(asleep) or not placement.names:
        return None
    middles = (asleep[:, 0] + asleep[:, 1]) // 2
    state = placement.state[np.searchsorted(placement.edges, middles, side="right") - 1]
    placed = state != UNPLACED
    if not placed.any():
        return None
    lengths = np.bincount(state[placed], (asleep[:, 1] - asleep[:, 0])[placed], len(placement.names))
    return placement.names[int(np.argmax(lengths))]


def _believed(recording: Recording, alignment: Alignment, marker: Marker) -> Indices | None:
    if marker.line:
        return _by_line(recording, marker.line, marker.asleep_when_high)
    return _by_log(recording, alignment)


def _by_log(recording: Recording, alignment: Alignment) -> Indices | None:
    return None if alignment.is_unusable else logged_sleep(recording, alignment)


def logged_sleep(recording: Recording, alignment: Alignment) -> Indices:
    """Return where the log says that the device sleeps, first and last-plus-one sample, shape ``(stretches, 2)``."""
    samples, interval_s = recording.current.samples, recording.current.interval_s
    stretches: list[tuple[float, float]] = []
    # A log that begins with a wake was begun asleep.
    first = next((event.event for event in recording.events if event.event in ("sleep", "wake")), "")
    since = -math.inf if first == "wake" else None
    for event in recording.events:
        if event.event == "sleep" and since is None:
            since = event.time_s
        elif event.event == "wake" and since is not None:
            stretches.append((since, event.time_s))
            since = None
    if since is not None:
        stretches.append((since, math.inf))
    mapped = np.array([[alignment.to_capture(a), alignment.to_capture(b)] for a, b in stretches]).reshape(-1, 2)
    index = np.clip(np.rint(mapped / interval_s), 0, samples).astype(np.int64)
    return index[index[:, 1] > index[:, 0]]


def _by_line(recording: Recording, name: str, asleep_when_high: bool) -> Indices | None:
    lines = recording.lines
    if lines is None or name not in lines.names:
        return None
    bit, changes, before = lines.names.index(name), [], False
    for first in range(0, lines.samples, CHUNK_SAMPLES):
        bits = lines.read(first, min(first + CHUNK_SAMPLES, lines.samples))
        asleep: Flags = ((bits >> bit & 1) > 0) == asleep_when_high
        changes.append(np.flatnonzero(np.diff(asleep, prepend=before)) + first)
        before = bool(asleep[-1])
    found = np.concatenate(changes)
    return np.append(found, lines.samples)[: (len(found) + 1) // 2 * 2].reshape(-1, 2)


def _within(starts: Indices, stretches: Indices) -> Flags:
    """Flag the intervals that begin within one of the stretches."""
    if not len(stretches):
        return np.zeros(len(starts), dtype=bool)
    at = np.searchsorted(stretches[:, 0], starts, side="right") - 1
    return np.asarray((at >= 0) & (starts < stretches[np.maximum(at, 0), 1]))
