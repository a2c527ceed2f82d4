"""The axes that all pages share: current to height and colour, time to place and text, and the fields on them."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from PySide6.QtCore import QRect, Qt
from PySide6.QtWidgets import QLabel, QWidget
from pytestqt.qtbot import QtBot

from warm_ember.model.allowed import Allowed
from warm_ember.signal.envelope import PixelColumns
from warm_ember.ui.lanes.flags import tick_step
from warm_ember.ui.lanes.heat import CurrentScale, draw_line, heat_picture, log_scale
from warm_ember.ui.lanes.time_window import TimeWindow, clock_text
from warm_ember.ui.look.ramp import Ramp
from warm_ember.ui.look.textures import CROSS, swatches
from warm_ember.ui.look.theme import DAY, NIGHT, Appearance, Theme
from warm_ember.ui.widgets.flow_layout import FlowLayout
from warm_ember.ui.widgets.quantity_edit import QuantityEdit

CURRENTS = st.floats(1e-10, 2.0)
SAME_WIDGET = settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
THEMES = pytest.mark.parametrize("theme", [NIGHT, DAY], ids=["night", "day"])


def lightness(ramp: Ramp, current_a: float) -> float:
    """Relative luminance by sRGB (IEC 61966-2-1)."""
    color = ramp.color(current_a)
    parts = [one / 12.92 if one <= 0.04045 else ((one + 0.055) / 1.055) ** 2.4
             for one in (color.redF(), color.greenF(), color.blueF())]  # fmt: skip
    return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]


@THEMES
def test_the_ramp_rises_or_falls_in_lightness_all_the_way(theme: Theme) -> None:
    found = [lightness(theme.ramp, 10 ** (decade / 4)) for decade in range(-36, 1)]
    steps = np.diff(found) if theme.is_night else -np.diff(found)
    assert (steps > -1e-3).all()
    assert abs(found[-1] - found[0]) > 0.4


@THEMES
@given(currents=st.lists(CURRENTS, min_size=1, max_size=20))
def test_one_colour_is_the_same_alone_and_among_many(theme: Theme, currents: list[float]) -> None:
    packed = theme.ramp.packed(np.array(currents))
    assert [theme.ramp.color(one).rgba() for one in currents] == packed.tolist()
    assert theme.ramp.color(None) == theme.ramp.color(0.0) == theme.ramp.color(-1.0)


@given(CURRENTS, CURRENTS, st.booleans(), st.floats(0, 1))
def test_heights_and_currents_are_each_other_s_inverse(low_a, high_a, log, height) -> None:
    assume(high_a > 1.5 * low_a)
    scale = log_scale(low_a, high_a) if log else CurrentScale(low_a, high_a, log=False)
    assert float(scale.height(scale.current(np.float64(height)))) == pytest.approx(height, abs=1e-9)
    marks = [current_a for current_a, _ in scale.ticks()]
    assert marks == sorted(marks)
    assert len(marks) <= 11
    assert all(-1e-9 <= float(scale.height(np.float64(mark))) <= 1 + 1e-9 for mark in marks)
    if log:
        assert scale.low_a <= max(low_a, 1e-9) * (1 + 1e-9)
        assert scale.high_a >= high_a * (1 - 1e-9)
        assert all(math.log10(mark) == pytest.approx(round(math.log10(mark)), abs=1e-9) for mark in marks)


@THEMES
@given(data=st.lists(st.tuples(st.floats(-8, 0), st.floats(0, 3)), min_size=1, max_size=6), rows=st.integers(8, 40))
def test_a_column_is_painted_from_its_lowest_to_its_highest(theme: Theme, data, rows: int) -> None:
    low = np.array([10**decade for decade, _ in data])
    high = np.minimum(low * np.array([10**span for _, span in data]), 1.0)
    columns, scale = PixelColumns(low, high, np.sqrt(low * high)), CurrentScale(1e-9, 1.0, log=True)
    picture = heat_picture(columns, scale, rows, theme)
    assert picture.shape == (rows, len(data))
    for at in range(len(data)):
        painted = np.flatnonzero(picture[:, at])
        bottom, top = ((1 - float(scale.height(one))) * rows for one in (low[at], high[at]))
        # All of it is there, a thin one is two pixels high, and a step's riser may join the neighbour.
        assert painted.min() <= max(math.floor(top), 0)
        assert painted.max() >= min(math.ceil(bottom), rows) - 1
        assert len(painted) == painted.max() - painted.min() + 1
        expected = theme.ramp.packed(scale.current(1 - (painted + 0.5) / rows))
        np.testing.assert_array_equal(picture[painted, at], expected)


@given(st.lists(st.none() | st.floats(0, 1), min_size=1, max_size=12), st.integers(5, 40))
def test_a_line_goes_through_every_height_and_nowhere_without_one(heights, rows) -> None:
    wanted = np.array([np.nan if one is None else one for one in heights])
    picture = np.zeros((rows, len(heights)), dtype=np.uint32)
    draw_line(picture, wanted, 0xFF112233, halo=0xFF000001)
    for at, height in enumerate(heights):
        inked = np.flatnonzero(picture[:, at] == 0xFF112233)
        if height is None:
            assert not picture[:, at].any()
        else:
            assert round((1 - height) * (rows - 1)) in inked
            assert len(inked) == inked.max() - inked.min() + 1


STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("show"), st.floats(-50, 150), st.floats(-50, 150)),
        st.tuples(st.just("zoom"), st.floats(0.01, 50), st.floats(0, 100)),
        st.tuples(st.just("pan"), st.floats(-200, 200)),
        st.tuples(st.just("fit")),
        st.tuples(st.just("back")),
        st.tuples(st.just("forward")),
    ),
    max_size=25,
)


@SAME_WIDGET
@given(STEPS)
def test_a_window_never_leaves_its_capture(qtbot: QtBot, steps) -> None:
    window = TimeWindow()
    window.set_capture(100.0, 1e-2)
    for name, *arguments in steps:
        before = (window.from_s, window.to_s)
        getattr(window, name)(*arguments)
        assert window.from_s >= -1e-9
        assert window.to_s <= 100 + 1e-9
        assert 4e-2 - 1e-9 <= window.length_s <= 100 + 1e-9
        if name == "pan":
            assert window.length_s == pytest.approx(before[1] - before[0])
    assert window.duration_s == 100


@SAME_WIDGET
@given(st.lists(st.tuples(st.floats(0, 90), st.floats(0.1, 10)), min_size=1, max_size=12))
def test_going_back_visits_the_windows_that_were_shown(qtbot: QtBot, stretches) -> None:
    window = TimeWindow()
    window.set_capture(100.0, 1e-3)
    visited = [(window.from_s, window.to_s)]
    for from_s, length_s in stretches:
        window.show(from_s, from_s + length_s)
        if (window.from_s, window.to_s) != visited[-1]:
            visited.append((window.from_s, window.to_s))
    for expected in reversed(visited[:-1]):
        window.back()
        assert (window.from_s, window.to_s) == expected
    for expected in visited[1:]:
        window.forward()
        assert (window.from_s, window.to_s) == expected


@SAME_WIDGET
@given(st.floats(0.02, 40), st.floats(0.2, 5), st.floats(0, 1))
def test_zooming_keeps_the_moment_under_the_pointer(qtbot: QtBot, from_s, factor, share) -> None:
    window = TimeWindow()
    window.set_capture(100.0, 1e-4)
    window.show(from_s, from_s + 8)
    moment_s = window.from_s + share * window.length_s
    window.zoom(factor, moment_s)
    if window.from_s > 0 and window.to_s < 100:
        assert (moment_s - window.from_s) / window.length_s == pytest.approx(share, abs=1e-6)


def seconds_of(text: str) -> float:
    days, _, clock = text.rpartition("d ")
    parts = [float(part) for part in clock.split(":")]
    return 86400 * float(days or 0) + sum(part * 60**k for k, part in enumerate(reversed(parts)))


@given(st.floats(0, 3e6), st.floats(1e-4, 1e6))
def test_a_time_on_the_axis_is_read_back_to_within_its_window(time_s: float, window_s: float) -> None:
    assert seconds_of(clock_text(time_s, window_s)) == pytest.approx(time_s, abs=max(window_s / 300, 1e-9))


@given(st.floats(1e-6, 1e8), st.integers(2, 20))
def test_no_more_ticks_than_there_is_room_for(window_s: float, most: int) -> None:
    step_s = tick_step(window_s, most)
    assert window_s / step_s <= most * (1 + 1e-6) or step_s == 86400 * 364
    assert window_s / step_s >= most / 5.1 or step_s == 86400 * 364


QUANTITIES = {"A": st.floats(1e-9, 10), "s": st.floats(1e-6, 1e8), "C": st.floats(1, 1e6), "V": st.floats(0.1, 50)}


@pytest.mark.parametrize("unit", QUANTITIES)
def test_what_a_field_shows_it_also_reads(qtbot: QtBot, unit: str) -> None:
    look = Appearance(NIGHT)
    edit = QuantityEdit(look, unit, "Value")
    qtbot.addWidget(edit)

    @given(QUANTITIES[unit])
    def holds(value: float) -> None:
        edit.set_value(value)
        found = edit.value()
        assert found is not None
        assert found == pytest.approx(value, rel=0.011)  # to the digits that are shown

    holds()


@pytest.mark.parametrize("text", ["", "many", "12 V", "-3 mA", "1e999", "nan", "12 12"])
def test_what_a_field_does_not_understand_is_refused_and_not_sent(qtbot: QtBot, text: str) -> None:
    edit = QuantityEdit(Appearance(NIGHT), "A", "Current limit", allowed=Allowed(0.0, 1.0))
    qtbot.addWidget(edit)
    edit.set_value(0.2)
    sent, refused = [], []
    edit.value_entered.connect(sent.append)
    edit.refused.connect(refused.append)
    edit.selectAll()
    qtbot.keyClicks(edit, text) if text else qtbot.keyClick(edit, Qt.Key.Key_Backspace)
    qtbot.keyClick(edit, Qt.Key.Key_Return)
    assert sent == []
    assert len(refused) == 1
    assert refused[0].startswith("Current limit: expected")
    assert edit.property("wrong") == "true"
    qtbot.keyClick(edit, Qt.Key.Key_Escape)
    assert edit.value() == pytest.approx(0.2)
    assert edit.property("wrong") == "false"


@SAME_WIDGET
@given(st.lists(st.text("ab ", min_size=1, max_size=12), min_size=1, max_size=10), st.integers(60, 500))
def test_what_does_not_fit_beside_goes_below(qtbot: QtBot, words: list[str], width: int) -> None:
    parent, layout = QWidget(), FlowLayout(gap=4)
    qtbot.addWidget(parent)
    parent.setLayout(layout)
    labels = [QLabel(word) for word in words]
    for label in labels:
        layout.addWidget(label)
    height = layout.heightForWidth(width)
    layout.setGeometry(QRect(0, 0, width, height))
    boxes = [label.geometry() for label in labels]
    for one, other in itertools.pairwise(boxes):
        beside = other.top() == one.top() and other.left() > one.right()
        assert beside or (other.left() == 0 and other.top() > one.bottom())
    for box in boxes:
        assert box.bottom() < height
        assert box.left() == 0 or box.right() < width
    layout.takeAt(0)
    assert layout.count() == len(words) - 1
    assert layout.takeAt(len(words)) is None


@given(st.lists(st.sampled_from((2e-6, 3e-6, 5e-4, 1e-2)), min_size=1, max_size=8))
def test_states_of_one_decade_are_told_apart_by_texture(means_a) -> None:
    look = Appearance(NIGHT)
    found = swatches(look, [*((f"state {k}", mean_a) for k, mean_a in enumerate(means_a)), ("unplaced", 1e-3)])
    assert found["unplaced"].texture == CROSS
    by_decade: dict[int, list[str]] = {}
    for k, mean_a in enumerate(means_a):
        by_decade.setdefault(round(math.log10(mean_a)), []).append(found[f"state {k}"].texture)
        assert found[f"state {k}"].color == look.theme.ramp.color(mean_a)
    for textures in by_decade.values():
        assert len(set(textures[:4])) == len(textures[:4])
        assert CROSS not in textures
