"""What a desktop is told of the program passes the desktop's own validators, and is taken away again."""

from __future__ import annotations

import shutil
import subprocess
import sys
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from pathlib import Path

import h5py
import pytest

from warm_ember.cli.app import COMMANDS
from warm_ember.cli.command_words import command_words
from warm_ember.crash_note import crash_words, write_crash_note
from warm_ember.desktop import doctor
from warm_ember.desktop.installing import APPLICATION, files_of
from warm_ember.places import log_folder
from warm_ember.signal.pyramid import PyramidBuilder
from warm_ember.version import VERSION

Command = Callable[..., tuple[int, str, str]]


@pytest.fixture
def installed(command: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """The folder of shared data with all of it."""
    home = tmp_path / "home of data"
    home.mkdir()
    monkeypatch.setenv("XDG_DATA_HOME", str(home))
    assert command("desktop", "install")[0] == 0
    return home


def validated(tool: str, *arguments: object) -> str:
    """Run a validator and return what it finds fault with."""
    if shutil.which(tool) is None:
        pytest.skip(f"{tool} is not installed")
    done = subprocess.run([tool, *map(str, arguments)], capture_output=True, text=True, check=False)
    return "" if done.returncode == 0 else done.stdout + done.stderr


def test_the_menu_entry_is_valid(installed: Path) -> None:
    entry = installed / "applications" / f"{APPLICATION}.desktop"
    assert validated("desktop-file-validate", entry) == ""
    assert "@" not in entry.read_text()
    strange = files_of('/opt/our "tools" 100%/warm-ember', command_words())[Path(f"applications/{APPLICATION}.desktop")]
    entry.write_text(strange)
    assert validated("desktop-file-validate", entry) == ""


def test_the_description_of_the_program_is_valid(installed: Path) -> None:
    about = installed / "metainfo" / f"{APPLICATION}.metainfo.xml"
    assert validated("appstreamcli", "validate", "--no-net", "--explain", about) == ""
    assert f'version="{VERSION}"' in about.read_text()


def test_captures_and_projects_are_known_by_what_they_are(installed: Path, demo_path: Path, tmp_path: Path) -> None:
    assert validated("update-mime-database", installed / "mime") == ""
    magic = (installed / "mime" / "magic").read_bytes()
    assert b"application/x-warm-ember-capture" in magic
    # What the pattern looks for stands where it looks, in what is recorded too.
    for capture in (demo_path / "captures").glob("*.h5"):
        start = capture.read_bytes()[: 16384 + 16]
        assert start.startswith(b"\x89HDF\r\n\x1a\n")
        assert f"Warm Ember {VERSION}".encode() in start
    if shutil.which("gio") is None:
        return
    other = tmp_path / "other.h5"  # of another program: it stays what it is
    with h5py.File(other, "w") as file:
        file["x"] = [1, 2, 3]
    assert content_type(other) == "application/x-hdf"
    assert content_type(next((demo_path / "captures").glob("*.h5"))) == "application/x-warm-ember-capture"
    assert content_type(demo_path / "project.json") == "application/x-warm-ember-project"


def content_type(path: Path) -> str:
    """Return what a file manager takes a file for."""
    asked = ["gio", "info", "-a", "standard::content-type", path]
    said = subprocess.run(asked, capture_output=True, text=True, check=True).stdout
    return said.rpartition("content-type: ")[2].strip()


def test_the_manual_has_every_command_and_is_formatted_without_a_warning(installed: Path) -> None:
    page = installed / "man" / "man1" / "warm-ember.1"
    text = page.read_text()
    for name in COMMANDS:
        assert f"\\fB{name}\\fR" in text
    if shutil.which("groff") is None:
        pytest.skip("groff is not installed")
    done = subprocess.run(
        ["groff", "-k", "-man", "-ww", "-Tutf8", "-P-cbou", page], capture_output=True, text=True, check=True
    )
    assert done.stderr == ""
    assert "--whole-cycles" in done.stdout


def completed(script: Path, *words: str) -> list[str]:
    """Return what bash offers for the last of some words."""
    asked = " ".join(f"'{word}'" for word in words)
    lines = f"source '{script}'; COMP_WORDS=({asked}); COMP_CWORD={len(words) - 1}; _warm_ember"
    done = subprocess.run(
        ["bash", "-c", f"{lines}; printf '%s\\n' \"${{COMPREPLY[@]}}\""], capture_output=True, text=True, check=True,
        cwd=script.parent,
    )  # fmt: skip
    assert done.stderr == ""
    return done.stdout.split()


def test_the_shell_completes_commands_options_and_values(installed: Path) -> None:
    script = installed / "bash-completion" / "completions" / "warm-ember"
    assert completed(script, "warm-ember", "swe") == ["sweep"]
    assert completed(script, "warm-ember", "gate", "--ba") == ["--baseline"]
    assert completed(script, "warm-ember", "export", "p", "r5", "fold", "--align", "w") == ["wake"]
    (script.parent / "two words.h5").touch()
    assert "two words.h5" in " ".join(completed(script, "warm-ember", "stretch", "two"))
    assert {one.name for one in command_words()} == set(COMMANDS)


def test_all_of_it_is_taken_away_and_nothing_else(installed: Path, command: Command) -> None:
    other = installed / "applications" / "other.desktop"
    other.write_text("[Desktop Entry]\n")
    code, said, _ = command("desktop", "remove")
    assert code == 0
    assert said.count("removed:") == len(files_of("x", command_words()))
    assert other.exists()
    assert not list(installed.rglob("*warm*ember*.svg"))
    assert command("desktop", "remove")[1].strip() == "nothing was installed"


def test_a_crash_note_has_places_and_versions_and_nothing_private(tmp_path: Path) -> None:
    secret = tmp_path / "Anna's device" / "project.json"
    try:
        PyramidBuilder().append(f"cannot read {secret}: 'Anna' at TCPIP::10.0.0.7::5025::SOCKET, “tag”")  # type: ignore[arg-type]
    except (TypeError, ValueError, AttributeError, IndexError) as error:
        first = error
    try:
        raise RuntimeError(f"row 17 of {secret} is “Anna”, asked of TCPIP::10.0.0.7::5025::SOCKET") from first
    except RuntimeError as error:
        words = crash_words(type(error), error, error.__traceback__)
        note = write_crash_note(type(error), error, error.__traceback__)
    assert note is not None
    assert note.parent == log_folder() / "crashes"
    assert f"Warm Ember {VERSION}" in words
    assert "builtins.RuntimeError: row 17 of <path>" in words
    assert "warm_ember/signal/pyramid.py:" in words
    for private in ("Anna", "10.0.0.7", str(tmp_path), "tag"):
        assert private not in words
    for _ in range(12):
        write_crash_note(RuntimeError, RuntimeError("x"), None)
    assert len(list(note.parent.iterdir())) == 10


@pytest.mark.logs_errors
def test_a_bug_in_a_command_leaves_a_note_and_one_line(
    command: Command, monkeypatch: pytest.MonkeyPatch, demo_path: Path
) -> None:
    def broken(_path: object, **_given: object) -> None:
        raise ZeroDivisionError("a bug")

    monkeypatch.setattr("warm_ember.library.project.Project.open", broken)
    code, _, wrong = command("states", demo_path, "r5")
    assert code == 2
    assert wrong.count("\n") == 1
    (note,) = (log_folder() / "crashes").iterdir()
    assert str(note) in wrong
    assert "ZeroDivisionError" in note.read_text()


def test_the_doctor_says_what_is_missing_and_how_to_mend_it(
    command: Command, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    code, said, _ = command("doctor")
    assert code == 0, said
    assert f"Warm Ember {VERSION}" in said
    monkeypatch.setitem(sys.modules, "PySide6.QtCore", None)
    monkeypatch.setitem(doctor.PAGES, "libno-such.so.9", "libno-such9")
    closed = tmp_path / "closed"
    closed.write_text("")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(closed / "below"))
    monkeypatch.setattr(doctor.os, "access", lambda path, _mode: not str(path).startswith(str(closed)))
    found = {one.what: one for one in doctor.examine()}
    assert "warm-ember[window]" in found["window"].remedy
    assert "apt-get install libno-such9" in found["reports"].remedy
    assert found["settings"].is_missing
    assert command("doctor")[0] == 1


def test_pictures_of_the_program_can_be_drawn() -> None:
    from warm_ember.desktop.installing import icon

    drawn = ElementTree.fromstring(icon())
    assert drawn.attrib["viewBox"] == "0 0 128 128"
