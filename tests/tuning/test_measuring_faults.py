"""Faults of the measurement are found where they were put, and not where they were not."""

import numpy as np
import pytest
from scipy.signal import lfilter

from tuning.made_currents import MadeRecording, bursts
from warm_ember.model.finding import FindingKind
from warm_ember.session.demo import demo_project
from warm_ember.session.session import Session
from warm_ember.signal.hum import find_hum
from warm_ember.signal.series import ArraySeries
from warm_ember.tuning.findings.registry import find_all

RATES = (1e3, 10e3, 100e3)


def kinds(values: np.ndarray, rate_hz: float, **info) -> list[str]:
    return [finding.kind.value for finding in find_all(MadeRecording(values, rate_hz, **info))]


def clean_ones(random, rate_hz: float) -> dict[str, np.ndarray]:
    time_s = np.arange(round(20 * rate_hz)) / rate_hz
    made = bursts(random, rate_hz=rate_hz)
    return {
        "plain": made,
        "noiseless": bursts(random, rate_hz=rate_hz, noise_a=0, relative=0),
        "coarse steps below the level": np.rint(made / 5e-6) * 5e-6,
        "wakes at ten hertz": made + 2e-4 * (time_s % 0.1 < 0.003),
        "wakes at fifty hertz": made + 2e-4 * (time_s % 0.02 < 0.003),
        "pulses of four samples": made + 4e-3 * (np.arange(len(made)) % 977 < 4),
        "with holes": np.where(np.arange(len(made)) % 1013 < 5, np.nan, made),
    }


@pytest.mark.parametrize("rate_hz", RATES)
def test_a_clean_capture_has_no_findings(random, rate_hz: float) -> None:
    assert {what: kinds(values, rate_hz) for what, values in clean_ones(random, rate_hz).items()} == {
        what: [] for what in clean_ones(random, rate_hz)
    }


def test_the_demo_runs_are_clean(demo_path) -> None:
    with Session.open(demo_path) as session:
        assert [session.results.quality(session.project, run.name).findings for run in demo_project().runs] == [()] * 5


@pytest.mark.parametrize("rate_hz", RATES)
@pytest.mark.parametrize("step_a", [0.0, 1e-5])
def test_clipping_is_found_where_it_is(random, rate_hz: float, step_a: float) -> None:
    made = bursts(random, rate_hz=rate_hz)
    read = np.rint(made / step_a) * step_a if step_a else made
    found = find_all(MadeRecording(np.minimum(read, 0.1), rate_hz))
    assert {finding.kind for finding in found} == {FindingKind.CLIPPED}
    inside = np.zeros(len(made), dtype=bool)
    for finding in found:
        assert "100 mA" in finding.text
        inside[round(finding.from_s * rate_hz) : round(finding.to_s * rate_hz)] = True
    assert inside[made > 0.101].mean() > 0.95
    assert inside[made < 0.01].mean() < 0.001


def one_level(random, noise_a: float, relative: float = 0.0) -> np.ndarray:
    """Return sleep with bursts of one level, the noise that both have, and nothing in between."""
    time_s = np.arange(100_000) / 10e3
    level = np.where(time_s % 1.0 < 0.1, 0.172, 2e-6)[:99_500]
    return level * (1 + relative * random.standard_normal(len(level))) + noise_a * random.standard_normal(len(level))


@pytest.mark.parametrize("noise_a", [1e-9, 1e-8, 2e-8, 1e-7, 1e-6])
def test_bursts_whose_noise_single_precision_hides_are_not_clipped(random, noise_a: float) -> None:
    assert "clipped" not in kinds(one_level(random, noise_a), 10e3)


@pytest.mark.parametrize(("noise_a", "relative"), [(1e-7, 0.0), (0.0, 0.01)])
def test_clipping_is_suspected_where_only_sleep_shows_noise(random, noise_a: float, relative: float) -> None:
    found = find_all(MadeRecording(np.minimum(one_level(random, noise_a, relative), 0.1)))
    assert {finding.kind for finding in found} == {FindingKind.CLIPPED}


def test_a_cut_end_that_takes_next_to_nothing_is_no_fault(random) -> None:
    made = np.concatenate((one_level(random, 1e-7), np.full(300, 9e-6)))
    assert kinds(made, 10e3) == []


@pytest.mark.parametrize("rate_hz", RATES)
@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"noise_a": 30e-6}, "noise"),
        ({"sleep_a": 0.5e-6, "noise_a": 3e-6}, "noise"),
        ({"sleep_a": -2e-6, "noise_a": 0.5e-6}, "offset"),
        ({"sleep_a": 0.0, "noise_a": 0.0}, ""),
    ],
)
def test_a_level_within_noise_or_offset_is_bounded(random, rate_hz: float, change, why: str) -> None:
    found = find_all(MadeRecording(bursts(random, rate_hz=rate_hz, **change), rate_hz))
    assert [finding.kind for finding in found] == [FindingKind.BELOW_RESOLUTION]
    assert why in found[0].text
    assert "not a measurement" in found[0].text


def test_a_level_below_one_step_or_the_stated_resolution_is_bounded(random) -> None:
    coarse = np.rint(bursts(random) / 50e-6) * 50e-6
    assert kinds(coarse, 10e3) == ["below-resolution"]
    assert kinds(bursts(random), 10e3, resolution_a=20e-6) == ["below-resolution"]


