"""The guide: every chapter answers its question, and every command in it works as it is written."""

from __future__ import annotations

import re
import shlex
import socket
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from warm_ember.session.guide import chapters

DOCS = Path(__file__).resolve().parent.parent / "docs"
CHAPTERS = sorted((DOCS / "guide").glob("*.md"))
PAGES = [path for path in CHAPTERS if path.name[1] == "-"]  # of the links from amperes to months
BLOCK = re.compile(r"^```sh\n(.*?)^```", re.DOTALL | re.MULTILINE)


def commands_of(path: Path) -> list[str]:
    return [line for block in BLOCK.findall(path.read_text()) for line in block.splitlines() if line.strip()]


def test_every_chapter_says_what_it_answers_and_shows_what_there_is() -> None:
    assert [one.title for one in chapters()][-2:] == ["Reading the figures", "What it cannot do"]
    for path in CHAPTERS:
        text = path.read_text()
        assert text.count("**The question.**") == 1, path.name
        for picture in re.findall(r"!\[[^]]+\]\(([^)]+)\)", text):
            assert (path.parent / picture).is_file(), (path.name, picture)
    for path in PAGES:
        text = path.read_text()
        assert "![" in text, path.name
        assert "## Traps" in text, path.name
        assert commands_of(path), path.name
        assert "## Formulas" in text or path.stem == "1-start", path.name


def test_the_index_leads_to_every_document() -> None:
    index = (DOCS / "README.md").read_text()
    linked = set(re.findall(r"\]\(([^)#]+)\)", index))
    there = {str(path.relative_to(DOCS)) for path in DOCS.rglob("*.md")} - {"README.md"}
    assert there <= linked
    assert all((DOCS / one).exists() for one in linked)


@pytest.mark.parametrize("chapter", PAGES, ids=lambda path: path.stem)
def test_its_commands_work_as_they_are_written(
    chapter: Path,
    demo_copy: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    command: Callable[..., tuple[int, str, str]],
) -> None:
    monkeypatch.chdir(demo_copy.parent)
    with socket.socket() as probe:  # 5025 may be taken where tests run side by side
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    beside: list[subprocess.Popen[str]] = []
    try:
        for line in commands_of(chapter):
            program, *arguments = shlex.split(line.replace("5025", str(port)))
            assert program == "warm-ember"
            if arguments[0] == "bench":
                serving = [sys.executable, "-u", "-m", "warm_ember", *arguments]
                beside.append(subprocess.Popen(serving, stdout=subprocess.PIPE, text=True))
                output = beside[-1].stdout
                assert output is not None
                assert any(str(port) in said for said in output)  # it serves from then on
                continue
            code, said, wrong = command(*arguments)
            assert code == 0, (line, wrong)
            assert said or "-o" in arguments, line
    finally:
        for one in beside:
            one.terminate()
            one.communicate(timeout=30)
