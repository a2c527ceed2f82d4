"""What states should draw, as a file: one JSON object of amperes by state."""

from __future__ import annotations

import math
from pathlib import Path

import msgspec

from warm_ember.errors import BadFileError
from warm_ember.formats.source import check_regular
from warm_ember.model.project import ExpectedValue

_REMEDY = 'expected one object of amperes by state, such as {"sleep": 2e-6}'


def read_expected_file(path: Path) -> tuple[ExpectedValue, ...]:
    """Read amperes by state.

    Raises
    ------
    BadFileError
        If it cannot be read, or holds anything else than one number of at least 0 for each state.
    """
    try:
        check_regular(path)
        found = msgspec.json.decode(path.read_bytes(), type=dict[str, float])
    except OSError as error:
        raise BadFileError(path, f"cannot be read: {error.strerror}") from error
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise BadFileError(path, str(error), remedy=_REMEDY) from error
    for state, current_a in found.items():
        if not (math.isfinite(current_a) and current_a >= 0):
            raise BadFileError(path, f"{state!r} should draw {current_a} A", remedy=_REMEDY)
    return tuple(ExpectedValue(state, current_a, source=path.name) for state, current_a in found.items())
