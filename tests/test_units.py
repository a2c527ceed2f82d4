import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from warm_ember.units import (
    DAY_S,
    MONTH_S,
    column_writer,
    decade,
    duration_text,
    format_significant,
    format_trimmed,
    interval_numbers,
    interval_text,
    parse_duration,
    parse_quantity,
    parse_rate,
    percent_text,
    quantity_text,
    uncertainty_text,
)

currents = st.floats(1e-11, 1e3) | st.floats(-1e3, -1e-11)


@given(currents)
def test_what_is_written_reads_back_to_three_digits(value: float) -> None:
    written = str(quantity_text(value, "A")).replace("−", "-")
    assert parse_quantity(written, "A") == pytest.approx(value, rel=6e-3)


@given(st.floats(1e-9, 1e8))
def test_a_duration_reads_back_to_three_digits(seconds: float) -> None:
    assert parse_duration(str(duration_text(seconds))) == pytest.approx(seconds, rel=6e-3)


@given(currents)
def test_a_mantissa_has_one_to_three_digits_before_the_point(value: float) -> None:
    number = quantity_text(value, "A").number.replace("−", "")
    assert 1 <= float(number) < 1000 or abs(value) < 1e-12 or abs(value) >= 1e3


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("12u", "A", 12e-6),
        ("0.3 mA", "A", 0.3e-3),
        ("4,8m", "A", 4.8e-3),
        ("−5 nA", "A", -5e-9),
        ("1.5 kΩ", "Ω", 1500.0),
        ("2.4", "V", 2.4),
        ("6 Ah", "C", 21600.0),
        ("250mAh", "C", 900.0),
        ("15 min", "s", 900.0),
        ("12", "%", 0.12),
    ],
)
def test_quantities_as_people_type_them(text: str, unit: str, value: float) -> None:
    assert parse_quantity(text, unit) == value


@pytest.mark.parametrize(("text", "unit"), [("", "A"), ("abc", "A"), ("3 V", "A"), ("5 xA", "A"), ("4 apples", "%")])
def test_other_text_is_refused(text: str, unit: str) -> None:
    with pytest.raises(ValueError, match=r"expected|not a number"):
        parse_quantity(text, unit)


@pytest.mark.parametrize(("text", "seconds"), [("3h 20m", 12000), ("36 months", 36 * MONTH_S), ("1 day", DAY_S)])
def test_durations(text: str, seconds: float) -> None:
    assert parse_duration(text) == pytest.approx(seconds)


@pytest.mark.parametrize("text", ["", "soon", "3 parsec", "5 min later"])
def test_no_duration(text: str) -> None:
    with pytest.raises(ValueError, match="length of time"):
        parse_duration(text)


@pytest.mark.parametrize("text", ["4 a day", "4/day", "4 per day", "4"])
def test_rates_by_the_day(text: str) -> None:
    assert parse_rate(text).per_day == 4.0


@pytest.mark.parametrize("text", ["0", "each 0 s", "never"])
def test_no_rate(text: str) -> None:
    with pytest.raises(ValueError, match=r"above 0|length of time"):
        parse_rate(text)


def test_a_small_share_does_not_read_as_nothing() -> None:
    assert str(percent_text(0.00045)) == "0.045 %"
    assert str(percent_text(1.0)) == "100 %"


def test_nothing_is_written_as_a_dash() -> None:
    assert str(quantity_text(None, "A")) == "–"
    assert format_significant(math.nan) == "–"
    assert format_trimmed(math.inf) == "–"


def test_zero_and_below_lie_at_the_bottom_of_the_ramp() -> None:
    assert decade(0.0) == decade(-1.0) == -9.0
    assert decade(1e-3) == pytest.approx(-3)


def number_of(text: str) -> float:
    """Return a number as it is written, with its prefix."""
    number, _, unit = text.replace("\u2009", "").replace("−", "-").partition(" ")
    return float(number) * {"n": 1e-9, "p": 1e-12, "µ": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}.get(
        unit[:-1], 1.0
    )


@given(st.floats(1e-11, 1e8))
def test_an_uncertainty_has_two_digits(half: float) -> None:
    text = str(uncertainty_text(half, "A"))
    digits = text.split(" ")[0].replace(".", "").lstrip("0")
    assert len(digits) <= 2
    assert number_of(text) == pytest.approx(half, rel=0.051)


@given(st.floats(1e-6, 1e3), st.floats(1e-6, 10.0))
def test_an_interval_is_no_finer_than_two_digits_of_its_half(middle: float, share: float) -> None:
    half = middle * share
    first, last = (
        text.replace("\u2009", "").replace("−", "-") for text in interval_numbers(middle - half, middle + half)
    )
    decimals = len(first.partition(".")[2])
    assert decimals == len(last.partition(".")[2])
    assert 10.0**-decimals > half / 1000 or decimals == 0
    assert float(first) == pytest.approx(middle - half, abs=0.06 * half)
    assert float(last) == pytest.approx(middle + half, abs=0.06 * half)


@given(st.lists(st.floats(1e-9, 1.0), min_size=1, max_size=8))
def test_a_column_has_one_unit_and_tells_each_value(values: list[float]) -> None:
    write = column_writer(values, "A")
    texts = [write(value) for value in values]
    assert len({text.unit for text in texts}) == 1
    for value, text in zip(values, texts, strict=True):
        assert number_of(str(text)) == pytest.approx(value, rel=6e-3)
    assert max(number_of(str(text)) for text in texts) / number_of(f"1 {texts[0].unit}") < 1.1e6


def test_what_is_not_known_stands_in_a_column_as_a_dash() -> None:
    write = column_writer([None, math.nan], "A")
    assert [str(write(value)) for value in (None, math.nan, 0.0, 2e-6)] == ["–", "–", "0 A", "2.00 µA"]
    assert str(uncertainty_text(None, "A")) == "–"
    assert str(uncertainty_text(0.0, "A")) == "0 A"
    assert interval_text(1.0, math.inf, "s") == "1.00 s to –"


@pytest.mark.parametrize("unit", ["months", "%", "°C", "ppm"])
def test_what_takes_no_prefix_gets_none(unit: str) -> None:
    for value in (2e-4, 0.638, 0.752, 3500.0, 2e7):
        assert quantity_text(value, unit).unit == unit
        assert uncertainty_text(value, unit).unit == unit
        assert interval_text(value, 1.1 * value, unit).split()[-1] == unit
    assert interval_text(0.638, 0.752, "months") == "0.638 to 0.752 months"
