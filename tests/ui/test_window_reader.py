"""What lanes show is read by a thread: a slow disk holds up no one, and nothing that is out of date stays."""

from __future__ import annotations

import threading

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from warm_ember.signal.series import ArraySeries
from warm_ember.ui.lanes.time_window import TimeWindow
from warm_ember.ui.lanes.window_reader import WindowReader


class SlowSeries(ArraySeries):
    """A channel on a disk that answers when it is allowed to."""

    def __init__(self, samples: np.ndarray, interval_s: float) -> None:
        super().__init__(samples, interval_s)
        self.may_answer = threading.Event()
        self.reads: list[tuple[int, int]] = []

    def read(self, first: int, last: int) -> np.ndarray:
        self.reads.append((first, last))
        assert self.may_answer.wait(60)
        return super().read(first, last)


@pytest.fixture
def window(monkeypatch: pytest.MonkeyPatch) -> TimeWindow:
    monkeypatch.setattr(WindowReader, "patience_s", 0.0)
    shown = TimeWindow()
    shown.set_capture(4.0, 1e-3)
    return shown


def test_a_slow_disk_holds_up_no_one(qtbot: QtBot, window: TimeWindow) -> None:
    series = SlowSeries(np.arange(4000, dtype=np.float32), 1e-3)
    window.show(0.0, 0.4)
    assert np.isnan(window.envelope(series, 400)[1].mean).all()
    with qtbot.waitSignal(window.reader.arrived, timeout=60_000):
        series.may_answer.set()
    np.testing.assert_allclose(window.envelope(series, 400)[1].mean[10:20], np.arange(10, 20))
    series.may_answer.clear()
    window.show(0.2, 0.6)  # until it was read, what is known of it stands where it belongs
    shown = window.envelope(series, 400)[1].mean
    np.testing.assert_allclose(shown[:190], np.arange(200, 390), atol=1.001)
    assert np.isnan(shown[205:]).all()
    with qtbot.waitSignal(window.reader.arrived, timeout=60_000):
        series.may_answer.set()
    np.testing.assert_allclose(window.envelope(series, 400)[1].mean[:390], np.arange(200, 590), atol=1.001)


def test_only_the_latest_window_is_read(qtbot: QtBot, window: TimeWindow) -> None:
    series = SlowSeries(np.arange(4000, dtype=np.float32), 1e-3)
    for step in range(20):
        window.show(0.1 * step, 0.1 * step + 0.4)
        window.envelope(series, 400)
    with qtbot.waitSignal(window.reader.arrived, timeout=60_000):
        series.may_answer.set()
    assert len(series.reads) <= 2
    np.testing.assert_allclose(window.envelope(series, 400)[1].mean[5:390], np.arange(1905, 2290), atol=1.001)


def test_what_cannot_be_read_is_tried_once_a_window(qtbot: QtBot, window: TimeWindow) -> None:
    class Damaged(ArraySeries):
        tried = 0

        def read(self, first: int, last: int) -> np.ndarray:
            Damaged.tried += 1
            raise OSError("the disk is gone")

    series = Damaged(np.ones(4000, dtype=np.float32), 1e-3)
    window.show(0.0, 0.4)
    with qtbot.waitSignal(window.reader.arrived, timeout=60_000):
        window.envelope(series, 400)
    for _ in range(3):
        assert np.isnan(window.envelope(series, 400)[1].mean).all()
    assert Damaged.tried == 1


def test_a_picture_waits_for_what_it_shows(window: TimeWindow) -> None:
    series = SlowSeries(np.arange(4000, dtype=np.float32), 1e-3)
    window.show(0.0, 0.4)
    timer = threading.Timer(0.05, series.may_answer.set)
    timer.start()
    with window.reader.waiting():
        np.testing.assert_allclose(window.envelope(series, 400)[1].mean[:390], np.arange(390))
    timer.join()


def test_another_capture_leaves_nothing_of_the_one_before(window: TimeWindow) -> None:
    series = ArraySeries(np.ones(4000, dtype=np.float32), 1e-3)
    with window.reader.waiting():
        window.envelope(series, 400)
    window.set_capture(9.0, 1e-3)
    assert not window.reader._held
