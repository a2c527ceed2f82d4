"""What is painted, without a window: scales, envelopes, labels."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PySide6.QtCore import QRectF
from PySide6.QtGui import QImage, QPainter
from pytestqt.qtbot import QtBot

from warm_ember.model.finding import Finding, FindingKind
from warm_ember.signal.envelope import PixelColumns, envelope, per_column
from warm_ember.signal.series import ArraySeries
from warm_ember.ui.lanes.digital_lines import LinesLane
from warm_ember.ui.lanes.flags import reading_lines, tick_step
from warm_ember.ui.lanes.heat import CurrentScale, draw_line, heat_picture, log_scale
from warm_ember.ui.lanes.quality import QualityLane
from warm_ember.ui.lanes.time_window import TimeWindow, clock_text
from warm_ember.ui.look.rich_text import plain, runs_of
from warm_ember.ui.look.theme import DAY, NIGHT, Appearance, ink_on
from warm_ember.ui.pages.runs.run_history_chart import history_rows
from warm_ember.ui.pages.trace.bracket_tray import tray_rows
from warm_ember.units import format_distinct

ROWS = 120


def flat(low: float, high: float, columns: int = 9) -> PixelColumns:
    full = np.full(columns, 1.0)
    return PixelColumns(full * low, full * high, full * (low * high) ** 0.5)


@given(st.floats(1e-9, 0.1), st.floats(1.0, 1e6))
def test_a_log_axis_holds_what_it_is_made_for(lowest: float, span: float) -> None:
    scale = log_scale(lowest, lowest * span)
    assert scale.low_a <= max(lowest, 1e-9) * (1 + 1e-9)
    assert scale.high_a >= min(lowest * span, 1.0) * (1 - 1e-9)
    assert np.log10(scale.high_a / scale.low_a) == pytest.approx(round(np.log10(scale.high_a / scale.low_a)))


@given(st.floats(1e-6, 1.0), st.booleans())
def test_heights_and_currents_are_each_others_inverse(current_a: float, log: bool) -> None:
    scale = CurrentScale(1e-6 if log else 0.0, 1.0, log)
    height = scale.height(np.array([current_a]))
    assert 0 <= height[0] <= 1
    assert scale.current(height)[0] == pytest.approx(current_a, rel=1e-9)


def test_zero_and_below_lie_at_the_floor_of_a_log_axis() -> None:
    scale = CurrentScale(1e-6, 1.0, log=True)
    assert scale.height(np.array([0.0, -1.0, 1e-9])).tolist() == [0.0, 0.0, 0.0]
    assert np.isnan(scale.height(np.array([np.nan]))).all()


@pytest.mark.parametrize("theme", [NIGHT, DAY])
def test_an_envelope_fills_exactly_its_rows(theme) -> None:
    scale = CurrentScale(1e-6, 1.0, log=True)
    picture = heat_picture(flat(1e-4, 1e-2), scale, ROWS, theme)
    filled = np.flatnonzero(picture[:, 4] >> 24)
    top, bottom = (1 - scale.height(np.array([1e-2, 1e-4]))) * ROWS
    assert (filled[0], filled[-1]) == (pytest.approx(top, abs=1), pytest.approx(bottom - 1, abs=1))
    colors = picture[filled, 4]
    assert len(np.unique(colors)) > 8  # by height: two decades of an eighth each
    assert colors[0] == theme.ramp.packed(np.array([scale.current(np.array([1 - (filled[0] + 0.5) / ROWS]))[0]]))[0]


def test_a_flat_trace_is_still_seen_and_a_hole_is_not() -> None:
    scale = CurrentScale(1e-6, 1.0, log=True)
    picture = heat_picture(flat(1e-3, 1e-3), scale, ROWS, NIGHT)
    assert 1 <= (picture[:, 0] >> 24 == 0xFF).sum() <= 4
    hole = flat(1e-3, 1e-3)
    for values in (hole.low, hole.high, hole.mean):
        values[3:5] = np.nan
    picture = heat_picture(hole, scale, ROWS, NIGHT, ground=np.zeros(ROWS, dtype=bool))
    assert (picture[:, 3:5] == np.uint32(NIGHT.sunken.rgb())).all()


def test_a_step_has_its_riser() -> None:
    values = np.repeat(np.float32([1e-5, 1e-2]), 500)
    shown = per_column(envelope(ArraySeries(values, 1e-3), 0, 1, 100), 0, 1, 100)
    picture = heat_picture(shown, CurrentScale(1e-6, 1.0, log=True), ROWS, NIGHT)
    assert ((picture >> 24 == 0xFF).sum(axis=0) > 40).sum() == 1


def test_the_grid_shows_above_the_trace_only() -> None:
    ground = np.zeros(ROWS, dtype=bool)
    ground[[5, 110]] = True
    picture = heat_picture(flat(1e-3, 1e-2), CurrentScale(1e-6, 1.0, log=True), ROWS, NIGHT, ground=ground)
    assert (picture[5] == np.uint32(NIGHT.grid.rgb())).all()
    assert (picture[110] != np.uint32(NIGHT.grid.rgb())).all()
    assert (picture >> 24 == 0xFF).all()


def test_a_line_is_drawn_where_it_is_known() -> None:
    picture = np.zeros((50, 6), dtype=np.uint32)
    draw_line(picture, np.array([0.5, 0.5, np.nan, 0.0, 1.0, 0.2]), 7, 3)
    assert (picture[:, 2] == 0).all()
    assert picture[0, 4] == 7
    assert picture[49, 3] == 7
    assert (picture[:, 0] == 3).sum() == 2
    assert (picture[:, 4] == 7).sum() > 40  # from the floor up to the top: one riser


@given(st.floats(1e-6, 1e6), st.floats(1.0, 14.0))
def test_ticks_are_few_and_in_steps_people_count_in(window_s: float, most: float) -> None:
    step = tick_step(window_s, most)
    assert window_s / step <= most * (1 + 1e-9) or step == 86400
    days = {86400 * day for day in (1, 2, 7, 14, 28, 91, 182, 364)}
    whole = days | {15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200}
    assert step in whole or f"{step:.6e}"[:8] in ("1.000000", "2.000000", "5.000000")


@given(st.floats(0, 1e5), st.floats(1e-6, 1e5))
def test_a_moment_is_written_to_what_the_window_resolves(time_s: float, window_s: float) -> None:
    days, _, clock = clock_text(time_s, window_s).rpartition("d ")
    parts = clock.split(":")
    read = 86400 * float(days or 0) + sum(float(part) * 60**power for power, part in enumerate(reversed(parts)))
    assert read == pytest.approx(time_s, abs=max(window_s / 200, 1e-7))
    assert all(0 <= float(part) < 60 or part is parts[0] for part in parts[1:])


@pytest.mark.parametrize("theme", [NIGHT, DAY])
def test_text_reads_on_every_colour_of_the_ramp(theme) -> None:
    def luminance(color) -> float:
        channels = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in color.getRgbF()[:3]]
        return float(np.dot(channels, (0.2126, 0.7152, 0.0722)))

    for decade in np.arange(-9, 0.1, 0.25):
        ground = theme.ramp.color(10.0**decade)
        pair = sorted((luminance(ground), luminance(ink_on(ground))))
        assert (pair[1] + 0.05) / (pair[0] + 0.05) >= 4.3


@pytest.mark.parametrize("theme", [NIGHT, DAY])
def test_inks_read_on_their_grounds(theme) -> None:
    def luminance(color) -> float:
        channels = [c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4 for c in color.getRgbF()[:3]]
        return float(np.dot(channels, (0.2126, 0.7152, 0.0722)))

    for ink, least in ((theme.ink, 7.0), (theme.dim, 4.5), (theme.faint, 3.0), (theme.warning_text, 4.5)):
        for ground in (theme.ground, theme.raised, theme.sunken):
            pair = sorted((luminance(ink), luminance(ground)))
            assert (pair[1] + 0.05) / (pair[0] + 0.05) >= least


@given(st.lists(st.sampled_from(["a", " ", "**1**", "µ"]), max_size=8))
def test_marks_split_text_without_losing_any(parts: list[str]) -> None:
    marked = " ".join(parts)
    assert "".join(run.text for run in runs_of(marked)) == plain(marked)


def test_a_window_stays_within_its_capture() -> None:
    window = TimeWindow()
    window.set_capture(100.0, 1e-3)
    moved: list[int] = []
    window.changed.connect(lambda: moved.append(1))
    window.show(-50.0, 20.0)
    assert (window.from_s, window.to_s) == (0.0, 70.0)
    window.show(99.9999, 100.0)
    assert window.length_s == pytest.approx(4e-3)
    window.zoom(1e9, 50.0)
    assert (window.from_s, window.to_s) == (0.0, 100.0)
    window.pan(500.0)
    window.zoom(0.5, 25.0)
    assert (window.from_s, window.to_s) == (12.5, 62.5)
    window.pan(1000.0)
    assert (window.from_s, window.to_s) == (50.0, 100.0)
    count = len(moved)
    window.pan(1000.0)
    assert len(moved) == count
    window.back()
    window.back()
    assert (window.from_s, window.to_s) == (0.0, 100.0)
    window.back()


def test_lanes_share_what_they_draw() -> None:
    window = TimeWindow()
    series = ArraySeries(np.ones(5000, dtype=np.float32), 1e-3)
    window.set_capture(5.0, 1e-3)
    first = window.envelope(series, 100)
    assert window.envelope(series, 100) is first
    window.show(1.0, 2.0)
    assert window.envelope(series, 100) is not first


def test_a_tray_leaves_out_energies_that_nobody_knows(demo_session) -> None:
    capture = demo_session.capture("r4")
    with_energy = [capture.reading(0, 1), capture.reading(60, 70)]
    assert [row.name for row in tray_rows(with_energy)][3] == "energy"
    plain_series = ArraySeries(np.ones(10, dtype=np.float32), 1.0)
    from warm_ember.signal.stretch import read_stretch

    without = [read_stretch(plain_series, 0, 5)]
    assert "energy" not in [row.name for row in tray_rows(without)]
    first, second = reading_lines(without[0])
    assert plain(first) == "5.00 s   1.00 A   5.00 C"
    assert plain(second) == "peak 1.00 A"


def test_rungs_compare_with_the_step_before(demo_session) -> None:
    from warm_ember.model.project import RunKind
    from warm_ember.session import edits

    demo_session.apply(edits.change_run("r3", kind=RunKind.REPEAT), "repeat")
    runs = demo_session.project.runs
    found = {run.name: demo_session.run(run.name) for run in runs if run.name != "r1"}
    history = history_rows(runs, found)
    assert [rung.run.name for rung in history] == ["r2", "r3", "r4", "r5"]
    assert history[0].before_a is None
    assert history[1].before_a == history[2].before_a == history[0].mean_a
    sleep = history_rows(runs, found, "Deep sleep")
    assert all(one.mean_a < rung.mean_a for one, rung in zip(sleep, history, strict=True))


@given(st.floats(-1e3, 1e3), st.floats(-1e3, 1e3))
def test_figures_that_differ_are_written_differently(one: float, other: float) -> None:
    first, second = (str(text) for text in format_distinct(one, other, "A"))
    assert (first == second) == (one == other) or abs(one - other) <= 1e-7 * max(abs(one), abs(other))


def test_lines_are_drawn_where_they_are_high(qtbot: QtBot) -> None:
    lane = LinesLane(Appearance(NIGHT), TimeWindow())
    qtbot.addWidget(lane)
    lane.resize(1160 + 8, 40)
    lane.window_on_time.set_capture(10.0, 0.01)
    picture = QImage(lane.size(), QImage.Format.Format_RGB32)
    picture.fill(0)
    painter = QPainter(picture)
    row = QRectF(160, 10, 1000, 10)
    edges = np.array([0.0, 2.0, 4.0, 4.01, 10.0])
    lane._paint_line(painter, row, edges, np.array([False, True, True, False]), np.array([True, False, True, True]))
    painter.end()
    ink = NIGHT.dim.rgb()
    at = {x: [y for y in range(5, 25) if picture.pixel(x, y) == ink] for x in (200, 460, 560, 700, 1100)}
    assert at[200] == at[700] == at[1100] == [20]
    assert at[460] == [10]
    assert at[560][0] == 10
    assert at[560][-1] >= 19


def test_doubts_are_labelled_once_and_found_by_the_pointer(qtbot: QtBot) -> None:
    lane = QualityLane(Appearance(DAY), TimeWindow())
    qtbot.addWidget(lane)
    lane.window_on_time.set_capture(100.0, 0.01)
    places = ((10.0, 10.1), (10.2, 10.3), (60.0, 90.0), (99.99, 100.0))
    found = [Finding(FindingKind.CLIPPED, a, b, None, 0.9, "cut off") for a, b in places]
    lane.set_findings((*found, Finding(FindingKind.HUM, 0.0, 100.0, None, 0.8, "mains")))
    lane.resize(1280, lane.height())
    assert lane.has_data()
    lane.grab()
    assert len(lane._boxes) == 5
    x = lane.x_of(75.0)
    assert lane.finding_at(x, lane._boxes[2][0].center().y()) is found[2]
    assert lane.finding_at(x, lane._boxes[4][0].center().y()).kind is FindingKind.HUM
    assert lane.finding_at(lane.x_of(30.0), lane._boxes[2][0].center().y()) is None


@pytest.mark.parametrize("rising", [True, False])
def test_whole_days_are_labelled_with_their_date(rising: bool) -> None:
    window = TimeWindow()
    window.set_capture(40 * 86400.0, 1.0, "2026-06-14T05:59:00+00:00" if rising else "2026-06-14 05:59:00")
    assert window.label(86400.0, 1e5) == "1d 0:00:00"
    window.show_clock(True)
    assert window.origin_s == 5 * 3600 + 59 * 60
    assert window.label(86400.0 - window.origin_s, 1e5) == "15 Jun 00:00"
    assert window.label(10 * 86400.0, 1e8) == "24 Jun"
    assert window.label(30.25, 1.0) == "05:59:30.250"
    window.set_capture(10.0, 1.0, "no date")
    assert window.start is None
    assert window.label(5.0, 10.0) == "0:05.00"
