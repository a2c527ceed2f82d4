"""What docstrings promise: shapes of arrays, and examples that come out as they say."""

from __future__ import annotations

import ast
import doctest
import importlib
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import warm_ember

ROOT = Path(warm_ember.__file__).parent
_ARRAYS = re.compile(r"\b(Floats|Samples|Indices|Flags|Blocks|Bits|ndarray)\b")
_SHAPE = re.compile(r"\bshapes?\b", re.IGNORECASE)


WITH_EXAMPLES = [
    ".".join(("warm_ember", *path.relative_to(ROOT).with_suffix("").parts))
    for path in sorted(ROOT.rglob("*.py"))
    if ">>> " in path.read_text()
]


@pytest.mark.parametrize("name", WITH_EXAMPLES)
def test_examples_come_out_as_they_say(name: str) -> None:
    # Only modules that have any are imported for it: half of the time that finding the tests takes.
    failed, tried = doctest.testmod(importlib.import_module(name))
    assert tried > 0
    assert failed == 0


def public_functions(tree: ast.Module) -> Iterator[ast.FunctionDef]:
    """Yield the public functions of a module and of its public classes, nothing that is defined inside them."""
    for node in tree.body:
        inside = node.body if isinstance(node, ast.ClassDef) and not node.name.startswith("_") else [node]
        for one in inside:
            if isinstance(one, ast.FunctionDef) and not one.name.startswith("_"):
                yield one


def takes_or_gives_arrays(function: ast.FunctionDef) -> bool:
    arguments = [*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs]
    annotations = [one.annotation for one in arguments] + [function.returns]
    return any(_ARRAYS.search(ast.unparse(one)) for one in annotations if one is not None)


@pytest.mark.parametrize(
    "room", ["model", "signal", "attribution", "battery", "tuning", "formats", "store", "bench", "report", "session"]
)
def test_functions_on_arrays_say_their_shapes(room: str) -> None:
    silent = [
        f"{path.relative_to(ROOT)}:{function.lineno} {function.name}"
        for path in sorted((ROOT / room).rglob("*.py"))
        for function in public_functions(ast.parse(path.read_text()))
        if takes_or_gives_arrays(function) and not _SHAPE.search(ast.get_docstring(function) or "")
    ]
    assert silent == []
