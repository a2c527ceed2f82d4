"""What the program says is plain, professional English: no private pictures, no plural of one, no ungrouped digits."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

import warm_ember

ROOT = Path(warm_ember.__file__).parent

BANNED = re.compile(
    r"\bflows? in\b|\bno owner\b|\bheld against\b|\bhold (it|them|\S+) against\b|\bgives? back\b|\bgives .* back\b"
    r"|\btyped?\b|\basked for\b|\bby itself\b|\bby themselves\b|\b[Hh]angs? (on|it|the)\b|\bbelie[fv]"
    r"|\bdoubts?\b|\bpays? from\b|\bless exact\b|\b(may be )?later by\b|% sure\b|\} sure\b|\bmore by\b|\bnobody\b"
    r"|\bsomebody\b|\bwho says\b|\bis told\b|\btells? of\b|\bspeaks? against\b"
)
EACH_TIME = re.compile(r"\b(come|comes|wakes|paged|samples|rate) each\b|\beach \{\}(?! (of|in|run|capture))")
COUNTED = re.compile(
    r"\{\} (changes|samples|states|stretches|lines|rows|readings|wakes(?! the)|runs|parts|files|cycles|entries|captures"
    r"|events|columns|levels|brackets|periods|pulses|bursts|faults|findings|sources|activities|intervals|pieces)\b"
)


@cache
def all_strings() -> tuple[tuple[Path, int, str], ...]:
    """Return the texts of all modules, each with its place."""
    return tuple((path, line, text) for path in sorted(ROOT.rglob("*.py")) for line, text in strings(path))


def strings(path: Path) -> Iterator[tuple[int, str]]:
    """Yield the texts of a module with a space in them, what is filled in as ``{}``; no docstrings, nothing logged."""
    tree = ast.parse(path.read_text())
    parent = {id(child): node for node in ast.walk(tree) for child in ast.iter_child_nodes(node)}
    for node in ast.walk(tree):
        above = parent.get(id(node))
        if isinstance(above, ast.JoinedStr | ast.Expr) or _is_logged(above):
            continue
        if isinstance(node, ast.JoinedStr):
            text = "".join(str(one.value) if isinstance(one, ast.Constant) else "{}" for one in node.values)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            text = node.value
        else:
            continue
        if " " in text:
            yield node.lineno, text


def _is_logged(call: ast.AST | None) -> bool:
    return (
        isinstance(call, ast.Call)
        and isinstance(call.func, ast.Attribute)
        and isinstance(call.func.value, ast.Name)
        and call.func.value.id == "log"
    )


def found_by(pattern: re.Pattern[str]) -> list[str]:
    return [f"{path.relative_to(ROOT)}:{line} {text!r}" for path, line, text in all_strings() if pattern.search(text)]


@pytest.mark.parametrize("pattern", [BANNED, EACH_TIME], ids=["pictures", "rates"])
def test_no_text_speaks_in_private_pictures(pattern: re.Pattern[str]) -> None:
    assert found_by(pattern) == []


def test_what_is_counted_is_counted_by_the_one_function_that_groups_and_knows_one() -> None:
    """``counted(n, "change")``, not ``f"{n} changes"``: one of them is singular, and digits are grouped."""
    assert found_by(COUNTED) == []


def test_the_tests_find_what_they_look_for() -> None:
    assert BANNED.search("641 µA flow in Deep sleep and have no owner")
    assert EACH_TIME.search("rtc each {}")
    assert COUNTED.search("{} changes are offered")
    assert not BANNED.search("Deep sleep draws 662 µA where 21 µA is expected")
