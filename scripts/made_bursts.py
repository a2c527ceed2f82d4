"""Made-up devices without a log: bursts of several kinds on a floor, each with what is true of it.

Nothing here is looked up in the product: a kind is a row of currents with lengths, a tail of a capacitor, and a way to
come.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from warm_ember.signal.series import ArraySeries


@dataclass(frozen=True)
class MadeKind:
    """A kind of burst.

    Parameters
    ----------
    steps
        Currents above the floor, A, and lengths, s.
    how
        ``timer``, ``chance``, ``after`` or ``skips``.
    period_s
        Of a timer; mean time between by chance; delay after another kind's beginning.
    jitter
        Of a timer, as a share of its period.
    scatter, stretch
        Relative standard deviations of a burst's current and of the length of its steps.
    tail_s
        Time constant of the capacitor after it; 0 for none.
    after
        Which kind it comes after.
    """

    steps: tuple[tuple[float, float], ...]
    how: str
    period_s: float
    jitter: float
    scatter: float
    stretch: float
    tail_s: float
    after: int = -1


@dataclass(frozen=True, eq=False)
class MadeDevice:
    """A capture with its truth.

    Parameters
    ----------
    current
        The current, A.
    floor_a, noise_a
        Its floor and its noise.
    kinds
        What bursts there are.
    kind, begin_s, end_s, charge_c
        Of each burst, in the order of time; the charge is above the floor.
    """

    current: ArraySeries
    floor_a: float
    noise_a: float
    kinds: tuple[MadeKind, ...]
    kind: np.ndarray
    begin_s: np.ndarray
    end_s: np.ndarray
    charge_c: np.ndarray

    @property
    def duration_s(self) -> float:
        """Length of the capture."""
        return self.current.samples * self.current.interval_s

    def true_charge_c(self, kind: int) -> float:
        """Return the mean charge of a kind as it was meant, whatever was drawn."""
        steps, tail_s = self.kinds[kind].steps, self.kinds[kind].tail_s
        return sum(amps * length_s for amps, length_s in steps) + _TAIL * steps[-1][0] * tail_s


_TAIL = 0.03


def _shape_of(
    random: np.random.Generator, noise_a: float, charge_c: float, longest_s: float
) -> tuple[tuple[float, float], ...]:
    """Return one to four steps that take about a charge."""
    count = int(random.integers(1, 5))
    levels_a = 10 ** random.uniform(-3.2, -0.9, count)
    lengths = random.uniform(0.3, 1.0, count)
    length_s = charge_c / float((levels_a * lengths).sum() / lengths.sum())
    length_s = float(np.clip(length_s, 3e-3, longest_s))
    levels_a = np.maximum(
        levels_a * charge_c / float((levels_a * lengths).sum() / lengths.sum() * length_s), 40 * noise_a
    )
    return tuple(zip(levels_a.tolist(), (lengths / lengths.sum() * length_s).tolist(), strict=True))


def _unlike(one: tuple[tuple[float, float], ...], other: tuple[tuple[float, float], ...]) -> bool:
    """Return whether an experienced eye would tell two kinds apart."""

    def figures(steps: tuple[tuple[float, float], ...]) -> np.ndarray:
        return np.log([sum(a * s for a, s in steps), sum(s for _, s in steps), max(a for a, _ in steps)])

    return bool(np.abs(figures(one) - figures(other)).max() > 0.7)


def make_device(seed: int, *, kinds: int | None = None, rate_hz: float = 5e3) -> MadeDevice:
    """Make a device of so many kinds, two to six where it is not said."""
    random = np.random.default_rng(seed)
    count = int(random.integers(2, 7)) if kinds is None else kinds
    floor_a = 10 ** random.uniform(-5.7, -4.3)
    noise_a = floor_a * random.uniform(0.02, 0.2)
    duration_s = float(random.uniform(150, 500))
    charges_c = 10 ** np.sort(random.uniform(-5.5, -1.5, count))
    made: list[MadeKind] = []
    for number in range(count):
        steps = _shape_of(random, noise_a, float(charges_c[number]), duration_s / 200)
        while not all(_unlike(steps, one.steps) for one in made):
            steps = _shape_of(random, noise_a, float(10 ** random.uniform(-5.5, -1.5)), duration_s / 200)
        length_s = sum(step_s for _, step_s in steps)
        how = str(random.choice(("timer", "timer", "timer", "chance", "skips", "after")))
        too_often = bool(made) and length_s > 0.02 * made[0].period_s
        if how == "after" and (not made or too_often or any(one.how == "after" for one in made)):
            how = "timer"
        period_s = float(max(10 ** random.uniform(0.0, np.log10(duration_s / 8)), 60 * length_s))
        period_s = min(period_s, duration_s / 5)
        if how == "after":
            leader_s = sum(s for _, s in made[0].steps) + 6 * made[0].tail_s
            period_s = leader_s + 1.5 * max(leader_s, length_s) + float(random.uniform(0.05, 0.4))
        made.append(
            MadeKind(
                steps,
                how,
                period_s,
                float(random.choice((0.0, 1e-4, 2e-3, 8e-3))),
                float(random.uniform(0.002, 0.03)),
                float(random.choice((0.0, 0.02, 0.1))),
                float(random.choice((0.0, 2e-3, 1e-2))),
                0 if how == "after" else -1,
            )
        )
    return render(random, tuple(made), floor_a, noise_a, duration_s, rate_hz)


def _begins(random: np.random.Generator, kind: MadeKind, duration_s: float, leaders_s: np.ndarray) -> np.ndarray:
    if kind.how == "after":
        return leaders_s + kind.period_s * (1 + kind.jitter * random.standard_normal(len(leaders_s)))
    if kind.how == "chance":
        gaps_s = random.exponential(kind.period_s, int(3 * duration_s / kind.period_s) + 10)
        return np.cumsum(gaps_s)
    nominal_s = random.uniform(0.05, 1.0) * kind.period_s + np.arange(0, duration_s, kind.period_s)
    nominal_s = nominal_s + kind.jitter * kind.period_s * random.standard_normal(len(nominal_s))
    return nominal_s[random.random(len(nominal_s)) > 0.15] if kind.how == "skips" else nominal_s


def render(
    random: np.random.Generator,
    kinds: tuple[MadeKind, ...],
    floor_a: float,
    noise_a: float,
    duration_s: float,
    rate_hz: float,
) -> MadeDevice:
    """Draw a device's current: bursts add up where they overlap, and none of one kind overlaps its like."""
    samples = round(duration_s * rate_hz)
    above = np.zeros(samples)
    rows, begun = [], []
    for number, kind in enumerate(kinds):
        leaders_s = begun[kind.after] if kind.after >= 0 else np.zeros(0)
        at_s, last_s = [], -1.0
        for begin_s in _begins(random, kind, duration_s, leaders_s).tolist():
            lengths_s = [s * max(1 + kind.stretch * random.standard_normal(), 0.5) for _, s in kind.steps]
            tail_s = 8 * kind.tail_s
            if begin_s < max(last_s, 0.01) or begin_s + sum(lengths_s) + tail_s > duration_s - 0.01:
                continue
            factor = max(1 + kind.scatter * random.standard_normal(), 0.5)
            charge_c, now_s = 0.0, begin_s
            for (amps, _), length_s in zip(kind.steps, lengths_s, strict=True):
                charge_c += _add(above, factor * amps, now_s, now_s + length_s, rate_hz)
                now_s += length_s
            if kind.tail_s:
                charge_c += _add_tail(above, _TAIL * factor * kind.steps[-1][0], now_s, kind.tail_s, rate_hz)
            rows.append((begin_s, now_s, number, charge_c))
            at_s.append(begin_s)
            last_s = now_s + tail_s + 0.02
        begun.append(np.array(at_s))
    rows.sort()
    current = floor_a + above + noise_a * random.standard_normal(samples)
    begin_s, end_s, kind_of, charge_c = (np.array(column) for column in zip(*rows, strict=True))
    return MadeDevice(
        ArraySeries(current.astype(np.float32), 1 / rate_hz),
        floor_a,
        noise_a,
        kinds,
        kind_of.astype(np.int64),
        begin_s,
        end_s,
        charge_c,
    )


def _add(above: np.ndarray, amps: float, from_s: float, to_s: float, rate_hz: float) -> float:
    """Add a step, its ends shared by the samples that they fall into, and return its charge."""
    begin, end = from_s * rate_hz, to_s * rate_hz
    first, last = int(begin), min(int(end), len(above) - 1)
    if first == last:
        above[first] += amps * (end - begin)
    else:
        above[first] += amps * (first + 1 - begin)
        above[first + 1 : last] += amps
        above[last] += amps * (end - last)
    return amps * (to_s - from_s)


def _add_tail(above: np.ndarray, amps: float, from_s: float, constant_s: float, rate_hz: float) -> float:
    first = int(from_s * rate_hz) + 1
    last = min(first + int(8 * constant_s * rate_hz), len(above))
    tail = amps * np.exp(-(np.arange(first, last) / rate_hz - from_s) / constant_s)
    above[first:last] += tail
    return float(tail.sum()) / rate_hz
