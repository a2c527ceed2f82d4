"""The command line, whatever happens: interrupted recordings, signals, closed and odd terminals, exports."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from warm_ember.cli import app
from warm_ember.model.capture import CaptureInfo
from warm_ember.model.heard import Heard
from warm_ember.model.project import Bracket, Project
from warm_ember.session import edits
from warm_ember.session.session import Session
from warm_ember.store.capture_file import CaptureWriter
from warm_ember.store.recording_file import RecordingFile

ENVIRONMENT = os.environ | {"PYTHONPATH": os.pathsep.join(sys.path)}


def process(*arguments: object, **options: object) -> subprocess.Popen[str]:
    words = [sys.executable, "-m", "warm_ember", *map(str, arguments)]
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "env": ENVIRONMENT} | options
    return subprocess.Popen(words, text=True, preexec_fn=listen_to_signals, **pipes)


def listen_to_signals() -> None:
    """Take signals as a program started at a terminal does: the tests may run where some are ignored."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)


@pytest.fixture
def project(tmp_path: Path) -> Path:
    with Session.open_or_create(tmp_path / "p") as session:
        session.save()
    with CaptureWriter(tmp_path / "p" / "captures" / "a.h5") as writer:
        writer.append(np.full(5000, 1e-3, np.float32))
        writer.finish(CaptureInfo(1e-3, supply_v=3.0))
    return tmp_path / "p"


def interrupt(project: Path, name: str, samples: int = 2000) -> None:
    """Leave a recording as a killed program does."""
    recording = RecordingFile(project / "captures" / f"{name}.h5", CaptureInfo(1e-3))
    recording.append(np.full(samples, 2e-3, np.float32))
    recording.note(Heard(0.5, "state", "Count"))
    recording.leave()


def test_the_next_command_finishes_an_interrupted_recording(project: Path, command) -> None:
    interrupt(project, "night")
    code, out, err = command("stretch", project, "a", "--from", 0, "--to", 1, "--json")
    assert code == 0
    assert json.loads(out)["mean_a"] == pytest.approx(1e-3)
    assert err == "warm-ember: finished the interrupted recording 'night': 2 000 samples kept\n"
    code, out, err = command("stretch", project, "night", "--from", 0, "--to", 2, "--json")
    assert (code, err) == (0, "")
    assert json.loads(out)["mean_a"] == pytest.approx(2e-3)
    with Session.open(project) as session:
        assert "interrupted" in session.capture("night").info.note
        assert session.capture("night").events[0].name == "Count"


def test_recover_finishes_tells_and_discards(project: Path, command) -> None:
    interrupt(project, "one")
    interrupt(project, "two")
    (project / "captures" / ".three.h5.recording").write_bytes(b"garbage")
    code, out, err = command("recover", project, "--discard", "one", "--json")
    told = json.loads(out)
    assert (code, err.count("\n")) == (2, 1)
    assert "three" in err
    assert told["discarded"] == ["one"]
    assert told["recovered"] == [{"recording": "two", "capture": "two", "samples": 2000}]
    assert told["unfinished"][0]["recording"] == "three"
    assert (project / "captures" / ".three.h5.recording").read_bytes() == b"garbage"
    code, out, _ = command("recover", project, "--discard", "three")
    assert code == 0
    assert command("recover", project)[1] == "no recording was interrupted\n"
    code, _, err = command("recover", project, "--discard", "four")
    assert code == 2
    assert "there are: none" in err


def test_a_recording_that_is_still_being_made_is_left_alone(project: Path, command) -> None:
    recording = RecordingFile(project / "captures" / "night.h5", CaptureInfo(1e-3))
    recording.append(np.ones(10, np.float32))
    recording.flush()
    assert command("states", project, "a")[0] == 0
    assert command("recover", project)[1] == "no recording was interrupted\n"
    code, _, err = command("import", project, project / "captures" / "a.h5", "--name", "night")
    assert code == 2
    assert "another program is writing a capture 'night'" in err
    recording.finish(CaptureInfo(1e-3), ())
    assert command("stretch", project, "night", "--from", 0, "--to", "0.01")[0] == 0


