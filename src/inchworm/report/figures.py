"""Figures of matplotlib, which is imported only when something is drawn."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.core.errors import UsageError
from inchworm.safe_files import write_output

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_ENDINGS = (".svg", ".png")


def new_figure(size: tuple[float, float]) -> Figure:
    """An empty figure.

    Args:
        size: width and height in inches.

    Raises:
        UsageError: when matplotlib is not installed.
    """
    try:
        import matplotlib
    except ImportError as error:
        raise UsageError(
            "Drawing needs a package that is not installed.",
            next='pip install "inchworm[pictures]"',
        ) from error
    matplotlib.use("agg")
    matplotlib.rcParams["svg.hashsalt"] = "inchworm"
    from matplotlib.figure import Figure

    return Figure(figsize=size)


def check_picture(file: Path) -> None:
    """Whether a file's ending is that of a picture.

    Raises:
        UsageError: when it is not.
    """
    if file.suffix.lower() not in _ENDINGS:
        raise UsageError(f"{file.name} is no picture.", next="Write FILE.svg or FILE.png.")


def save(figure: Figure, file: Path) -> None:
    """Write a figure; the same figure always gives the same file."""
    metadata = {"Date": None} if file.suffix.lower() == ".svg" else {}
    drawn = io.BytesIO()
    figure.savefig(drawn, format=file.suffix.lower().lstrip("."), dpi=110, metadata=metadata)
    write_output(file, drawn.getvalue())
