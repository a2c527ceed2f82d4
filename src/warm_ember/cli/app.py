"""The command line: one program, one module per command, one line on stderr when something is wrong."""

from __future__ import annotations

import logging

import typer

from warm_ember.cli import (
    bench,
    compare,
    demo,
    export,
    findings,
    import_command,
    life,
    open_window,
    record,
    recover,
    signals,
    states,
    stretch,
    timers,
    wakes,
)
from warm_ember.cli.project import say
from warm_ember.errors import WarmEmberError

log = logging.getLogger(__name__)

app = typer.Typer(
    name="warm-ember",
    help="From amperes to months: where a battery device's charge goes, and what to change so that it lasts.",
    no_args_is_help=False,
    add_completion=False,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    context_settings={"help_option_names": ["-h", "--help"]},
)
app.command("open", hidden=True)(open_window.open_window)
app.command("demo")(demo.demo)
app.command("import")(import_command.import_)
app.command("stretch")(stretch.stretch)
app.command("states")(states.states)
app.command("wakes")(wakes.wakes)
app.command("findings")(findings.findings)
app.command("compare")(compare.compare)
app.command("export")(export.export_)
app.command("timers")(timers.timers)
app.command("life")(life.life)
app.command("record")(record.record_)
app.command("recover")(recover.recover_)
app.command("bench")(bench.bench)

_COMMANDS = frozenset(command.name for command in app.registered_commands)


@app.callback(epilog="Without a command: warm-ember [PROJECT] opens the window.")
def _program() -> None:
    """From amperes to months: where a battery device's charge goes, and what to change so that it lasts."""


def run(arguments: list[str]) -> int:
    """Run one command and return its exit code.

    0 done, 1 a limit was missed, 2 bad input or usage; 128 and the signal's number when a signal ended it.
    """
    if not arguments or (arguments[0] not in _COMMANDS and not arguments[0].startswith("-")):
        arguments = ["open", *arguments]
    try:
        with signals.raised():
            result = app(arguments, prog_name="warm-ember", standalone_mode=False)
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
        return _fail(f"a bug in the program ({type(error).__name__}: {error})")
    return result if isinstance(result, int) else 0


def _fail(message: str, exit_code: int = 2) -> int:
    say("".join(c if c.isprintable() else " " for c in message))
    return exit_code
