"""``warm-ember recover``: finish what interrupted recordings left."""

from __future__ import annotations

from typing import Annotated

import typer

from warm_ember.cli.arguments import JsonOption, ProjectArgument
from warm_ember.cli.output import print_json, print_line
from warm_ember.errors import WarmEmberError


def recover_(
    project: ProjectArgument,
    discard: Annotated[
        list[str] | None, typer.Option("--discard", metavar="NAME", help="Throw this recording away; repeatable.")
    ] = None,
    json: JsonOption = False,
) -> None:
    """Finish what interrupted recordings left in PROJECT."""
    from warm_ember.session.recovering import discard_recording, recover_all
    from warm_ember.session.session import Session

    with Session.open(project) as session:
        for name in discard or ():
            discard_recording(session, name)
        found = recover_all(session)
    if json:
        done = [
            {"recording": one.recording, "capture": one.capture, "samples": one.samples} for one in found if one.capture
        ]
        kept = [{"recording": one.recording, "problem": one.problem} for one in found if one.problem]
        empty = [one.recording for one in found if not one.capture and not one.problem]
        print_json({"recovered": done, "unfinished": kept, "empty": empty, "discarded": list(discard or ())})
    else:
        for name in discard or ():
            print_line(f"the interrupted recording {name!r} was thrown away")
        for one in found:
            print_line(one.sentence)
        if not found and not discard:
            print_line("no recording was interrupted")
    problems = [one for one in found if one.problem]
    if problems:
        raise WarmEmberError(problems[0].sentence)
