"""The preview says what an import would do, from the beginning of the file alone."""

import numpy as np
import pytest

from warm_ember.errors import BadFileError, Cancelled, ColumnError
from warm_ember.formats.ahead import prefetch
from warm_ember.formats.source import ImportOptions
from warm_ember.session.importing import ImportRequest, import_file
from warm_ember.session.new_capture import adopt
from warm_ember.session.preview import preview
from warm_ember.session.session import Session


@pytest.fixture
def text_file(tmp_path):
    path = tmp_path / "log.csv"
    rows = (f"{k / 1000:.3f};{k % 50 / 10:.1f};3,3;{k % 2}\n".replace(".", ",") for k in range(3000) if k % 700)
    path.write_text("Zeit (s);I (mA);U (V);led\n" + "".join(rows))
    return path


def test_it_shows_what_the_import_then_does(text_file, tmp_path) -> None:
    shown = preview(text_file, ImportOptions())
    with Session.open_or_create(tmp_path / "p") as session:
        report = import_file(session, ImportRequest(text_file))
        adopt(session, report)
        capture = session.capture("log")
        assert shown.interval_s == report.sample_interval_s
        assert shown.notes == report.notes
        values = capture.current.read(0, capture.current.samples)
        np.testing.assert_array_equal(shown.beginning.read(0, len(values)), values)
        assert shown.missing == np.isnan(values).sum() == 4
    assert (shown.current, shown.time, shown.voltage) == (2, 1, 3)
    assert (shown.delimiter, shown.decimal, shown.whole) == (";", ",", True)
    assert shown.columns[1] == "I (mA)"
    assert shown.header == ("time, s", "current, A", "voltage, V", "led")
    assert shown.rows[1][:2] == ("0.001", "0.0002")
    assert shown.raw_lines[0] == "Zeit (s);I (mA);U (V);led"


def test_a_long_file_is_read_in_part_only(tmp_path) -> None:
    path = tmp_path / "long.f32"
    np.zeros(3 << 20, dtype="<f4").tofile(path)
    shown = preview(path, ImportOptions(rate_hz=1e4))
    assert not shown.whole
    assert shown.beginning.samples == 1 << 20
    assert shown.raw_lines == shown.columns == ()


def test_what_the_user_says_goes_before_what_is_found(text_file) -> None:
    shown = preview(text_file, ImportOptions(current_column="U (V)", shunt_ohm=10.0, voltage_column="3"))
    assert shown.rows[0][1] == "0.33"
    with pytest.raises(BadFileError, match="expected a table"):
        preview(text_file, ImportOptions(delimiter="|", decimal="."))
    with pytest.raises(ColumnError) as caught:
        preview(text_file, ImportOptions(current_column="nothing"))
    assert caught.value.titles == ("Zeit (s)", "I (mA)", "U (V)", "led")
    held = preview(text_file, ImportOptions(gaps_hold=True))
    assert held.missing == 0
    before, gap = held.beginning.read(698, 700)  # the first row is the sample after 0 s
    assert gap == before


def test_a_preview_can_be_stopped(text_file) -> None:
    with pytest.raises(Cancelled):
        preview(text_file, ImportOptions(), should_stop=lambda: True)


def test_one_ahead_keeps_order_and_raises_where_it_was_due() -> None:
    def pieces():
        yield from range(3)
        raise ValueError("the fourth")

    ahead = prefetch(pieces())
    assert [next(ahead) for _ in range(3)] == [0, 1, 2]
    with pytest.raises(ValueError, match="the fourth"):
        next(ahead)
    never_finished = prefetch(iter(range(1000)))
    assert next(never_finished) == 0
    never_finished.close()
