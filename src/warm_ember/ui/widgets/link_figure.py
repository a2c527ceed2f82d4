"""What a page says of itself on its link in the navigation."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class LinkFigure:
    """What a link shows.

    Parameters
    ----------
    figure, detail
        Its two lines of rich text.
    doubt
        Why the figure cannot be trusted yet and what to do; empty when it can.
    """

    figure: str = "–"
    detail: str = ""
    doubt: str = ""
