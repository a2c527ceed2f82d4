"""Files of limits: what is no limit is told with its line, and never passed over."""

from __future__ import annotations

import contextlib
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from warm_ember.errors import BadFileError
from warm_ember.store.limits_file import read_limits_file

LIMITS = """\
format = 1
strict = false                        # true: undecided counts as failed
[average]                             # of = "life" or "capture"
max_a = 200e-6

[life]
min_months = 36
chance = 0.9
[states."Deep sleep"]
max_mean_a = 15e-6
max_share = 0.5
[states.'a "b" [c]']
max_entries = 40
[sources.rtc]
max_charge_c = 60e-6
[findings]
forbid = ["tick-running", "clipped"]
max_cost_a = 5e-6
[measurement]
max_missing = 0.01
[baseline]
max_worse = 0.03
"""
ROWS = LIMITS.splitlines()
KEYS = [number for number, row in enumerate(ROWS) if "=" in row and not row.startswith("[")]
quick = settings(suppress_health_check=[HealthCheck.function_scoped_fixture])


def read(tmp_path: Path, text: str):
    path = tmp_path / "limits.toml"
    path.write_text(text, encoding="utf-8")
    return read_limits_file(path)


def refused(tmp_path: Path, text: str) -> BadFileError:
    with pytest.raises(BadFileError) as caught:
        read(tmp_path, text)
    assert caught.value.path.name == "limits.toml"
    return caught.value


def test_each_limit_arrives(tmp_path: Path) -> None:
    found = read(tmp_path, LIMITS)
    assert (found.average.of, found.average.max_a) == ("life", 200e-6)
    assert (found.life.min_months, found.life.chance) == (36, 0.9)
    assert found.states["Deep sleep"].max_mean_a == 15e-6
    assert found.states['a "b" [c]'].max_entries == 40
    assert found.sources["rtc"].max_charge_c == 60e-6
    assert found.findings.forbid == ("tick-running", "clipped")
    assert (found.measurement.max_missing, found.baseline.max_worse) == (0.01, 0.03)
    assert read(tmp_path, "").strict is False
    assert read(tmp_path, "\ufeff" + LIMITS) == found


@quick
@given(st.sampled_from(KEYS), st.text("abcdefghijklmnopqrstuvwxyz_", min_size=1, max_size=12))
def test_a_key_that_is_no_limit_is_told_with_its_line(tmp_path: Path, number, key) -> None:
    rows = list(ROWS)
    rows.insert(number, f"zz_{key} = 1")
    error = refused(tmp_path, "\n".join(rows))
    assert f"line {number + 1}" in error.where
    assert f"zz_{key}" in error.problem


@quick
@given(
    st.sampled_from([n for n in KEYS if not ROWS[n].startswith(("format", "strict", "forbid"))]),
    st.sampled_from(["nan", "inf", "-1", "-1e-9", "true", '"200 uA"', "[1]", "{a = 1}", "2000-01-01"]),
)
def test_a_value_that_is_no_number_is_told_with_its_line(tmp_path: Path, number, value) -> None:
    rows = list(ROWS)
    key = rows[number].split("=")[0].strip()
    rows[number] = f"{key} = {value}"
    error = refused(tmp_path, "\n".join(rows))
    assert (error.where, key in error.problem) == (f"line {number + 1}", True)


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("[averag]\nmax_a = 1\n", 1, "is average meant?"),
        ("[average]\nmax_A = 1\n", 2, "is max_a meant?"),
        ('[average]\nof = "year"\n', 2, "life"),
        ("average = 5\n", 1, "expected a table"),
        ("\nstates = 3\n", 2, "expected a table"),
        ("[states]\nmax_mean_a = 1\n", 2, "expected a table"),
        ("[life]\nchance = 1.5\n", 2, "from 0 to 1"),
        ('[findings]\nforbid = ["tick-runing"]\n', 2, "is tick-running meant?"),
        ('[findings]\nforbid = "tick-running"\n', 2, "expected a list"),
        ('states."Deep sleep" = { max_mean = 1 }\n', 1, "is max_mean_a meant?"),
        ("format = 2\n", 1, "expected 1"),
        ("format = true\n", 1, "expected 1"),
        ("strict = 1\n", 1, "expected true or false"),
        ("[average\nmax_a = 1\n", 1, "this is no TOML"),
        ("[average]\nmax_a = 1\nmax_a = 2\n", 3, "this is no TOML"),
        ("[average]\nmax_a = 200 uA\n", 2, "this is no TOML"),
    ],
)
def test_what_is_wrong_and_where(tmp_path: Path, text, line, words) -> None:
    error = refused(tmp_path, text)
    assert words in error.problem
    assert error.where == f"line {line}"


@quick
@given(st.binary(max_size=200))
def test_any_bytes_are_limits_or_told(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "limits.toml"
    path.write_bytes(content)
    with contextlib.suppress(BadFileError):
        read_limits_file(path)


def test_a_folder_nothing_and_far_too_much_are_told(tmp_path: Path) -> None:
    for path in (tmp_path, tmp_path / "none.toml"):
        with pytest.raises(BadFileError, match="cannot be read"):
            read_limits_file(path)
    assert "no larger" in refused(tmp_path, "#" * (1 << 20) + "#").problem
    assert "no TOML" in refused(tmp_path, "a = " + "[" * 5000).problem
