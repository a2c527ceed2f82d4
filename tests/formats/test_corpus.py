"""Files in the style of many writers, each with what is in it: `scripts/make_corpus.py` writes them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from warm_ember.errors import WarmEmberError
from warm_ember.formats.registry import open_source
from warm_ember.formats.source import ImportOptions
from warm_ember.signal.series import ignore_progress, never

FOLDER = Path(__file__).parents[1] / "data" / "files"
TRUTH = json.loads((FOLDER / "truth.json").read_text())


def test_there_are_some_sixty_files() -> None:
    assert {path.name for path in FOLDER.iterdir()} == {*TRUTH, "truth.json"}
    assert len(TRUTH) > 60


@pytest.mark.parametrize("name", TRUTH)
def test_a_file_is_read_or_refused_as_it_should_be(name: str) -> None:
    truth = TRUTH[name]
    if truth.get("refused"):
        with pytest.raises(WarmEmberError) as refused:
            list(open_source(FOLDER / name, ImportOptions()).pieces(never, ignore_progress))
        assert "\n" not in str(refused.value)
        return
    source = open_source(FOLDER / name, ImportOptions())
    current = np.concatenate([piece.current for piece in source.pieces(never, ignore_progress)])
    assert len(current) == truth["samples"]
    if "mean_a" in truth:
        assert np.nanmean(current) == pytest.approx(truth["mean_a"], rel=1e-5)
    assert source.interval_s == pytest.approx(truth["interval_s"], rel=1e-3)
    assert not truth.get("told") or any(truth["told"] in note for note in source.notes)
