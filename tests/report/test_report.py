"""The report: what stands in it is what the commands say, it is one file, and nothing in it is more than text."""

from __future__ import annotations

import json
import re
import zlib
from html.parser import HTMLParser
from pathlib import Path

import msgspec
import numpy as np
import pypdfium2
import pytest

import warm_ember
from warm_ember.errors import BadArgumentError, BadFileError, ProjectError, WarmEmberError
from warm_ember.library.project import Project
from warm_ember.model.rules import LogRule
from warm_ember.report.content import gather
from warm_ember.report.contents import Choice, Part
from warm_ember.report.figures.paper import heat
from warm_ember.report.figures.trace_figure import trace_figure
from warm_ember.report.page_setting import PageSetting
from warm_ember.report.pages import render, write_report
from warm_ember.report.words import figure, safe
from warm_ember.session import edits
from warm_ember.session.session import Session
from warm_ember.units import quantity_text

HOSTILE = "<script>alert(1)</script>\x1b[31m$x^2$&\u202e" + "long " * 2000


@pytest.mark.parametrize(
    ("breaks", "words"),
    [
        ("raise OSError('cannot load library pango-1.0')", "system library that is missing .*pango.*; on Debian"),
        ("raise RuntimeError('no room')", "could not be set as PDF .*no room.*; as .html it can be saved"),
    ],
)
@pytest.mark.logs_errors
def test_what_keeps_pages_from_being_set_is_said(tmp_path, monkeypatch, breaks: str, words: str) -> None:
    (tmp_path / "weasyprint.py").write_text(breaks)
    monkeypatch.setenv("PYTHONPATH", str(tmp_path))
    with PageSetting() as setting, pytest.raises(WarmEmberError, match=words):
        setting.pdf("<p>page</p>")


def test_a_report_that_fails_leaves_no_process_behind(tmp_path, monkeypatch) -> None:
    begun = []

    class Watched(PageSetting):
        def __init__(self) -> None:
            super().__init__()
            begun.append(self._process)

    monkeypatch.setattr("warm_ember.report.pages.PageSetting", Watched)
    with pytest.raises(ProjectError), Session.open_or_create(tmp_path / "p") as session:
        write_report(Project(session), Choice(), tmp_path / "r.pdf")
    assert not (tmp_path / "r.pdf").exists()
    assert [process.returncode is not None for process in begun] == [True]


