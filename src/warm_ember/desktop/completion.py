"""Completion in a shell: commands, then the options of the command, else files."""

from __future__ import annotations

import shlex
from collections.abc import Sequence

from warm_ember.desktop.manual import CommandWords

_BASH = """# Completion of warm-ember; also for zsh, after: autoload -U bashcompinit && bashcompinit
_warm_ember() {{
    local word="${{COMP_WORDS[COMP_CWORD]}}" before="${{COMP_WORDS[COMP_CWORD-1]}}" command="" options="" values=""
    local one
    for one in "${{COMP_WORDS[@]:1:COMP_CWORD-1}}"; do
        case "$one" in
            {commands_or}) command="$one"; break ;;
        esac
    done
    case "$command" in
{options}
        *) options="-h --help --version" ;;
    esac
    case "$command $before" in
{values}
    esac
    COMPREPLY=()
    if [ -n "$values" ]; then
        mapfile -t COMPREPLY < <(compgen -W "$values" -- "$word")
    elif [[ "$word" == -* ]]; then
        mapfile -t COMPREPLY < <(compgen -W "$options" -- "$word")
    else
        [ -n "$command" ] || mapfile -t COMPREPLY < <(compgen -W "{commands}" -- "$word")
        local file
        while IFS= read -r file; do COMPREPLY+=("$file"); done < <(compgen -f -- "$word")
    fi
}}
complete -o filenames -F _warm_ember warm-ember
"""


def bash_completion(commands: Sequence[CommandWords]) -> str:
    """Return the completion for bash; zsh takes it too."""
    options, values = [], []
    for command in commands:
        own = " ".join(name for option in command.options for name in option.names)
        options.append(f'        {command.name}) options="{own}" ;;')
        for option in command.options:
            if option.choices:
                cases = "|".join(f'"{command.name} {name}"' for name in option.names)
                values.append(f'        {cases}) values="{" ".join(option.choices)}" ;;')
    names = [command.name for command in commands]
    return _BASH.format(
        commands=" ".join(names), commands_or="|".join(names), options="\n".join(options), values="\n".join(values)
    )


def fish_completion(commands: Sequence[CommandWords]) -> str:
    """Return the completion for fish."""
    first = "complete -c warm-ember -n __fish_use_subcommand -a"
    lines = [f"{first} {command.name} -d {shlex.quote(command.what)}" for command in commands]
    for command in commands:
        for option in command.options:
            signs = " ".join(f"-l {name[2:]}" if name.startswith("--") else f"-s {name[1:]}" for name in option.names)
            needs = " -r" if option.value else ""
            choices = f" -x -a {shlex.quote(' '.join(option.choices))}" if option.choices else needs
            lines.append(
                f"complete -c warm-ember -n '__fish_seen_subcommand_from {command.name}' {signs}{choices} "
                f"-d {shlex.quote(option.what)}"
            )
    return "\n".join(lines) + "\n"
