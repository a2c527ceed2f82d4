"""What places a capture's states, and why that, in words."""

from __future__ import annotations

from warm_ember.model.placement import Placement
from warm_ember.model.rules import LevelsRule, LineRule
from warm_ember.store.capture import Capture


def default_reason(capture: Capture, placement: Placement) -> str:
    """Return what places the states where the project has no rules, and why nothing better does."""
    has_lines = capture.lines is not None and bool(capture.lines.names)
    rule = placement.rules[0] if placement.rules else None
    if isinstance(rule, LineRule):
        return "States from lines: each combination draws one level."
    if isinstance(rule, LevelsRule):
        why = "the lines do not draw one level each" if has_lines else "there is neither a log nor a line"
        return f"States from levels: {why}."
    return ""