def test_a_recording_takes_no_name_of_an_interrupted_one(project: Path, command) -> None:
    interrupt(project, "night")
    code, _, err = command("record", project, "--from", "x", "--duration", 1, "--name", "night")
    assert code == 2
    assert "there already is a capture 'night'" in err
    assert "finished the interrupted recording 'night'" in err


@pytest.fixture(scope="module")
def long_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("long") / "a.csv"
    with path.open("w") as file:
        file.write("time_s,current_a\n")
        file.writelines(f"{k / 1000:.3f},0.001\n" for k in range(3_000_000))
    return path


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_ends_an_import_and_nothing_is_left(tmp_path: Path, long_file: Path, number: int) -> None:
    running = process("import", tmp_path / "p", long_file)
    while not list((tmp_path / "p").glob("captures/.warm-ember-*")):
        assert running.poll() is None
    running.send_signal(number)
    out, err = running.communicate()
    assert (running.returncode, out) == (128 + number, "")
    assert err == f"warm-ember: stopped by {signal.Signals(number).name}: nothing was changed\n"
    assert not (tmp_path / "p").exists()


def test_a_signal_that_is_ignored_stays_ignored(tmp_path: Path) -> None:
    """As `nohup` starts a program."""
    np.full(1000, 1e-3, np.float32).tofile(tmp_path / "a.f32")
    asks = "import signal; from warm_ember.cli import signals\n"
    asks += "with signals.raised(): print(signal.getsignal(signal.SIGHUP) is signal.SIG_IGN)"
    words = ["sh", "-c", "trap '' HUP; exec \"$@\"", "sh", sys.executable, "-c", asks]
    assert subprocess.run(words, env=ENVIRONMENT, capture_output=True, text=True, check=True).stdout == "True\n"


def test_a_closed_or_plain_output_changes_no_result(tmp_path: Path) -> None:
    np.full(1000, 1e-6, np.float32).tofile(tmp_path / "a.f32")
    words = [sys.executable, "-m", "warm_ember", "import", tmp_path / "p", tmp_path / "a.f32", "--rate", "1000"]
    closed = subprocess.run(["sh", "-c", 'exec "$@" >&-', "sh", *map(str, words)], env=ENVIRONMENT, check=False)
    assert closed.returncode == 0
    plain = process("states", tmp_path / "p", "a", env=ENVIRONMENT | {"PYTHONIOENCODING": "ascii"})
    out, err = plain.communicate()
    assert (plain.returncode, err) == (0, "")
    assert "1.00 ?A" in out


def test_names_that_steer_a_terminal_are_shown_as_text(project: Path, command) -> None:
    evil = "\x1b]0;owned\x07\x1b[2J"
    with CaptureWriter(project / "captures" / "b.h5") as writer:
        writer.append(np.full(5000, 1e-3, np.float32))
        from warm_ember.model.capture import Event

        writer.finish(
            CaptureInfo(1e-3), [Event(0.0, "state", evil), Event(2.0, "wake", evil), Event(2.1, "state", "b")]
        )
    for arguments in (("states", project, "b"), ("wakes", project, "b"), ("findings", project, "b")):
        _, out, err = command(*arguments)
        assert "\x1b" not in out + err
    assert json.loads(command("states", project, "b", "--json")[1])["states"]


def test_a_name_of_bytes_that_are_no_text_is_imported(tmp_path: Path) -> None:
    folder = os.fsencode(tmp_path)
    path = folder + b"/m\xfcll.f32"
    np.full(1000, 1e-3, np.float32).tofile(os.fsdecode(path))
    running = process("import", os.fsdecode(folder + b"/p\xff"), os.fsdecode(path), "--rate", 1000, "--name", "a")
    _, err = running.communicate()
    assert (running.returncode, err) == (0, "")


@pytest.mark.parametrize("what", ["ledger", "capture", "trace"])
def test_an_export_goes_over_nothing_of_the_project(project: Path, tmp_path: Path, command, what: str) -> None:
    capture = project / "captures" / "a.h5"
    before = capture.read_bytes()
    ending = {"ledger": ".csv", "capture": ".h5", "trace": ".svg"}[what]
    linked = tmp_path / f"linked{ending}"
    os.link(capture, linked)
    for target in (project / "captures" / f"a{ending}", project / "captures" / f"new{ending}", linked):
        code, _, err = command("export", project, "a", what, "-o", target)
        assert (code, err.count("\n")) == (2, 1)
    assert capture.read_bytes() == before
    assert [path.name for path in capture.parent.iterdir()] == ["a.h5"]


