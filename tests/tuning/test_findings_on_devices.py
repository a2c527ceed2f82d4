"""Each kind of waste on simulated devices whose faults are known, beside devices without any."""

from __future__ import annotations

import accuracy_findings as devices
import accuracy_pairs as pairs
import pytest

from warm_ember.model.bench import Attached
from warm_ember.model.finding import FindingKind
from warm_ember.model.parts import Part, PartMode, PartOn
from warm_ember.tuning.leaks import PULL_UPS_OHM, possible_leaks

SEED = 30_300


@pytest.mark.parametrize("kind", devices.KINDS)
def test_a_planted_fault_is_found_with_its_cost_and_the_change_that_ends_it(kind: FindingKind) -> None:
    made = devices.simulate(SEED + devices.KINDS.index(kind), {kind})
    found, usual_a = devices.look(made)
    assert made.cost_a[kind] > 0.04 * usual_a
    (one,) = [finding for finding in found if finding.kind is kind]
    assert one.cost_a == pytest.approx(made.cost_a[kind], rel=devices.COST)
    assert one.remedy
    assert one.effects
    assert 0.5 <= one.confidence <= 1
    assert one.text.count(". ") + one.text.count(": ") >= 1


@pytest.mark.parametrize("pair", pairs.PAIRS, ids=" with ".join)
def test_two_faults_do_not_hide_each_other(pair: tuple[FindingKind, ...]) -> None:
    seed = SEED + 1000 * pairs.PAIRS.index(pair)
    found = pairs.measure((seed, pair))
    assert found.planted == pair
    assert set(found.found) == set(pair)


@pytest.mark.parametrize("seed", range(SEED + 100, SEED + 105))
def test_a_clean_device_has_no_findings(seed: int) -> None:
    assert devices.look(devices.simulate(seed))[0] == ()


@pytest.mark.parametrize("ohm", PULL_UPS_OHM[2:12])
@pytest.mark.parametrize("supply_v", [1.8, 3.0, 3.3])
def test_a_pull_up_is_the_best_fit_for_what_it_draws(ohm: float, supply_v: float) -> None:
    best = possible_leaks(supply_v / ohm, supply_v)[0]
    assert best.current_a == pytest.approx(supply_v / ohm)
    assert "pull-up" in best.what


def test_parts_and_tools_of_the_device_are_named_before_resistors() -> None:
    led = Part("lamp", (PartMode("on", 2.8e-3), PartMode("off", 0.0)))
    memory = Part("memory", (PartMode("standby", 9e-6), PartMode("off", 1e-7)))
    bridge = Attached("bridge", 310e-6)
    on = (PartOn("lamp", "off"), PartOn("memory", "off"))
    for current_a, words in ((2.79e-3, "lamp in on"), (8.8e-6, "memory in standby"), (312e-6, "bridge attached")):
        assert words in possible_leaks(current_a, 3.0, (led, memory), on, (bridge,))[0].what
    probe = Attached("probe", 1.5e-3)
    both = possible_leaks(2.8e-3 + 1.5e-3, None, (led, memory), on, (probe,))[0].what
    assert "lamp" in both
    assert "probe" in both
    assert possible_leaks(-1e-6, 3.0) == ()


def test_the_command_takes_amperes_by_state(tmp_path, command, random) -> None:
    made = devices.simulate(SEED + 2, {FindingKind.FLOOR_ABOVE_EXPECTED})
    recording = made.recording
    recording.current.read(0, recording.current.samples).astype("<f4").tofile(tmp_path / "c.f32")
    lines = "".join(f"{event.time_s!r},{event.event},{event.name},\n" for event in recording.events)
    (tmp_path / "log.csv").write_text("time_s,event,name,value\n" + lines)
    rate = round(1 / recording.current.interval_s)
    imported = ("import", tmp_path / "p", tmp_path / "c.f32", "--rate", rate, "--events", tmp_path / "log.csv")
    assert command(*imported, "--supply", "3")[0] == 0
    assert "floor-above-expected" not in command("findings", tmp_path / "p", "c", "--json")[1]
    typed = ",".join(f'"{value.state}":{value.current_a!r}' for value in made.expected)
    (tmp_path / "expected.json").write_text("{" + typed + "}")
    code, out, _ = command("findings", tmp_path / "p", "c", "--expected", tmp_path / "expected.json", "--json")
    assert code == 0
    assert '"kind":"floor-above-expected"' in out
    assert "effects" not in out
    for wrong in ('{"sleep": "low"}', '{"sleep": -1}', "[1]", "nonsense"):
        (tmp_path / "expected.json").write_text(wrong)
        code, out, error = command("findings", tmp_path / "p", "c", "--expected", tmp_path / "expected.json")
        assert (code, out, error.count("\n")) == (2, "", 1)
        assert "amperes by state" in error
