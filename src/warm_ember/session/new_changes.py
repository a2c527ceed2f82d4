"""The kinds of changes that can be entered for a run, each as one to begin with."""

from __future__ import annotations

from warm_ember.model.plan import ActivityEvery, CurrentBy, LengthTo, PlannedChange, ReduceAverage, ScaleRate
from warm_ember.model.project import Project
from warm_ember.session.run_results import RunResults
from warm_ember.units import DAY_S, HOUR_S


def new_changes(results: RunResults, project: Project) -> list[tuple[str, PlannedChange]]:
    """Return what may be planned of a run, with the words of a menu."""
    run = results.run.name
    found = [("The average falls by …", PlannedChange("An entered saving", (ReduceAverage(10e-6),), run))]
    for row in results.ledger.rows:
        mean_a = row.mean.value or 0.0
        kinds = (
            ("draws less", CurrentBy(-0.1 * mean_a, row.name)),
            ("is shorter", LengthTo(row.name, row.mean_dwell_s / 2)),
        )
        found += [(f"{row.name} {words} …", PlannedChange(f"{row.name} {words}", (one,), run)) for words, one in kinds]
        rarer = PlannedChange(f"{row.name} less often", (ScaleRate(row.name, 0.5),), run)
        found.append((f"{row.name} happens less often …", rarer))
    for activity in project.activities:
        every_s = activity.interval_s or (DAY_S / activity.per_day if activity.per_day else HOUR_S)
        change = PlannedChange(f"{activity.name} less often", (ActivityEvery(activity.name, 2 * every_s),), run)
        found.append((f"{activity.name} comes less often …", change))
    return found
