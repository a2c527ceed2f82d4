"""The pages of a report as pictures, to be seen before they are saved."""

from __future__ import annotations

from dataclasses import dataclass

from warm_ember.errors import Cancelled
from warm_ember.library.project import Project
from warm_ember.report.contents import Choice
from warm_ember.report.page_setting import PageSetting
from warm_ember.report.pages import render
from warm_ember.signal.series import ShouldStop, never


@dataclass(frozen=True)
class PagePicture:
    """A page as a picture: rows of ``4 * width`` bytes, blue, green, red and one that is unused."""

    width: int
    height: int
    stride: int
    pixels: bytes


def preview(
    project: Project, choice: Choice, dots_per_point: float, *, should_stop: ShouldStop = never
) -> tuple[PagePicture, ...]:
    """Return the pages of a report as they would be saved.

    Raises
    ------
    WarmEmberError
        What `warm_ember.report.pages.write_report` raises.
    Cancelled
        If `should_stop` answered yes.
    """
    import pypdfium2

    with PageSetting() as setting:
        page = render(project, choice, on_paper=True)
        if should_stop():
            raise Cancelled("stopped")
        document = pypdfium2.PdfDocument(setting.pdf(page))
    found = []
    try:
        for number in range(len(document)):
            if should_stop():
                raise Cancelled("stopped")
            drawn = document[number].render(scale=dots_per_point, rev_byteorder=False, prefer_bgrx=True)
            found.append(PagePicture(drawn.width, drawn.height, drawn.stride, bytes(drawn.buffer)))
    finally:
        document.close()
    return tuple(found)
