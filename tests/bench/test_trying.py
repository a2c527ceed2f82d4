"""An instrument described by hand: each command tried on the real thing, the file read back as it was entered."""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from bench.fake_instrument import FakeInstrument
from bench.fake_meter import FakeMeter
from warm_ember.bench.description import RangeDescription, known_descriptions, read_description
from warm_ember.bench.trying import TriedCommand, try_description
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.bench import BenchSettings
from warm_ember.session.instrument_entry import (
    commands_of,
    described,
    generic_of,
    missing_of,
    read_ranges,
    save_description,
    text_of_ranges,
    user_folder,
)

SETTINGS = BenchSettings(voltage_v=3.0, limit_a=0.5, interval_s=1e-3)


@contextmanager
def printing(text: bytes) -> Iterator[str]:
    """Print a text to whoever connects, and hang up."""
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def serve() -> None:
            line, _ = listener.accept()
            with line:
                line.sendall(text)

        thread = threading.Thread(target=serve)
        thread.start()
        yield f"socket://127.0.0.1:{listener.getsockname()[1]}"
        thread.join()


def by_name(tried: tuple[TriedCommand, ...]) -> dict[str, TriedCommand]:
    return {one.name: one for one in tried}


def test_each_command_of_a_sweep_is_tried_with_the_output_off() -> None:
    entered = described(
        {"name": "Model 1", "mode": "sweep", "identity": "^Any Maker,Model 1", "sense": ("current", "voltage")},
        commands_of(generic_of("sweep")) | {"range_auto": "RANG:AUTO ON", "level": ""},
    )
    current = np.linspace(1e-3, 2e-3, 500, dtype=np.float32)
    with FakeInstrument(current, current * 1000) as peer:
        peer.refuse = "RANG:AUTO"
        found = try_description(peer.address, entered, SETTINGS, guard_v=3.6)
        assert not peer.is_on
        assert "OUTPut 1" not in peer.heard
    commands = by_name(found.commands)
    assert found.identity == "Any Maker,Model 1,0,1"
    assert commands["voltage"] == TriedCommand("voltage", "SOURce:VOLTage 3", "taken")
    assert commands["range_auto"].answer == "taken: the value is outside what it can do (-222, Data out of range)"
    assert not commands["range_auto"].is_fine
    assert commands["fetch_current"].answer == "7 samples, the first 1.00 mA"
    assert commands["fetch_voltage"].is_fine
    assert "level" not in commands  # an empty one is not sent
    assert [one.name for one in found.commands if not one.is_fine] == ["range_auto"]
    assert found.commands[-1].name == "stop"


def test_no_voltage_above_the_guard_is_tried_and_another_maker_is_told() -> None:
    entered = described({"name": "x", "identity": "^Other"}, commands_of(generic_of("sweep")))
    with FakeInstrument(np.ones(100, dtype=np.float32)) as peer:
        peer.number_format = "<f8"
        commands = by_name(try_description(peer.address, entered, SETTINGS, guard_v=2.0).commands)
        assert not any(word.startswith("SOURce:VOLT") for word in peer.heard)
    assert "voltage" not in commands
    assert commands["identity"].answer == "Any Maker,Model 1,0,1: “^Other” does not fit that"
    assert not commands["identity"].is_fine
    assert commands["fetch_current"].is_fine  # eight bytes a number pass for two of four: the values tell


def test_a_silent_command_is_told_and_the_next_ones_are_tried_all_the_same() -> None:
    entered = described({"name": "m", "mode": "polled"}, {"read": "READ?", "read_voltage": "READ:VOLT?", "reset": ""})
    with FakeMeter(lambda number: f"{0.001 * (number + 1):+.3E}", knows_errors=False) as peer:
        found = try_description(peer.address, entered, SETTINGS)
    commands = by_name(found.commands)
    assert "no answer to “SYSTem:ERRor?” within 2 s" in commands["error"].answer
    assert commands["read"].answer.startswith("“+1.000E-03”, ")
    assert "no answer to “READ:VOLT?”" in commands["read_voltage"].answer
    assert found.max_rate_hz is not None
    assert found.max_rate_hz > 10
    assert "reset" not in commands


