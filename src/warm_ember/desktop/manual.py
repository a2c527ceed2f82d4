"""The program's manual page, from what its commands say of themselves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from warm_ember.version import RELEASED, VERSION

_ABOUT = """A battery device empties too soon.
Warm Ember takes the current that it draws, finds out which firmware state spends the charge, and turns that into a
battery life with an honest uncertainty.
Without a command it opens the window, on a project, a capture or a data set where one is given."""


@dataclass(frozen=True)
class OptionWords:
    """An option: its names, what stands for its value, what it does, and the values that there are."""

    names: tuple[str, ...]
    value: str
    what: str
    choices: tuple[str, ...] = ()


@dataclass(frozen=True)
class CommandWords:
    """A command: its name, what it does, its arguments as they are written, and its options."""

    name: str
    what: str
    arguments: tuple[str, ...]
    options: tuple[OptionWords, ...]


def manual_page(commands: Sequence[CommandWords]) -> str:
    """Return the manual page in the format of ``man`` (section 1)."""
    return "\n".join(_lines(commands)) + "\n"


def _lines(commands: Sequence[CommandWords]) -> Iterator[str]:
    yield '.\\" -*- coding: utf-8 -*-'
    yield f'.TH WARM\\-EMBER 1 "{RELEASED}" "Warm Ember {VERSION}" "User Commands"'
    yield from (".SH NAME", "warm\\-ember \\- from amperes to months of battery life")
    yield from (".SH SYNOPSIS", ".B warm\\-ember", "[\\fIPROJECT\\fR]", ".br")
    yield from (".B warm\\-ember", "\\fICOMMAND\\fR [\\fIARGUMENTS\\fR]")
    yield ".SH DESCRIPTION"
    yield from map(_escaped, _ABOUT.splitlines())
    yield ".SH COMMANDS"
    for command in commands:
        yield from (".TP", f"\\fB{_escaped(command.name)}\\fR {_escaped(' '.join(command.arguments))}".rstrip())
        yield _escaped(command.what)
        for option in command.options:
            names = ", ".join(f"\\fB{_escaped(name)}\\fR" for name in option.names)
            value = f" \\fI{_escaped(option.value)}\\fR" if option.value else ""
            yield from (".RS", ".TP", f"{names}{value}", _escaped(option.what or "\\&"), ".RE")
    yield from (".SH EXIT STATUS", "0 when done, 1 when a limit was missed (gate) or something is missing (doctor),")
    yield "2 for bad input or usage with one line on the error output, 128 and its number when a signal ended it."
    yield from (".SH SEE ALSO", "The guide in the window (F1), and docs/ of the source.")


def _escaped(text: str) -> str:
    """Return text that no line or sign of which is a request to the formatter."""
    text = " ".join(text.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{text}" if text.startswith((".", "'")) else text
