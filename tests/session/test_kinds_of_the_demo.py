"""Kinds that the current alone tells, beside what the log of the same run says."""

from __future__ import annotations

import pytest

from warm_ember.session.session import Session
from warm_ember.signal.recurrence import Manner


@pytest.mark.parametrize("run", ["r4", "r5"])
def test_the_kinds_are_the_sources_that_the_log_names(demo_session: Session, run: str) -> None:
    project = demo_session.project
    shown = demo_session.kinds.shown(project, run)
    ledger = demo_session.wakes.shown(project, run).ledger
    logged = {row.source: row for row in ledger.sources}
    by_chance = next(kind for kind in shown.kinds.kinds if kind.recurrence.manner is Manner.CHANCE)
    seconds = next(kind for kind in shown.kinds.kinds if kind.recurrence.period_s == pytest.approx(1.0, rel=2e-3))
    assert by_chance.count == logged["pir"].count
    assert by_chance.charge.value == pytest.approx(logged["pir"].charge_c_mean, rel=0.02)
    assert seconds.charge.value == pytest.approx(logged["rtc"].charge_c_mean, rel=0.03)
    # A second that falls into a longer wake is not seen: those that are, are those of the log.
    assert seconds.count >= logged["rtc"].count
    # The one report is seen once: nothing says how often it comes.
    assert len(shown.kinds.unsorted) == 1
    parts = (*shown.kinds.kinds, *shown.kinds.stays)
    whole_a = shown.kinds.floor.value + sum(part.added_a for part in parts) + shown.kinds.unsorted_a
    assert whole_a == pytest.approx(shown.kinds.mean_a, rel=1e-6)


def test_a_timer_that_runs_only_while_the_modem_listens_is_no_activity_of_the_whole_day(demo_session: Session) -> None:
    project = demo_session.project
    shown = demo_session.kinds.shown(project, "r4")
    (paging,) = [kind for kind in shown.kinds.kinds if kind.recurrence.timers and kind.recurrence.timers[0].stopped]
    (stay,) = shown.kinds.stays
    interval_s = shown.kinds.interval_s
    seen = shown.kinds.of(paging.number)
    assert shown.kinds.first[seen].min() >= stay.first
    assert shown.kinds.last[seen].max() <= stay.last
    assert paging.count == pytest.approx((stay.last - stay.first) * interval_s / 2.56, rel=0.1)
    assert paging.recurrence.rate_hz * shown.kinds.duration_s == pytest.approx(paging.count, rel=0.1)
