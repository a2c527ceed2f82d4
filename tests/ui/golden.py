"""Painted views held against pictures of how they looked when somebody looked at them last.

They are kept small and are compared within a tolerance, so that another font or another Qt does no harm, while a part
that is missing, moved, or of another colour shows. ``WARM_EMBER_GOLDEN=write`` makes them anew: look at them then.
"""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QWidget

FOLDER = Path(__file__).parent / "golden"
_SMALLER = 8
_MEAN, _CLEARLY, _MOST = 3.0, 40, 0.03


def small_picture(widget: QWidget) -> np.ndarray:
    """Return what a widget looks like from afar, shape ``(height, width, 3)``."""
    return _pixels(
        widget.grab()
        .toImage()
        .scaled(
            widget.width() // _SMALLER,
            widget.height() // _SMALLER,
            Qt.AspectRatioMode.IgnoreAspectRatio,
            Qt.TransformationMode.SmoothTransformation,
        )
    )


def differ(one: np.ndarray, other: np.ndarray) -> bool:
    """Say whether two pictures show something else."""
    if one.shape != other.shape:
        return True
    apart = np.abs(one.astype(int) - other).max(axis=2)
    return bool(apart.mean() > _MEAN or (apart > _CLEARLY).mean() > _MOST)


def looks_as_it_did(widget: QWidget, name: str) -> bool:
    """Hold a widget against its picture."""
    seen, path = small_picture(widget), FOLDER / f"{name}.png"
    if os.environ.get("WARM_EMBER_GOLDEN") == "write":
        height, width, _ = seen.shape
        assert QImage(seen.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).save(str(path))
    return not differ(seen, _pixels(QImage(str(path))))


def _pixels(image: QImage) -> np.ndarray:
    plain = image.convertToFormat(QImage.Format.Format_RGB888)
    rows = np.frombuffer(plain.constBits(), np.uint8).reshape(plain.height(), plain.bytesPerLine())
    return rows[:, : 3 * plain.width()].reshape(plain.height(), plain.width(), 3).copy()
