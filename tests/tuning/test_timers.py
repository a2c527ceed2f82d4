"""Radio sleep timers against the tables of the standards, written down here by themselves."""

from __future__ import annotations

import json
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError
from warm_ember.tuning.timers.registry import KINDS, timer_of
from warm_ember.tuning.timers.replies import Reply, decode_line

TIMER_3_S = [600, 3600, 36000, 2, 30, 60, 320 * 3600]
TIMER_2_S = [2, 60, 360, 60, 60, 60, 60]
octets = st.integers(0, 255)


@given(octets)
def test_octets_are_units_times_steps(octet: int) -> None:
    code, unit, steps = f"{octet:08b}", octet >> 5, octet & 31
    for kind, units_s in (("t3412", TIMER_3_S), ("t3324", TIMER_2_S)):
        found = timer_of(kind).decode(code)
        assert found.seconds == (None if unit == 7 else units_s[unit] * steps)
        assert found.state == ("deactivated" if unit == 7 else "active")


@pytest.mark.parametrize("kind", list(KINDS))
def test_what_is_encoded_is_decoded_and_nothing_is_nearer(kind: str) -> None:
    timer = timer_of(kind)
    times_s = sorted({seconds for seconds in timer.codes.values() if seconds is not None})
    for seconds in times_s:
        found = timer.encode(f"{seconds!r} s")
        assert found.state == "exact"
        assert timer.decode(found.octet).seconds == pytest.approx(seconds)
        assert found.octet in timer.ways(seconds)
    for low, high in pairwise(times_s):
        between = low + 0.4 * (high - low)
        found = timer.encode(f"{between:.9g} s")
        assert (found.seconds, found.state) == (low, "rounded")
    with pytest.raises(BadArgumentError, match="holds"):
        timer.encode(f"{2 * times_s[-1]} s")


def test_cycles_and_windows_follow_the_table() -> None:
    wide, narrow = timer_of("edrx-wb"), timer_of("edrx-nb")
    assert [wide.decode(f"{n:04b}").seconds for n in (0, 1, 3, 8, 13)] == [5.12, 10.24, 40.96, 143.36, 2621.44]
    # Codes for the other kind of access are read as the notes of the table say, and never encoded.
    assert [wide.decode(code).seconds for code in ("1110", "1111")] == [2621.44, 2621.44]
    assert [narrow.decode(code).seconds for code in ("1110", "1111")] == [5242.88, 10485.76]
    assert [narrow.decode(f"{n:04b}").seconds for n in (0, 1, 4, 6, 7, 8)] == [20.48] * 6
    with pytest.raises(BadArgumentError, match="holds"):
        wide.encode("10485.76 s")
    assert narrow.decode("0101").seconds == 81.92
    assert narrow.decode("0100").seconds == 20.48  # not defined: read as 0010
    assert timer_of("ptw-wb").decode("0011").seconds == pytest.approx(5.12)
    assert timer_of("ptw-nb").decode("1111").seconds == pytest.approx(40.96)


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ('+CEREG: 5,1,"1A2B","01C3D5E7",9,,,"00001000","00100001"', Reply(5, 1, 9, 16.0, 3600.0)),
        ('+CEREG: 1,"1A2B","01C3D5E7",7,,,"11100000","00100001"', Reply(None, 1, 7, None, 3600.0)),
        ("+CEREG: 2,0", Reply(2, 0)),
        ("+CEREG: 5", Reply(None, 5)),
        ('+CPSMS: 1,,,"00100001","00001000"', Reply(1, None, None, 16.0, 3600.0)),
        ("+CPSMS: 0", Reply(0)),
        ('+CEDRXRDP: 5,"0101","1001","0011"', Reply(None, None, 5, None, None, 81.92, 163.84, 10.24)),
        ('+CEDRXRDP: 4,"0101","1001","0011"', Reply(None, None, 4, None, None, 81.92, 163.84, 5.12)),
        ("+CEDRXRDP: 0", Reply(None, None, 0)),
        ('+CEDRXS: 4,"0010"', Reply(None, None, 4, None, None, 20.48)),
    ],
)
def test_replies_are_taken_apart(line: str, expected: Reply) -> None:
    assert decode_line(line) == expected


@pytest.mark.parametrize("line", ["OK", "+CEREG: x,1", '+CPSMS: 1,,,"0010","00001000"', "+CSQ: 12,99"])
def test_what_is_no_such_reply_is_refused(line: str) -> None:
    with pytest.raises(BadArgumentError):
        decode_line(line)


