"""What is written can be read in both themes: WCAG 2.2, success criterion 1.4.3, asks for 4.5 to 1."""

from __future__ import annotations

import pytest
from PySide6.QtGui import QColor

from warm_ember.ui.look.theme import DAY, NIGHT, Theme

_LEAST = 4.5
_GROUNDS = ("ground", "raised", "sunken", "bar")


def luminance(color: QColor) -> float:
    """Relative luminance of an sRGB colour (WCAG 2.2, definition)."""
    red, green, blue = (
        part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4
        for part in (color.redF(), color.greenF(), color.blueF())
    )
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: QColor, other: QColor) -> float:
    """Contrast ratio of two colours, 1 to 21."""
    darker, lighter = sorted((luminance(one), luminance(other)))
    return (lighter + 0.05) / (darker + 0.05)


def test_the_ratio_is_that_of_the_standard() -> None:
    assert contrast(QColor("black"), QColor("white")) == pytest.approx(21.0)
    assert contrast(QColor("#777777"), QColor("white")) == pytest.approx(4.48, abs=0.01)


@pytest.mark.parametrize("theme", [NIGHT, DAY], ids=["night", "day"])
@pytest.mark.parametrize("ink", ["ink", "dim", "faint", "mark", "warning_text"])
def test_text_stands_out_from_every_ground(theme: Theme, ink: str) -> None:
    grounds = _GROUNDS if ink == "faint" else (*_GROUNDS, "mark_ground")
    found = {ground: contrast(getattr(theme, ink), getattr(theme, ground)) for ground in grounds}
    assert min(found.values()) >= _LEAST, found


@pytest.mark.parametrize("theme", [NIGHT, DAY], ids=["night", "day"])
def test_ranks_of_text_can_be_told_apart(theme: Theme) -> None:
    ranks = [contrast(getattr(theme, ink), theme.ground) for ink in ("ink", "dim", "faint")]
    assert ranks[0] > 1.25 * ranks[1] > 1.25 * 1.25 * ranks[2]
