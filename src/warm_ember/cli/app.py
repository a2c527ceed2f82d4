"""The command line: one program, one module per command, one line on stderr when something is wrong."""

from __future__ import annotations

import importlib
import logging
from collections.abc import Callable
from typing import Annotated, Any

import typer

from warm_ember.cli import signals
from warm_ember.cli.project import say
from warm_ember.crash_note import write_crash_note
from warm_ember.errors import WarmEmberError
from warm_ember.version import VERSION

log = logging.getLogger(__name__)

COMMANDS = {
    "demo": "Make the demo project in DIR and open it.",
    "import": "Import FILE into PROJECT as a capture; say what was assumed.",
    "stretch": "Read a stretch of the capture NAME.",
    "states": "Show where the charge of the capture NAME goes, by state.",
    "wakes": "Show the wakes of the capture NAME by source, and the sleep between them.",
    "kinds": "Show the wakes of the capture NAME by kind, from its current alone.",
    "findings": "Show what the analysis found in the capture NAME, with its evidence.",
    "compare": "Compare two captures: averages, states, wake sources and activities, and what else differs.",
    "gate": "Compare the capture NAME with limits: 0 if none is missed beyond the noise, 1 if one is.",
    "report": "Write a report of PROJECT to FILE: one file, nothing in it is outside.",
    "export": "Write WHAT of the capture NAME to FILE, as its ending says.",
    "collect": "Write all runs of projects into a data set, where many runs are asked together.",
    "trend": "Show where a figure of a data set changed: at which build, by how much, how sure that is.",
    "timers": "Decode radio sleep timers, encode times as the nearest that there is, or ask what a period would take.",
    "life": "Estimate the battery life of the project's latest run, or of an activity file.",
    "record": "Record from an instrument into PROJECT; an instrument's fault ends it and keeps what came.",
    "sweep": "Try a target's settings on the bench, where the answer is decided, and say which is best.",
    "recover": "Finish what interrupted recordings left in PROJECT.",
    "bench": "Serve a simulated source-measure unit with a simulated target behind it, until interrupted.",
    "desktop": "Install the menu entry, file types, manual page and shell completion for this user, or remove them.",
    "doctor": "Tell what this machine lacks for window, instruments and reports, and how to mend it.",
}
"""What each command does; its own module is imported only when it is run, so that an answer does not wait for all."""

_OPEN = "open"
_PLACES = {
    "import": "warm_ember.cli.import_command:import_",
    "export": "warm_ember.cli.export:export_",
    "record": "warm_ember.cli.record:record_",
    "recover": "warm_ember.cli.recover:recover_",
    _OPEN: "warm_ember.cli.open_window:open_window",
}


def whole_program() -> typer.Typer:
    """Return the program with all its commands, for what reads off what they can be told."""
    return _program_with({_OPEN, *COMMANDS})


def program(command: str) -> typer.Typer:
    """Return the program with one command that can be run, and the others by name."""
    return _program_with({command})


def _program_with(wanted: set[str]) -> typer.Typer:
    app = typer.Typer(
        name="warm-ember",
        help="From amperes to months: where a battery device's charge goes, and what to change so that it lasts.",
        no_args_is_help=False,
        add_completion=False,
        pretty_exceptions_enable=False,
        rich_markup_mode=None,
        context_settings={"help_option_names": ["-h", "--help"]},
    )
    app.callback(epilog="Without a command: warm-ember [PROJECT] opens the window.")(_program)
    for name, what in ({_OPEN: ""} | COMMANDS).items():
        function = _function_of(name) if name in wanted else _not_run
        app.command(name, help=what or None, hidden=name == _OPEN)(function)
    return app


def _tell_version(wanted: bool) -> None:
    if wanted:
        from warm_ember.cli.output import print_line

        print_line(f"warm-ember {VERSION}")
        raise typer.Exit


def _program(
    _version: Annotated[
        bool, typer.Option("--version", help="Tell the version.", callback=_tell_version, is_eager=True)
    ] = False,
) -> None:
    """From amperes to months: where a battery device's charge goes, and what to change so that it lasts."""


def _not_run() -> None:
    """Stand for a command that is not run."""


def _function_of(name: str) -> Callable[..., Any]:
    module, function = _PLACES.get(name, f"warm_ember.cli.{name}:{name}").split(":")
    function_of: Callable[..., Any] = getattr(importlib.import_module(module), function)
    return function_of


def run(arguments: list[str]) -> int:
    """Run one command and return its exit code.

    0 done, 1 a limit was missed, 2 bad input or usage; 128 and the signal's number when a signal ended it.
    """
    if not arguments or (arguments[0] not in (*COMMANDS, _OPEN) and not arguments[0].startswith("-")):
        arguments = [_OPEN, *arguments]
    try:
        with signals.raised():
            result = program(arguments[0])(arguments, prog_name="warm-ember", standalone_mode=False)
    except typer.TyperException as error:
        message = error.format_message() if hasattr(error, "format_message") else str(error)
        return _fail(" ".join(message.split()))
    except WarmEmberError as error:
        return _fail(error.one_line)
    except typer.Exit as error:
        return error.exit_code
    except signals.Stopped as stopped:
        return _fail(f"{stopped}: nothing was changed", stopped.exit_code)
    except (KeyboardInterrupt, typer.Abort):
        return _fail("stopped", 130)
    except BrokenPipeError:
        return 0  # whoever read the output has had enough of it
    except OSError as error:
        return _fail(f"{error.filename or 'the system'}: {error.strerror or error}")
    except MemoryError:
        return _fail("there is not enough memory for this file; nothing was changed")
    except Exception as error:
        log.critical("a bug in the program", exc_info=error)
        note = write_crash_note(type(error), error, error.__traceback__)
        where = "" if note is None else f"; a note that can be sent, without private data: {note}"
        return _fail(f"a bug in the program ({type(error).__name__}: {error}){where}")
    return result if isinstance(result, int) else 0


def _fail(message: str, exit_code: int = 2) -> int:
    say("".join(c if c.isprintable() else " " for c in message))
    return exit_code
