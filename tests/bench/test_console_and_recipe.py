"""What the console's lines mean, and recipes as text."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.benches import Serve, console_address
from warm_ember.bench.console import Console
from warm_ember.bench.console_line import ConsoleLine, line_of
from warm_ember.bench.patterns import Patterns, compile_pattern
from warm_ember.bench.recipe_run import check_steps
from warm_ember.bench.recipe_text import steps_from_text, text_of_steps
from warm_ember.errors import BadArgumentError, InstrumentError
from warm_ember.model.bench import DEFAULT_PATTERNS, LinePattern, Send, SwitchOutput, Take, WaitFor
from warm_ember.signal.one_clock import JUST_BEFORE_S, events_of

PATTERNS = Patterns((*DEFAULT_PATTERNS, LinePattern(r"^irq (?P<pin>\w+) at (\d+)", "wake", r"pin \g<pin>")))


@pytest.mark.parametrize(
    ("text", "event", "name"),
    [
        ("[ 12.5] state Deep sleep", "state", "Deep sleep"),
        ("wake rtc", "wake", "rtc"),
        ("sleep deep", "sleep", "deep"),
        ("irq PA3 at 17", "wake", "pin PA3"),
        ('+CEREG: 5,1,"1A2B"', "log", '+CEREG: 5,1,"1A2B"'),
    ],
)
def test_a_line_becomes_the_event_that_its_pattern_says(text: str, event: str, name: str) -> None:
    found = PATTERNS.event(line_of(text, 1.0), 2.0)
    assert (found.event, found.name, found.time_s) == (event, name, 2.0)


@pytest.mark.parametrize(
    "pattern",
    [LinePattern("(", "state", "x"), LinePattern("a", "state", r"\1"), LinePattern("a", "state", r"\g<no>"),
     LinePattern("a", "party", "x"), LinePattern("a", "state", "\\")],
)  # fmt: skip
def test_a_pattern_that_cannot_work_is_refused(pattern: LinePattern) -> None:
    with pytest.raises(BadArgumentError):
        compile_pattern(pattern)


@given(st.text(max_size=60), st.floats(0, 1e6))
def test_any_line_is_some_event(text: str, time_s: float) -> None:
    assert PATTERNS.event(line_of(text, 0.0), time_s).time_s == time_s


@given(
    st.lists(st.floats(0.01, 5.0), min_size=2, max_size=20),
    st.floats(-100, 1000),
    st.floats(0, 10),
)
def test_lines_with_the_targets_time_keep_it_and_others_follow_it(gaps, offset_s: float, start_s: float) -> None:
    received = [sum(gaps[: index + 1]) for index in range(len(gaps))]
    lines = [
        ConsoleLine(time_s, f"state {index % 3}", max(0.0, time_s + offset_s) if index % 2 else None)
        for index, time_s in enumerate(received)
    ]
    stamped = [line for line in lines if line.target_s is not None]
    events = events_of(PATTERNS.heard(line, start_s) for line in lines)
    times = {event.time_s for event in events}
    assert {line.target_s for line in stamped if line.received_s >= start_s} <= times
    before = [line for line in lines if line.received_s - start_s < -JUST_BEFORE_S]
    assert len(events) == len(lines) - len(before) + (1 if before else 0)
    if before:
        assert events[0].name == before[-1].text.removeprefix("state ")


def test_without_the_targets_time_lines_count_from_the_start_of_the_recording() -> None:
    lines = [ConsoleLine(10.0, "state a"), ConsoleLine(11.5, "state b"), ConsoleLine(12.0, "here", sent=True)]
    events = events_of(PATTERNS.heard(line, 11.0) for line in lines)
    assert [(event.event, event.name, event.time_s) for event in events] == [
        ("state", "a", -1.0), ("state", "b", 0.5), ("mark", "here", 1.0),
    ]  # fmt: skip


def test_the_console_talks_both_ways_and_waits_for_a_text(serve: Serve) -> None:
    server = serve()
    console = Console(console_address(server))
    server.instrument.run("VOLT 3")
    server.instrument.run("OUTP ON")
    since_s = 0.0
    assert console.wait_for("^state Deep", since_s, 5.0, lambda: False)
    console.send("counts?")
    assert console.wait_for(r"^counts \d+", since_s, 5.0, lambda: False)
    assert not console.wait_for("never", since_s, 0.05, lambda: False)
    assert any(line.sent for line in console.lines)
    console.close()


def test_a_console_that_is_not_there_is_named() -> None:
    for where in ("/dev/nothing", "socket://127.0.0.1:1", "socket://nonsense", "strange://x"):
        with pytest.raises(InstrumentError, match="cannot be opened") as caught:
            Console(where)
        assert where in caught.value.one_line


words = st.text("abcdefgh :%?+=,.0123", min_size=1, max_size=20).map(str.strip).filter(bool)
steps = st.one_of(
    st.sampled_from([SwitchOutput(), SwitchOutput(on=False), SwitchOutput(cycle=True)]),
    st.builds(WaitFor, words, st.integers(1, 900).map(float)),
    st.builds(WaitFor, st.just(""), st.integers(1, 900).map(float)),
    st.builds(Send, words),
    st.builds(Take, st.integers(1, 9000).map(float), st.sampled_from(["", "boot", "second night"])),
    st.builds(Take, st.none(), st.sampled_from(["", "boot"])),
)


@given(st.lists(steps, max_size=8))
def test_steps_survive_being_written_and_read(sequence) -> None:
    assert steps_from_text(text_of_steps(sequence)) == tuple(sequence)


@pytest.mark.parametrize("line", ["powr on", "wait", "wait long", "send boot", "record for ever", "wait -3 s"])
def test_a_line_that_is_no_step_shows_what_would_be(line: str) -> None:
    with pytest.raises(BadArgumentError):
        steps_from_text(f"power on\n{line}")


def test_a_recipe_must_record_and_needs_its_console() -> None:
    with pytest.raises(BadArgumentError, match="records nothing"):
        check_steps((SwitchOutput(),), has_console=True)
    with pytest.raises(BadArgumentError, match="console"):
        check_steps((Send("x"), Take()), has_console=False)
    with pytest.raises(BadArgumentError, match="regular expression"):
        check_steps((WaitFor("("), Take()), has_console=True)
    check_steps((WaitFor("", 1.0), Take()), has_console=False)
