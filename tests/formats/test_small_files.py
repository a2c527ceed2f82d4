"""Event logs and activity files."""

import json
from pathlib import Path

import pytest

from warm_ember.errors import BadFileError
from warm_ember.formats.activity_file import read_activity_file
from warm_ember.formats.event_log import read_events
from warm_ember.model.capture import Event

EVENTS = (Event(0.5, "state", "Sleep"), Event(1.5, "wake", "rtc", "3"), Event(2.0, "log", "hello, world"))


def written(tmp_path: Path, text: str, name: str = "events.csv") -> Path:
    path = tmp_path / name
    path.write_text(text, encoding="utf-8")
    return path


@pytest.mark.parametrize(
    "text",
    [
        'time_s,event,name,value\n0.5,state,Sleep,\n1.5,wake,rtc,3\n2.0,log,"hello, world",\n',
        'time_s,event,name,value\r\n2.0,log,"hello, world",\r\n0.5,state,Sleep\r\n1.5,wake,rtc,3\r\n',
        "time_s;event;name;value\n0,5;state;Sleep;\n1,5;wake;rtc;3\n2,0;log;hello, world;\n",
        (
            '{"time_s":0.5,"event":"state","name":"Sleep"}\n{"time_s":1.5,"event":"wake","name":"rtc","value":3}\n\n'
            '{"time_s":2,"event":"log","name":"hello, world","value":null}\n'
        ),
    ],
)
def test_a_log_in_every_form(tmp_path: Path, text: str) -> None:
    assert read_events(written(tmp_path, text)).events == EVENTS


@pytest.mark.parametrize(
    ("text", "problem"),
    [
        ("", "empty"),
        ("time_s,event,name,value\n", "no events"),
        ("a,b\n1,2\n", "line 1: expected the header"),
        ("time_s,event,name,value\n1,state,A,\nx,state,B,\n", "line 3: expected time_s in seconds, found 'x'"),
        ("time_s,event,name,value\n1,jump,A,\n", "line 2: expected an event of state"),
        ("time_s,event,name,value\n1,state,A,,,\n", "line 2: expected 4 columns, found 6"),
        ('{"time_s":1,"event":"state"\n', "line 1: expected a JSON object"),
        ('{"time_s":1,"event":"state"}\n[1]\n', "line 2: expected a JSON object"),
    ],
)
def test_a_bad_log_names_the_line(tmp_path: Path, text: str, problem: str) -> None:
    with pytest.raises(BadFileError, match=problem):
        read_events(written(tmp_path, text))


def activity_file(tmp_path: Path, **content: object) -> Path:
    return written(tmp_path, json.dumps(content), "activities.json")


def test_what_is_left_out_takes_its_default(tmp_path: Path) -> None:
    file = read_activity_file(activity_file(tmp_path))
    assert (file.model.load.mean_a, file.model.load.costs, file.target_s) == (0.0, (), None)
    assert (file.model.battery.capacity_c, file.model.battery.reserve, file.model.battery.series) == (21600.0, 0.0, 1)


def test_rates_and_charges(tmp_path: Path) -> None:
    file = read_activity_file(
        activity_file(
            tmp_path,
            base_a=1e-5,
            activities=[
                {"name": "send", "current_a": 0.1, "duration_s": 2.0, "interval_s": 100.0, "probability": 0.5},
                {"name": "count", "charge_c": 0.02, "per_day": 864.0, "peak_a": 0.3},
            ],
        )
    )
    assert file.model.load.mean_a == pytest.approx(1e-5 + 0.005 * (0.2 - 2e-5) + 0.01 * 0.02)
    assert file.model.load.peak_a == 0.3


@pytest.mark.parametrize(
    ("content", "problem"),
    [
        ({"batery": {}}, "batery"),
        ({"battery": {"capacity_c": "lots"}}, "capacity_c"),
        ({"battery": {"colour": 1}}, "colour"),
        ({"supply": {"kind": "magic"}}, "magic"),
        ({"base_a": -1}, "base_a"),
        ({"target_h": 0}, "target_h"),
        ({"activities": [{"name": "x", "charge_c": 1, "current_a": 1, "interval_s": 1}]}, "'x'.*either charge_c"),
        ({"activities": [{"charge_c": 1, "interval_s": 1, "per_day": 1}]}, "either interval_s"),
        ({"activities": [{"charge_c": 1}]}, "either interval_s"),
        ({"activities": [{"current_a": 1, "per_day": 1}]}, "needs duration_s"),
        ({"activities": [{"charge_c": 1, "interval_s": 0}]}, "interval_s"),
        ({"activities": [{"charge_c": 1, "per_day": 1, "probability": 2}]}, "probability"),
        ({"activities": [{"charge_c": -1, "per_day": 1}]}, "charge_c: expected 0 or more"),
    ],
)
def test_a_bad_activity_file_names_the_key(tmp_path: Path, content: dict[str, object], problem: str) -> None:
    with pytest.raises(BadFileError, match=problem):
        read_activity_file(activity_file(tmp_path, **content))