def test_the_command_answers_as_the_contract_has_it(command) -> None:
    code, out, _ = command("timers", "decode", "t3412", "00100001", "11100000", "--json")
    assert code == 0
    assert json.loads(out) == {
        "values": [
            {"input": "00100001", "seconds": 3600.0, "state": "active", "octet": "00100001"},
            {"input": "11100000", "seconds": None, "state": "deactivated", "octet": "11100000"},
        ]
    }
    found = json.loads(command("timers", "encode", "t3324", "17s", "--json")[1])["values"][0]
    assert (found["seconds"], found["state"], found["octet"]) in (
        (16.0, "rounded", "00001000"),
        (18.0, "rounded", "00001001"),
    )
    assert "the nearest to 17s" in command("timers", "encode", "t3324", "17s")[1]
    reply = json.loads(
        command("timers", "decode", "at", '+CEREG: 5,1,"1A2B","01C3D5E7",9,,,"00001000","00100001"', "--json")[1]
    )
    assert list(reply) == ["mode", "stat", "act", "active_s", "periodic_s", "edrx_s", "granted_edrx_s", "ptw_s"]
    for wrong in (
        ("encode", "t3324", "400d"), ("decode", "t3324", "0101"), ("decode", "t9999", "0101"), ("turn", "t3324", "1"),
        ("encode", "at", "x"), ("encode", "edrx-nb", "deactivated"),
    ):  # fmt: skip
        code, _, error = command("timers", *wrong)
        assert (code, error.count("\n")) == (2, 1)


@pytest.mark.parametrize(("text", "found"), [
    ('AT+CPSMS=1,,,"10100101","00000001"', Reply(mode=1, periodic_s=300.0, active_s=2.0)),
    ("at+cpsms=1,,,10100101,00000001", Reply(mode=1, periodic_s=300.0, active_s=2.0)),
    ('  AT+CPSMS = 1 , , , "10100101" , "00000001" ', Reply(mode=1, periodic_s=300.0, active_s=2.0)),
    ("AT+CPSMS=0", Reply(mode=0)),
    ('AT+CEDRXS=2,5,"0101"', Reply(mode=2, act=5, edrx_s=81.92)),
    ("AT+CEDRXS=1,4,0101", Reply(mode=1, act=4, edrx_s=81.92)),
    ("AT+CEDRXS=0", Reply(mode=0)),
    ('+cpsms: 1,,,"10100101","00000001"', Reply(mode=1, periodic_s=300.0, active_s=2.0)),
])  # fmt: skip
def test_a_command_is_read_as_it_is_sent(text: str, found: Reply) -> None:
    assert decode_line(text) == found


@pytest.mark.parametrize("text", [
    "AT+CPSMS?", "AT+CPSMS=?", "AT+CPSMS=", "AT", "OK", "hello", "+CPSMS:", "AT+CGDCONT=1", "noise +CPSMS: 1",
    'AT+CPSMS=1,,,"1010"', "AT+CEDRXS=1,5,banana", "CPSMS=1", "AT+CPSMS=1,,,22222222,00000001", "",
])  # fmt: skip
def test_anything_else_is_refused(command, text: str) -> None:
    code, _, err = command("timers", "decode", "at", text, "--json")
    assert code == 2
    assert len(err.splitlines()) == 1


@pytest.mark.parametrize(("kind", "times"), [
    ("edrx-nb", ["10485.8s", "10486", "2.91 h", "2.913 h", "10485.76"]),
    ("ptw-wb", ["20.5s", "20.48s"]),
    ("edrx-wb", ["2621 s", "2621.4"]),
])  # fmt: skip
def test_a_time_that_was_printed_rounded_is_accepted(command, kind: str, times: list[str]) -> None:
    for time in times:
        assert command("timers", "encode", kind, time, "--json")[0] == 0, time


@pytest.mark.parametrize(
    ("kind", "times"), [("edrx-nb", ["10500s", "2.92 h", "10487", "3 h"]), ("ptw-wb", ["20.6s", "21.5 s"])]
)
def test_a_time_beyond_the_ends_is_not(command, kind: str, times: list[str]) -> None:
    for time in times:
        assert command("timers", "encode", kind, time, "--json")[0] == 2, time
