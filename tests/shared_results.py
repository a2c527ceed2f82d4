"""Results of the demo that are computed once for all tests of a process, as far as its captures are the demo's."""

from __future__ import annotations

from pathlib import Path

from warm_ember.session.results import Results
from warm_ember.session.session import Session
from warm_ember.store.capture import Capture, identity_of


class SharedResults:
    """Lend what was computed of the demo to sessions on copies of it.

    What is remembered is only used where what it read of the project is the same, and captures are told by the file
    that they are: a copy whose captures are links to the demo's has the same. One session at a time may borrow; who
    asks before that one is closed computes for itself.

    Parameters
    ----------
    demo
        The demo project, which nobody changes.
    """

    def __init__(self, demo: Path) -> None:
        self._captures = {capture.identity: capture for capture in map(Capture, (demo / "captures").glob("*.h5"))}
        self._session: Session | None = None
        self._results = Results(self._open)

    def lend(self, session: Session) -> Session:
        """Let a session use what others of its kind computed."""
        if self._session is not None and vars(self._session).get("results") is self._results:
            return session
        # What came from other captures than the demo's holds on to them, and they are closed by now.
        self._results.graph.forget_captures(lambda identity: identity not in self._captures)
        self._session = session
        session.results = self._results  # type: ignore[misc]
        return session

    def _open(self, name: str) -> Capture:
        assert self._session is not None
        path = self._session.folder.capture_path(name)
        known = self._captures.get(identity_of(path)) if path.exists() else None
        return self._session.capture(name) if known is None else known

    def close(self) -> None:
        """Close the demo's captures."""
        for capture in self._captures.values():
            capture.close()