@pytest.mark.parametrize("rate_hz", RATES)
@pytest.mark.parametrize("mains_hz", [50, 60])
@pytest.mark.parametrize("rectified", [False, True])
def test_hum_is_found_with_its_frequency(random, rate_hz: float, mains_hz: int, rectified: bool) -> None:
    time_s = np.arange(round(20 * rate_hz)) / rate_hz
    wave = np.sin(2 * np.pi * mains_hz * time_s)
    found = find_all(
        MadeRecording(bursts(random, rate_hz=rate_hz) + 2e-6 * (abs(wave) if rectified else wave), rate_hz)
    )
    assert [finding.kind for finding in found] == [FindingKind.HUM]
    assert found[0].text.startswith(f"{mains_hz} Hz")
    assert found[0].confidence > 0.8


@pytest.mark.parametrize("rate_hz", RATES)
def test_pulses_of_one_sample_are_undersampled(random, rate_hz: float) -> None:
    made = bursts(random, rate_hz=rate_hz)
    places = random.choice(len(made) - 10, 300, replace=False) + 5
    made[places] += random.uniform(0.2, 1, 300) * 4e-3
    assert kinds(made, rate_hz) == ["undersampled"]


@pytest.mark.parametrize("averages", [True, False])
@pytest.mark.parametrize(("settles", "lasts", "expected"), [
    (0.3, 0.2, ["undersampled"]),
    (0.8, 0.6, ["undersampled"]),
    (1.2, 0.1, ["undersampled"]),
    (0.3, 6.0, []),
    (1.2, 9.0, []),
])  # fmt: skip
def test_short_pulses_are_told_from_long_ones_where_the_instrument_settles(
    random, settles: float, lasts: float, expected: list[str], averages: bool
) -> None:
    finer, rate_hz = 40, 2e3
    fine = bursts(random, rate_hz=finer * rate_hz, noise_a=0)
    for place in np.cumsum(random.uniform(0.05, 0.3, 90) * finer * rate_hz).astype(int):
        fine[place : place + round(lasts * finer)] += random.uniform(1, 3) * 4e-3
    share = 1 - np.exp(-1 / (finer * settles))
    flowing = lfilter([share], [1, share - 1], fine, zi=[fine[0] * (1 - share)])[0][: len(fine) // finer * finer]
    read = flowing.reshape(-1, finer).mean(axis=1) if averages else flowing[::finer]
    assert kinds(read + 1e-7 * random.standard_normal(len(read)), rate_hz) == expected


@pytest.mark.parametrize(
    ("rate_hz", "period_s", "lasts_s"),
    [(1e3, 3 / 49.89, 1.63e-3), (2e3, 3 / 59.88, 3.25e-3), (5e3, 3 / 50.08, 3.02e-3)],
)
def test_pulses_near_a_divisor_of_the_mains_are_no_hum(random, rate_hz: float, period_s: float, lasts_s: float) -> None:
    time_s = np.arange(round(20 * rate_hz)) / rate_hz
    made = 3e-6 + 3e-3 * (time_s % 1.3 < 0.1) + 4e-3 * ((time_s + 0.01) % period_s < lasts_s)
    found = find_hum(ArraySeries((made + 1e-7 * random.standard_normal(len(made))).astype(np.float32), 1 / rate_hz))
    assert found is None


@pytest.mark.parametrize("rate_hz", RATES)
def test_an_activity_without_its_end_is_truncated(random, rate_hz: float) -> None:
    cut_s = 0.4 + 6 * 1.7 + 0.03
    found = find_all(MadeRecording(bursts(random, rate_hz=rate_hz)[: round(cut_s * rate_hz)], rate_hz))
    assert [finding.kind for finding in found] == [FindingKind.TRUNCATED]
    assert found[0].from_s == pytest.approx(0.4 + 6 * 1.7, abs=3e-3)
    assert found[0].to_s == pytest.approx(cut_s, abs=1 / rate_hz)


@pytest.mark.parametrize("rate_hz", RATES[:2])
def test_readings_that_break_out_at_range_changes_are_found(random, rate_hz: float) -> None:
    made = bursts(random, rate_hz=rate_hz)
    edges = np.flatnonzero(np.abs(np.diff(made)) > 0.03)
    made[edges + 1] = -0.05
    assert set(kinds(made, rate_hz)) == {"range-glitch"}


def test_the_command_lists_findings(tmp_path, command, random) -> None:
    np.minimum(bursts(random), 0.1).astype("<f4").tofile(tmp_path / "c.f32")
    assert command("import", tmp_path / "p", tmp_path / "c.f32", "--rate", "10000")[0] == 0
    code, out, _ = command("findings", tmp_path / "p", "c", "--json")
    assert code == 0
    assert '"kind":"clipped"' in out
    assert '"cost_a":null' in out
    assert "clipped from" in command("findings", tmp_path / "p", "c")[1]


@pytest.mark.parametrize("values", [[], [1e-3], [np.nan] * 50, [0.0] * 50, [1e-3] * 5])
def test_tiny_and_empty_captures_are_judged_without_fuss(values) -> None:
    assert set(kinds(np.array(values, dtype=float), 1e3)) <= {"below-resolution"}
