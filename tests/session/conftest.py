"""The small project, made once for all tests that only look at it."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from session.small import make_small
from warm_ember.session.session import Session


@pytest.fixture(scope="module")
def small_session(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Session]:
    session = make_small(tmp_path_factory.mktemp("small") / "project")
    yield session
    session.close()
