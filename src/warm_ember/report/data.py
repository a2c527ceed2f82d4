"""All that a report says, as one JSON object for other programs."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from warm_ember.report.contents import Choice
from warm_ember.report.writing import check_ending, check_target, complete_or_nothing

if TYPE_CHECKING:
    from warm_ember.library.project import Project


def write_report_data(project: Project, choice: Choice, path: Path) -> None:
    """Write what a report says as JSON; what is not finite becomes null.

    Raises
    ------
    BadArgumentError
        If the ending is not ``.json``, or the file belongs to the project.
    BadFileError
        If a capture cannot be read or the file cannot be written.
    """
    check_ending(path, (".json",))
    check_target(path, project.path)
    from warm_ember.library.record import json_bytes
    from warm_ember.report.content import gather

    content = json_bytes(gather(project, choice).as_json())
    with complete_or_nothing(path) as new:
        new.partial.write_bytes(content + b"\n")
