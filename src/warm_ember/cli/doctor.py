"""``warm-ember doctor``: what this machine lacks for the window, instruments and reports, and how to mend it."""

from __future__ import annotations

from warm_ember.cli.arguments import JsonOption
from warm_ember.cli.output import print_json, print_line


def doctor(json: JsonOption = False) -> int:
    """Tell what this machine lacks for window, instruments and reports, and how to mend it."""
    from warm_ember.desktop.doctor import examine

    found = examine()
    if json:
        print_json({"checks": [one.as_json() for one in found]})
    else:
        for one in found:
            print_line(f"{one.state.value:8} {one.what}: {one.words}")
            if one.remedy:
                print_line(f"{'':8} {one.remedy}")
    return 1 if any(one.is_missing for one in found) else 0
