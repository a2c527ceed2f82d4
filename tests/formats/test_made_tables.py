"""Tables with one or two odd things: the right numbers, a refusal, or a told assumption; never a silent wrong one."""

from __future__ import annotations

from collections import Counter

import pytest
from fuzz_tables import jobs, look
from made_tables import ODD


@pytest.mark.parametrize("odd", ODD)
def test_a_table_with_one_odd_thing_is_read_or_refused(odd: str) -> None:
    outcomes = {look((seed, (odd,))) for seed in range(4)}
    assert {outcome for outcome, _ in outcomes} <= {"right", "rightly refused", "told"}


def test_tables_with_two_odd_things_are_read_or_told() -> None:
    found = [(job, look(job)) for job in jobs(260, 20261130)[46:]]
    counts = Counter(outcome for _, (outcome, _) in found)
    assert not [entry for entry in found if entry[1][0] in ("silent", "crashed")]
    assert counts["refused"] <= 0.03 * len(found)