def test_lines_are_shown_with_what_is_read_in_them(tmp_path: Path) -> None:
    entered = described(
        {"name": "board", "mode": "lines", "pattern": r"^(?P<time_ms>\d+) (?P<current_ua>[-\d.]+)$"}, {"start": ""}
    )
    with printing(b"10 1.5\n20 2.5\nhello\x07there\n40 4\n") as address:
        found = try_description(address, entered, SETTINGS)
    assert [one.answer for one in found.commands] == [
        "current_ua 1.5, time_ms 10",
        "current_ua 2.5, time_ms 20",
        "does not fit the pattern",
        "current_ua 4, time_ms 40",
    ]
    assert found.commands[2] == TriedCommand("line", "hello·there", "does not fit the pattern", is_fine=False)
    with printing(b"") as address:
        (silent,) = try_description(address, entered, SETTINGS).commands
    assert "no line came" in silent.answer
    with pytest.raises(InstrumentError):
        try_description(str(tmp_path / "nothing"), entered, SETTINGS)


words = st.text(
    st.characters(codec="utf-8", exclude_categories=["C"], exclude_characters="{}"), min_size=1, max_size=30
)
fields = st.fixed_dictionaries(
    {"name": words.filter(str.strip), "mode": st.sampled_from(["sweep", "polled"])},
    optional={
        "max_voltage_v": st.floats(0.1, 100),
        "interval_s": st.just((1e-6, 1.0)),
        "max_rate_hz": st.floats(0.1, 1e4),
        "aperture_s": st.floats(1e-4, 1.0),
        "data_format": st.sampled_from(["real32", "real64", "ascii"]),
        "byte_order": st.sampled_from(["big", "little"]),
        "ranges": st.just((RangeDescription(1e-4, step_a=1e-8), RangeDescription(1e-2, shunt_ohm=0.4))),
        "burden_ohm": st.floats(0.0, 10.0),
        "endless_points": st.sampled_from(["", "INF"]),
    },
)


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    entered=fields,
    changed=st.dictionaries(st.sampled_from(["voltage", "output", "read", "stop", "clear"]), words, max_size=4),
)
def test_what_is_saved_is_read_as_it_was_entered(entered: dict, changed: dict, monkeypatch, tmp_path) -> None:
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    of_kind = commands_of(generic_of(entered["mode"]))
    made = described(entered, of_kind | {name: text for name, text in changed.items() if name in of_kind})
    path = save_description(made)
    assert path.parent == user_folder()
    assert read_description(path) == made
    assert save_description(made) == path  # in its own place, not once more
    again = described(msgspec.structs.asdict(made) | entered | {"commands": ()}, commands_of(made))
    assert again.commands == made.commands
    assert made in known_descriptions()


def test_two_names_that_look_alike_get_files_of_their_own() -> None:
    one, other = (described({"name": name}, {}) for name in ("My meter", "my-meter!"))
    assert save_description(one) != save_description(other)
    assert {one.name, other.name} <= {each.name for each in known_descriptions()}


def test_ranges_are_read_as_they_are_written() -> None:
    text = "100 µA, step 10.0 nA, noise 250 nA, offset 20.0 nA, shunt 12.0 Ω\n10.0 mA"
    ranges = read_ranges(text)
    assert read_ranges(text_of_ranges(ranges)) == ranges
    assert text_of_ranges(read_ranges("\n")) == ""
    for wrong, told in (("1 mA, width 3", "expected one of step"), ("a lot", "a lot")):
        with pytest.raises((BadArgumentError, ValueError), match=told):
            read_ranges(wrong)


@pytest.mark.parametrize(
    ("entered", "told"),
    [
        ({"name": " "}, "give it a name"),
        ({"name": "a", "identity": "("}, "identity: "),
        ({"name": "a", "mode": "lines", "pattern": "x"}, "expected a group"),
        ({"name": "a", "interval_s": (1.0, 0.1)}, "the shortest and the longest"),
        ({"name": "a", "max_voltage_v": "much"}, "this is no description"),
    ],
)
def test_what_is_wrong_with_an_entry_is_told(entered: dict, told: str) -> None:
    with pytest.raises(BadArgumentError, match=told):
        described(entered, {})


def test_what_is_missing_is_said_until_it_is_entered() -> None:
    bare = described({"name": "m", "mode": "polled"}, {})
    assert len(missing_of(bare)) == 4
    known = {
        "identity": "^M",
        "max_rate_hz": 10.0,
        "aperture_s": 0.02,
        "ranges": (RangeDescription(0.01, step_a=1e-6),),
    }
    assert missing_of(described({"name": "m", "mode": "polled"} | known, {})) == ()
    assert any(
        "highest voltage" in one for one in missing_of(described({"name": "s"}, commands_of(generic_of("sweep"))))
    )
