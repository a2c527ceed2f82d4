"""What lines of the console mean: patterns of the user's own, run in time linear in the line.

The engine never backtracks, so that no pattern and no line can hold a recording up. It knows no look-around and no
references back into the pattern, which need backtracking.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from warm_ember.bench.console_line import ConsoleLine
from warm_ember.errors import BadArgumentError
from warm_ember.model.bench import LinePattern
from warm_ember.model.capture import Event
from warm_ember.model.heard import Heard

EVENTS = ("state", "wake", "sleep", "mark", "sync")


def compile_expression(text: str | bytes) -> Any:
    """Compile a regular expression of the user's, for text or for bytes of UTF-8 as it is itself.

    Raises
    ------
    BadArgumentError
        If it is none, or needs what cannot be done in bounded time.
    """
    import re2  # needed where lines are read only

    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(text, options)
    except re2.error as error:
        reason = error.args[0] if error.args else error
        words = reason.decode("utf-8", "replace") if isinstance(reason, bytes) else str(reason)
        shown = text if isinstance(text, str) else text.decode("utf-8", "replace")
        raise BadArgumentError(f"“{shown}” is no regular expression that can be used: {words}") from None


def compile_pattern(pattern: LinePattern) -> Any:
    """Check a pattern and return its expression.

    Raises
    ------
    BadArgumentError
        If it cannot be used; the message says why.
    """
    if pattern.event not in EVENTS:
        raise BadArgumentError(f"a line can be a state, wake, sleep, mark or sync, not {pattern.event!r}")
    expression = compile_expression(pattern.pattern)
    nothing = compile_expression(f"(?:{pattern.pattern})|").search("")
    try:
        nothing.expand(pattern.name)
    except Exception as error:  # noqa: BLE001 - what the library raises for a missing group depends on how it is named
        raise BadArgumentError(f"“{pattern.pattern}” with “{pattern.name}” cannot be used: {error}") from None
    return expression


class Patterns:
    """Patterns that turn lines into events, the first that matches counts.

    Raises
    ------
    BadArgumentError
        If one is no regular expression, or names a group that it has not.
    """

    def __init__(self, patterns: Iterable[LinePattern]) -> None:
        self._patterns = [(compile_pattern(pattern), pattern) for pattern in patterns]

    def heard(self, line: ConsoleLine, start_s: float) -> Heard:
        """Return what a line says and when it came, counted from the recording's first sample."""
        event = self.event(line, 0.0)
        return Heard(line.received_s - start_s, event.event, event.name, line.target_s)

    def event(self, line: ConsoleLine, time_s: float) -> Event:
        """Return what a line says; a plain `log` event when no pattern knows it."""
        for expression, pattern in self._patterns:
            match = expression.search(line.text)
            if match:
                return Event(time_s, pattern.event, match.expand(pattern.name).strip())
        return Event(time_s, "mark" if line.sent else "log", line.text)
