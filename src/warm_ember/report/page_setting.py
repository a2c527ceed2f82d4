"""Pages of HTML as PDF, set by a process of its own.

What sets pages takes as long to load as a run to compute, and two seconds of Python afterwards: beside the program it
loads while the report is still being computed, and holds up no window.
"""

from __future__ import annotations

import gc
import logging
import subprocess
import sys
from types import TracebackType
from typing import Self

from warm_ember.errors import WarmEmberError

log = logging.getLogger(__name__)

_NO_LIBRARY = 3


class PageSetting:
    """Load what sets pages, and set one; use it as a context.

    Raises
    ------
    WarmEmberError
        If no process can be started.
    """

    def __init__(self) -> None:
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-m", __name__], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE
            )
        except OSError as error:
            raise WarmEmberError(f"the program that sets pages cannot be started ({error})") from error

    def pdf(self, page: str) -> bytes:
        """Return a page as PDF; to be asked once.

        Raises
        ------
        WarmEmberError
            If the system's text libraries are missing, or the page could not be set.
        """
        made, said = self._process.communicate(page.encode("utf-8", "replace"))
        if self._process.returncode == 0:
            return made
        words = said.decode("utf-8", "replace").strip()
        log.error("setting pages ended with %d: %s", self._process.returncode, words)
        last = words.rpartition("\n")[2] or f"it ended with {self._process.returncode}"
        if self._process.returncode == _NO_LIBRARY:
            raise WarmEmberError(
                f"a PDF needs a system library that is missing ({last}); on Debian: apt-get install libpango-1.0-0 "
                "libpangoft2-1.0-0; a report as .html needs none"
            )
        raise WarmEmberError(f"the report could not be set as PDF ({last[:200]}); as .html it can be saved")

    def close(self) -> None:
        """End it, whether a page was set or not."""
        if self._process.poll() is None:
            self._process.kill()
            self._process.communicate()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


def main() -> int:
    """Set the page that comes on standard input, and write it to standard output."""
    logging.disable(logging.ERROR)  # what is for the screen is told of as unknown
    try:
        from weasyprint import HTML
        from weasyprint.urls import URLFetcher
    except OSError as error:
        sys.stderr.write(str(error).replace("\n", " "))
        return _NO_LIBRARY
    gc.disable()  # it ends with the page: what would be searched for again and again is hardly any rubbish
    page = sys.stdin.buffer.read().decode()
    if not page:
        return 1  # nobody wants it any more
    # What stands in the page itself is taken, and nothing from anywhere else.
    inside = URLFetcher(allowed_protocols=("data",))
    sys.stdout.buffer.write(HTML(string=page, url_fetcher=inside).write_pdf())
    return 0


if __name__ == "__main__":
    sys.exit(main())
