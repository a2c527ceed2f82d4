"""Times as clocks write them, against the calendar of the standard library."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.errors import BadArgumentError
from warm_ember.formats.clock_text import (
    DAY_S,
    HOUR_S,
    Unroller,
    clock_seconds,
    form_of,
    is_clock,
    is_date,
    start_utc_of,
    utc_text,
    zone_s,
)

MOMENTS = st.datetimes(datetime(1971, 1, 1), datetime(2099, 12, 31))
MILLISECONDS = MOMENTS.map(lambda one: one.replace(microsecond=one.microsecond // 1000 * 1000))

FORMS = {
    "year first": "%Y-%m-%d %H:%M:%S.%f",
    "year first with a T": "%Y-%m-%dT%H:%M:%S.%f",
    "year first with slashes": "%Y/%m/%d %H:%M:%S",
    "day first with points": "%d.%m.%Y %H:%M:%S",
    "day, then the month's name": "%d %b %Y %H:%M:%S",
    "the month's name, then the day": "%b %d, %Y %H:%M:%S",
    "the month in full": "%B %d, %Y %H:%M:%S",
    "run together": "%Y%m%dT%H%M%S",
    "in two halves of the day": "%Y-%m-%d %I:%M:%S %p",
    "without seconds": "%Y-%m-%d %H:%M",
    "joined by an underscore": "%Y-%m-%d_%H:%M:%S",
}


def seconds_of(cells: list[str]) -> np.ndarray:
    return clock_seconds(pa.chunked_array([cells]), form_of(cells))


def since_1970(moment: datetime) -> float:
    return (moment.replace(tzinfo=UTC) - datetime(1970, 1, 1, tzinfo=UTC)) / timedelta(seconds=1)


@pytest.mark.parametrize("form", FORMS.values(), ids=FORMS)
@given(moments=st.lists(MILLISECONDS, min_size=1, max_size=5))
def test_dates_with_times_are_the_moments_that_were_written(form: str, moments: list[datetime]) -> None:
    cells = [moment.strftime(form) for moment in moments]
    kept = [datetime.strptime(cell, form) for cell in cells]
    assert all(is_clock(cell) for cell in cells)
    np.testing.assert_allclose(seconds_of(cells), [since_1970(one) for one in kept], atol=2e-6, rtol=0)


@given(MILLISECONDS, st.integers(-14 * 4, 14 * 4), st.sampled_from(("%z", ":")))
def test_the_zone_moves_the_clock_and_not_the_moment(moment, quarters, colon) -> None:
    zone = timezone(timedelta(minutes=15 * quarters))
    local = moment.replace(tzinfo=UTC).astimezone(zone)
    text = local.strftime("%Y-%m-%dT%H:%M:%S.%f%z")
    if colon == ":":
        text = f"{text[:-2]}:{text[-2:]}"
    assert seconds_of([text])[0] == pytest.approx(since_1970(moment), abs=2e-6)
    assert datetime.fromisoformat(start_utc_of(text)) == moment.replace(tzinfo=UTC)
    assert zone_s(text[-6:] if colon == ":" else text[-5:]) == quarters * 900


@given(st.lists(MOMENTS, min_size=2, max_size=8), st.booleans())
def test_days_and_months_are_told_apart_where_any_cell_tells(moments, month_first) -> None:
    form = "%m/%d/%Y %H:%M:%S" if month_first else "%d/%m/%Y %H:%M:%S"
    cells = [moment.strftime(form) for moment in moments]
    if any(moment.day > 12 for moment in moments):
        found = form_of(cells)
        assert bool(found.month_first) is month_first
        kept = [since_1970(one.replace(microsecond=0)) for one in moments]
        np.testing.assert_allclose(seconds_of(cells), kept, atol=1e-6, rtol=0)
    elif len({(one.month, one.day) for one in moments}) > 1 and any(one.month != one.day for one in moments):
        with pytest.raises(BadArgumentError, match="month or day"):
            form_of(cells)
        assert form_of(cells, month_first=month_first).month_first is month_first


@given(st.integers(0, 23), st.integers(0, 59), st.integers(0, 59), st.integers(0, 999))
def test_a_time_of_day_counts_from_midnight(hours, minutes, seconds, thousandths) -> None:
    expected = HOUR_S * hours + 60 * minutes + seconds + thousandths / 1000
    for cell in (
        f"{hours:02}:{minutes:02}:{seconds:02}.{thousandths:03}",
        f"{hours}:{minutes:02}:{seconds:02},{thousandths:03}",
    ):
        assert is_clock(cell)
        assert not is_date(cell)
        assert start_utc_of(cell) == ""
        assert seconds_of([cell])[0] == pytest.approx(expected, abs=1e-9)
    half = datetime(2000, 1, 1, hours, minutes, seconds).strftime("%I:%M:%S %p")
    assert seconds_of([half])[0] == pytest.approx(expected - thousandths / 1000)


@given(st.integers(0, 400), st.integers(0, 23), st.integers(0, 59), st.integers(0, 59))
def test_how_long_something_has_gone_on_counts_its_days(days, hours, minutes, seconds) -> None:
    cell = f"{days} day{'s' * (days != 1)} {hours:02}:{minutes:02}:{seconds:02}"
    assert seconds_of([cell])[0] == DAY_S * days + HOUR_S * hours + 60 * minutes + seconds
    assert form_of([cell]).turns_s == float("inf")


@pytest.mark.parametrize("cell", ["12.5", "", "mA", "2026", "1e-3", "25:61", "12:", "0x12:30", "2026-06-14"])
def test_what_is_no_time_is_not_taken_for_one(cell: str) -> None:
    assert not is_clock(cell)


@pytest.mark.parametrize(
    ("cell", "is_one"), [("2026-06-14", True), ("14.06.2026", True), ("14.06", False), ("7", False)]
)
def test_a_date_is_told_from_a_number(cell: str, *, is_one: bool) -> None:
    assert is_date(cell) is is_one


def test_a_month_or_day_that_there_is_not_is_missing() -> None:
    cells = ["2026-06-14 10:00:00", "2026-13-14 10:00:00", "2026-02-29 10:00:00", "no time", None]
    found = clock_seconds(pa.chunked_array([cells]), form_of(cells[:1]))
    assert np.isfinite(found).tolist() == [True, False, False, False, False]


@given(st.floats(0, 4e9))
def test_a_moment_in_text_is_that_moment(seconds: float) -> None:
    assert datetime.fromisoformat(utc_text(seconds)).timestamp() == pytest.approx(seconds, abs=1e-6)


@given(
    st.lists(st.floats(0.001, 3000.0), min_size=1, max_size=60),
    st.sampled_from((HOUR_S, DAY_S)),
    st.lists(st.integers(0, 60), max_size=4),
)
def test_times_that_begin_anew_rise_on_however_they_are_cut(steps, turns_s, cuts) -> None:
    # No step is as long as half a turn: of longer ones nobody could tell.
    true_s = np.cumsum([min(step, 0.45 * turns_s) for step in steps])
    shown_s = np.mod(true_s, turns_s)
    unroller, pieces = Unroller(turns_s), np.split(shown_s, sorted(min(cut, len(shown_s)) for cut in cuts))
    rolled = np.concatenate([unroller.unrolled(piece) for piece in pieces])
    np.testing.assert_allclose(rolled - rolled[0], true_s - true_s[0], atol=1e-6)


def test_times_without_a_turn_stay_as_they_are() -> None:
    falling = np.array([5.0, 4.0, 1.0])
    np.testing.assert_array_equal(Unroller(float("inf")).unrolled(falling), falling)