def test_an_export_through_a_symbolic_link_keeps_the_link(project: Path, tmp_path: Path, command) -> None:
    (tmp_path / "real.csv").write_text("old")
    (tmp_path / "link.csv").symlink_to(tmp_path / "real.csv")
    assert command("export", project, "a", "ledger", "-o", tmp_path / "link.csv")[0] == 0
    assert (tmp_path / "link.csv").is_symlink()
    assert (tmp_path / "real.csv").read_text().startswith('"name"')
    assert command("export", project, "a", "ledger", "-o", tmp_path / ("x" * 251 + ".csv"))[0] == 0


@pytest.mark.parametrize("ending", [".svg", ".png"])
def test_a_picture_on_a_full_disk_leaves_the_old_one(project: Path, tmp_path: Path, ending: str) -> None:
    target = tmp_path / f"good{ending}"
    target.write_text("the good one")
    limit = "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
    limit += "resource.setrlimit(resource.RLIMIT_FSIZE, (1000, resource.RLIM_INFINITY))\n"
    limit += "from warm_ember.cli.app import run; sys.exit(run(sys.argv[1:]))"
    words = [sys.executable, "-c", limit, "export", project, "a", "trace", "-o", target]
    done = subprocess.run(list(map(str, words)), env=ENVIRONMENT, capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "nothing was changed" in done.stderr
    assert target.read_text() == "the good one"


@pytest.mark.skipif(os.getuid() != 0, reason="only root can become nobody")
def test_a_project_that_may_only_be_read_is_read(project: Path) -> None:
    """A touched capture wants a summary made anew, and there is no place to keep it."""
    (project / "captures" / "a.h5").touch()
    for folder in (project, *project.parents):
        if "pytest" in str(folder):
            folder.chmod(0o755)
    script = (
        "import os, sys; from pathlib import Path; from warm_ember.cli.app import run\n"
        "arguments = ['stretch', sys.argv[1], 'a', '--from', '0', '--to', '1', '--json']\n"
        "assert run(arguments) == 0\n"  # all that it imports is there now
        "(Path(sys.argv[1]) / 'captures' / '.a.h5.summary').unlink()\n"
        "os.setuid(65534)\nsys.exit(run(arguments))"
    )
    words = [sys.executable, "-c", script, str(project)]
    done = subprocess.run(words, env=ENVIRONMENT, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    first, second = done.stdout.splitlines()
    assert first == second
    assert [path.name for path in (project / "captures").iterdir()] == ["a.h5"]


def test_an_import_that_the_project_cannot_take_leaves_no_capture(project: Path, command, monkeypatch) -> None:
    np.full(1000, 1e-3, np.float32).tofile(project.parent / "b.f32")

    def refuse(_path: Path, _content: bytes, **_options: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("warm_ember.store.project_folder.write_new", refuse)
    code, _, err = command("import", project, project.parent / "b.f32", "--rate", 1000)
    assert (code, err.count("\n")) == (2, 1)
    assert [path.name for path in (project / "captures").iterdir()] == ["a.h5"]


def test_each_command_is_listed_with_its_own_words() -> None:
    for name, what in app.COMMANDS.items():
        words = (app._function_of(name).__doc__ or "").strip().splitlines()[0]
        assert words == what, name


def test_a_bracket_of_another_program_is_kept(project: Path) -> None:
    def with_bracket(at_s: float):
        def edit(value: Project) -> Project:
            return edits.add_bracket("a", at_s, at_s + 1)(value)

        return edit

    with Session.open(project) as one, Session.open(project) as two:
        one.apply(with_bracket(0.0), "bracket")
        two.apply(with_bracket(2.0), "bracket")
        one.save()
        two.save()
    with Session.open(project) as session:
        assert session.project.brackets == (Bracket("A", "a", 0.0, 1.0), Bracket("B", "a", 2.0, 3.0))