class Outside(HTMLParser):
    """Collects what a page would fetch or run, and its text."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.tags: set[str] = set()
        self.links: list[str] = []
        self.words: list[str] = []
        self.feed(page)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        self.links += [value or "" for name, value in attributes if name in ("src", "href", "xlink:href", "data")]

    def handle_data(self, data: str) -> None:
        self.words.append(data)

    @property
    def text(self) -> str:
        return re.sub(r"[\s\u202f\u2009]+", " ", " ".join(self.words))


@pytest.fixture
def project(demo_session: Session) -> Project:
    return Project(demo_session)


def pdf_text(content: bytes) -> bytes:
    """Return what streams of a PDF hold, unpacked."""
    streams = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", content, re.DOTALL)
    unpacked = []
    for stream in streams:
        try:
            unpacked.append(zlib.decompress(stream))
        except zlib.error:
            unpacked.append(stream)
    return b"\n".join(unpacked)


def test_a_page_holds_all_that_the_commands_say_and_nothing_from_outside(project) -> None:
    page = Outside(render(project, Choice()))
    assert not {"script", "img", "link", "iframe", "object"} & page.tags
    assert all(link.startswith("#") for link in page.links)
    assert "svg" in page.tags
    life = project.life()
    assert f"{life.months:.1f} months" in page.text
    for words in (
        "target of 36.0 is met",
        "What is not included",
        "Deep sleep",
        "kind A",
        "A figure's look is its grade",
    ):
        assert words in page.text, words
    for run in project.runs:
        assert project.session.project.run(run).label in page.text
    for finding in project.runs["r5"].findings().findings:
        assert finding.kind in page.text


def test_the_content_is_what_the_library_answers(project) -> None:
    report = gather(project, Choice())
    assert [run.run for run in report.runs] == ["r1", "r2", "r3", "r4", "r5"]
    assert report.detail.states == project.runs["r5"].states()
    assert report.detail.wakes == project.runs["r5"].wakes()
    assert report.subject.life == project.life("r5")
    assert sum(row.added_a for row in report.detail.day) == pytest.approx(report.subject.average.mean_a)
    assert sum(row.time_share for row in report.detail.day) == pytest.approx(1.0)
    low, high = report.subject.average.mean_a_low, report.subject.average.mean_a_high
    assert low < report.subject.average.mean_a < high
    assert [(step.before, step.after, step.proved) for step in report.steps] == [
        ("r1", "r2", True), ("r2", "r3", True), ("r3", "r4", True), ("r4", "r5", True),
    ]  # fmt: skip
    assert {one.grade for one in report.inputs} == {"entered", "measured"}
    json.dumps(report.as_json())


def test_one_run_two_runs_and_claims(project) -> None:
    one = gather(project, Choice(("r3",), title="Only r3"))
    assert (one.title, [run.run for run in one.runs], one.steps) == ("Only r3", ["r3"], ())
    assert "report of a run" in Outside(render(project, Choice(("r3",)))).text
    two = Choice(("r3", "r4"), claims=("half the charge",))
    report = gather(project, two)
    assert report.comparison == project.compare("r3", "r4")
    assert [detail.run for detail in report.details] == ["r3", "r4"]
    assert [(step.before, step.after) for step in report.steps] == [("r3", "r4")]
    text = Outside(render(project, two)).text
    assert "r3 and r4 compared" in text
    assert f"“half the charge”, understood as “{report.claims[0].claim.understood}”" in text
    with pytest.raises(BadArgumentError, match="--run twice"):
        gather(project, Choice(("r3",), claims=("half the charge",)))
    with pytest.raises(BadFileError, match="r9"):
        gather(project, Choice(("r9",)))


@pytest.mark.parametrize("part", Part)
def test_each_part_can_be_left_out(project, part: Part) -> None:
    choice = Choice(("r3", "r4"))
    marks = {
        Part.RUNS: "predicted step", Part.COMPARISON: "compared", Part.TRACE: "painted by the current",
        Part.STATES: "Where the charge goes", Part.WAKES: "Who wakes it", Part.BATTERY: "What is not included",
        Part.FINDINGS: "what the analysis thinks", Part.PLAN: "What is planned", Part.QUALITY: "Data quality",
        Part.GRADES: "look is its grade",
    }  # fmt: skip
    assert marks[part] not in Outside(render(project, Choice(choice.runs, parts=frozenset(Part) - {part}))).text
    alone = Outside(render(project, Choice(choice.runs, parts=frozenset({part})))).text
    assert {one for one in Part if marks[one] in alone} == {part}


def test_the_same_gives_the_same_bytes_in_both_forms(project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1780000000")
    for ending in (".html", ".pdf"):
        paths = [tmp_path / f"{name}{ending}" for name in "ab"]
        for path in paths:
            write_report(project, Choice(("r5",)), path)
        assert paths[0].read_bytes() == paths[1].read_bytes()
    assert "28 May 2026" in (tmp_path / "a.html").read_text(encoding="utf-8")
    pdf = (tmp_path / "a.pdf").read_bytes()
    assert pdf.startswith(b"%PDF")
    streams = pdf_text(pdf)
    assert b"/Subtype /Image" not in pdf + streams  # figures are vectors
    assert streams.count(b"BT") > 100  # and text is text


def test_long_words_stay_on_the_page(project, tmp_path: Path) -> None:
    session, word = project.session, "W" * 150
    session.apply(edits.change_run("r5", title=word, changed=word, note=word), "name")
    session.apply(edits.rename_state("Deep sleep", word, (LogRule(),)), "name")
    session.apply(edits.change_bracket("r5", "A", name=word), "name")
    path = tmp_path / "long.pdf"
    write_report(project, Choice(), path)
    document = pypdfium2.PdfDocument(path)
    for page in document:
        text, width_pt = page.get_textpage(), page.get_width()
        boxes = [text.get_charbox(at) for at in range(text.count_chars())]
        assert boxes
        assert max(right for _, _, right, _ in boxes) <= width_pt - 16 / 25.4 * 72 + 2.0
    document.close()


def test_hostile_names_are_text(project) -> None:
    session = project.session
    session.apply(edits.change_run("r5", title=HOSTILE, changed=HOSTILE, note=HOSTILE), "name")
    session.apply(edits.change_bracket("r5", "A", name=HOSTILE), "name")
    session.apply(edits.rename_state("Deep sleep", "<img src=x>$\\frac$", (LogRule(),)), "name")
    session.apply(edits.SetFields("project", {"name": HOSTILE}), "name")
    page = render(project, Choice(("r4", "r5")))
    found = Outside(page)
    assert not {"script", "img"} & found.tags
    assert "<script>alert(1)</script>" in found.text
    assert "<img src=x>" in found.text
    assert "\x1b" not in page
    assert "\u202e" not in page
    assert len(page) < 900_000


def test_bare_currents_and_empty_projects_are_reported_on(tmp_path: Path, command) -> None:
    file = tmp_path / "bare.csv"
    wave = np.where(np.arange(4000) % 500 < 30, 4e-3, 5e-6) * (1 + 0.01 * np.sin(np.arange(4000)))
    wave[1000:1100] = np.nan
    file.write_text("time_s,current_a\n" + "\n".join(f"{k * 1e-3:.3f},{x:.9g}" for k, x in enumerate(wave)))
    with warm_ember.open_project(tmp_path / "own", create=True) as project:
        with pytest.raises(ProjectError, match="no capture"):
            gather(project, Choice())
        project.import_file(file)
        text = Outside(render(project, Choice())).text
        assert "no target is entered" in text
        assert "fault" in text  # a part of it was not measured
    code, out, err = command("report", tmp_path / "own", "-o", tmp_path / "r.html")
    assert (code, out, err) == (0, "", "")
    assert (tmp_path / "r.html").stat().st_size > 20_000


def test_a_current_below_what_is_resolved_is_shown_as_that(tmp_path: Path) -> None:
    for name, wave in (("nothing", np.zeros(500)), ("back", np.full(500, -2e-3))):
        np.save(tmp_path / f"{name}.npy", wave)
        with warm_ember.open_project(tmp_path / name, create=True) as project:
            project.import_file(tmp_path / f"{name}.npy", rate_hz=1000.0)
            report, text = gather(project, Choice()), Outside(render(project, Choice())).text
        if report.subject.average.bound == "below":
            shown = str(quantity_text(report.subject.average.mean_a_high, "A")).replace("\u2009", " ")
            assert f"< {shown}" in text.replace(" A", " A").replace("  ", " ")
            assert "below what the instrument resolves" in text
        else:
            assert "never ends" in text


def test_a_project_of_two_runs_is_no_comparison_unless_asked_for(tmp_path: Path) -> None:
    with warm_ember.open_project(tmp_path / "own", create=True) as project:
        for name, scale in (("weak", 1e-7), ("strong", 3e-2)):
            np.save(tmp_path / f"{name}.npy", scale * (1 + 0.2 * np.sin(np.arange(3000))))
            project.import_file(tmp_path / f"{name}.npy", rate_hz=1000.0)
        report = gather(project, Choice())
        assert (report.comparison, [one.run for one in report.details]) == (None, ["strong"])
        text = Outside(render(project, Choice())).text
        assert "report of a project" in text
        assert "e+0" not in text
        assert gather(project, Choice(("weak", "strong"))).comparison is not None


def test_what_is_wrong_is_one_line(demo_path: Path, tmp_path: Path, command) -> None:
    for arguments, words in (
        (("-o", tmp_path / "r.doc"), ".html, .pdf"),
        (("-o", tmp_path / "r.html", "--run", "r9"), "r9"),
        (("-o", tmp_path / "r.html", "--without", "all"), "no part 'all'"),
        (("-o", tmp_path / "gone" / "r.html"), "gone"),
        (("-o", demo_path / "captures" / "r.html"), "belongs to the project"),
        ((), "output"),
    ):
        code, out, err = command("report", demo_path, *arguments)
        assert (code, out) == (2, ""), arguments
        assert err.count("\n") == 1, err
        assert words in err
    assert not (tmp_path / "r.html").exists()


def test_a_trace_is_drawn_to_its_last_sample_and_open_where_nothing_was_measured(project) -> None:
    run = project.session.run("r5")
    svg = trace_figure("t", run, ())
    assert svg.startswith("<svg")
    assert 'id="t-heat"' in svg
    assert "url(#t-heat)" in svg
    assert "<image" not in svg
    assert "300 s" in svg


def test_colours_on_paper_are_those_of_the_day_ramp() -> None:
    assert heat(1e-9) == "#b9bcc4"
    assert heat(1.0) == heat(50.0) == "#392805"
    assert heat(None) == heat(-1.0) == heat(float("nan")) == heat(0.0) == "#b9bcc4"


def test_words_are_text_and_figures_wear_their_grade() -> None:
    assert str(safe("<b>\x07")) == "&lt;b&gt;·"
    assert len(str(safe("x" * 10_000))) < 200
    written = [
        figure("159 µA"), figure("every 6.00 h", "entered"), figure("0.6 µA", "bounded", "below"),
        figure("1.5 % a year", "assumed"), figure("−3.06 mA"), figure("–"),
    ]  # fmt: skip
    assert [str(one).replace("\u00a0", " ").replace("\u202f", " ") for one in written] == [
        '<b class="measured">159</b> µA',
        'every <b class="entered">6.00</b> h',
        '<b class="bounded">&lt; 0.6</b> µA',
        '<b class="assumed">1.5</b> % a year',
        '<b class="measured">−3.06</b> mA',
        '<b class="measured">–</b>',
    ]
    # No line of a page ends within a figure.
    assert not any(" " in re.sub("<.*?>", "", str(one)) for one in written)


def test_report_data_is_the_report_as_json(project: Project, tmp_path: Path, command) -> None:
    code, out, err = command("export", project.path, "r5", "report-data", "-o", tmp_path / "r.json")
    assert (code, out, err) == (0, "", "")
    found = msgspec.json.decode((tmp_path / "r.json").read_bytes())
    report = gather(project, Choice(("r5",)))
    assert found["details"][0]["states"]["states"][0] == report.detail.states.states[0].as_json()
    assert found["runs"][0]["run"] == "r5"
    code, _, err = command("export", project.path, "r5", "report-data", "-o", tmp_path / "r.csv")
    assert code == 2
    assert ".json" in err
