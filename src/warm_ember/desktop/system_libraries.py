"""Libraries of the system that the window and a report's pages load at run time; a wheel cannot bring them along.

Needs nothing but Python: the set-up asks it before anything is installed.
"""

from __future__ import annotations

import ctypes
import shutil
import subprocess
from collections.abc import Mapping

WINDOW = {
    "libEGL.so.1": "libegl1", "libGL.so.1": "libgl1", "libxkbcommon.so.0": "libxkbcommon0",
    "libfontconfig.so.1": "libfontconfig1", "libdbus-1.so.3": "libdbus-1-3", "libglib-2.0.so.0": "libglib2.0-0",
    "libxcb-cursor.so.0": "libxcb-cursor0", "libxkbcommon-x11.so.0": "libxkbcommon-x11-0",
    "libxcb-icccm.so.4": "libxcb-icccm4", "libxcb-image.so.0": "libxcb-image0",
    "libxcb-keysyms.so.1": "libxcb-keysyms1", "libxcb-render-util.so.0": "libxcb-render-util0",
    "libxcb-shape.so.0": "libxcb-shape0", "libxcb-xkb.so.1": "libxcb-xkb1", "libxcb-randr.so.0": "libxcb-randr0",
}  # fmt: skip
"""Each with the Debian package that brings it."""

PAGES = {
    "libpango-1.0.so.0": "libpango-1.0-0", "libpangoft2-1.0.so.0": "libpangoft2-1.0-0",
    "libharfbuzz.so.0": "libharfbuzz0b", "libharfbuzz-subset.so.0": "libharfbuzz-subset0",
}  # fmt: skip


def lacking(libraries: Mapping[str, str]) -> dict[str, str]:
    """Return those that cannot be loaded, with the packages that bring them."""
    found = {}
    for library, package in libraries.items():
        try:
            ctypes.CDLL(library)
        except OSError:
            found[library] = package
    return found


def lacking_fonts() -> dict[str, str]:
    """Return what is missing of the system's fonts, with the packages that bring it."""
    if shutil.which("fc-list") is None:
        return {"fontconfig": "fontconfig", "fonts": "fonts-dejavu-core"}
    listed = subprocess.run(["fc-list"], capture_output=True, check=False).stdout
    return {} if listed else {"fonts": "fonts-dejavu-core"}


def missing_packages() -> list[str]:
    """Return the Debian packages that are missing for all of it."""
    return [*lacking(WINDOW).values(), *lacking(PAGES).values(), *lacking_fonts().values()]
