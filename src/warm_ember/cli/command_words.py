"""What the program can be told, read off its own commands: for its manual and for completion in a shell."""

from __future__ import annotations

from typing import Any

import typer

from warm_ember.cli.app import COMMANDS, whole_program
from warm_ember.desktop.manual import CommandWords, OptionWords


def command_words() -> tuple[CommandWords, ...]:
    """Return all commands with their arguments and options."""
    group: Any = typer.main.get_command(whole_program())
    return tuple(_command(name, group.commands[name]) for name in COMMANDS)


def _command(name: str, command: Any) -> CommandWords:
    arguments = [one for one in command.params if one.param_type_name == "argument"]
    options = [one for one in command.params if one.param_type_name == "option"]
    return CommandWords(
        name=name,
        what=COMMANDS[name],
        arguments=tuple(_argument(one) for one in arguments),
        options=tuple(map(_option, options)),
    )


def _argument(one: Any) -> str:
    name = str(one.metavar or one.name or "").strip("[]{}").upper().removesuffix("...")
    name = f"{name}..." if one.nargs == -1 else name
    return name if one.required else f"[{name}]"


def _option(one: Any) -> OptionWords:
    choices = tuple(map(str, getattr(one.type, "choices", ())))
    value = "" if one.is_flag else str(one.metavar or "|".join(choices) or one.name).strip("[]<>")
    return OptionWords((*one.opts, *one.secondary_opts), value, one.help or "", choices)
