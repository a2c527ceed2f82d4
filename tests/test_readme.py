"""The figures of the README are the demo's."""

from __future__ import annotations

import re
from pathlib import Path

from warm_ember.session.session import Session
from warm_ember.session.state_results import day_ledger
from warm_ember.units import months_text, percent_text, quantity_text

README = Path(__file__).resolve().parent.parent / "README.md"


def words() -> str:
    return re.sub(r"\s+", " ", README.read_text())


def test_the_way_through_the_demo_tells_its_figures(demo_session: Session) -> None:
    runs = {name: demo_session.run(name) for name in ("r1", "r4", "r5")}
    means = [quantity_text(runs[name].load.mean_a, "A") for name in ("r1", "r5")]
    target = quantity_text(runs["r5"].life.budget_a, "A")
    assert f"Five rungs go down from {means[0]} to {means[1]}; the target, {target}, lies between" in words()
    idle = day_ledger(runs["r4"])["Modem idle"]
    share, time = percent_text(idle.charge_share), percent_text(idle.time_share)
    assert f"A mean day of `r4` spends {share} of its charge in *Modem idle*, which is {time} of the time" in words()
    assert f"{months_text(runs['r4'].life.life_s)}; the target is 36" in words()
    assert f"counts batched. {months_text(runs['r5'].life.life_s)}." in words()
    count = next(
        one for one in demo_session.tuning.plan(demo_session.project, "r4").matrix.columns if one.state == "Count"
    )
    assert f"{quantity_text(count.unexplained_a, 'A')} in *Count* is unexplained" in words()


def test_every_predicted_step_is_within_a_tenth(demo_session: Session) -> None:
    for proof in demo_session.tuning.plan(demo_session.project, "r5").proofs:
        predicted_a, measured_a = proof.before_a - proof.predicted_a, proof.before_a - proof.measured_a
        assert abs(measured_a / predicted_a - 1) < 0.1
