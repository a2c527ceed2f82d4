"""Where the program keeps what is the user's: settings, data, logs; see docs/settings.md."""

from __future__ import annotations

from pathlib import Path

import platformdirs

_NAME = "warm-ember"


def settings_folder() -> Path:
    """Return the folder of settings, own instruments and readings (``XDG_CONFIG_HOME``)."""
    return platformdirs.user_config_path(_NAME)


def data_folder() -> Path:
    """Return the folder of the demo, untitled projects and the list of recent ones (``XDG_DATA_HOME``)."""
    return platformdirs.user_data_path(_NAME)


def log_folder() -> Path:
    """Return the folder of logs and crash notes (``XDG_STATE_HOME``)."""
    return platformdirs.user_log_path(_NAME)


def settings_file() -> Path:
    """Return the file of what the window remembers."""
    return settings_folder() / "window.ini"
