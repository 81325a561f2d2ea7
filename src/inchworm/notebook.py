"""The helper through which a notebook reads and writes its surroundings.

The same notebook runs unedited at a desk and in every environment::

    from inchworm.notebook import env

    levels = env.query("SELECT gauge_id, hour, mean_cm FROM hydro.hourly_level")
    env.store("hydro.level_forecast", forecast, key=["gauge_id", "hour"])

The project's libraries can be imported once this module has been.

What a desk needs is imported when a notebook first asks for ``env``: in a run, another one has been
put in its place by then, which leads to the process that runs the notebook.
"""

from __future__ import annotations

import sys
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.core.errors import UsageError
from inchworm.project.file_index import find_root

if TYPE_CHECKING:
    from inchworm.desk import Surroundings

    env: Surroundings
    """The surroundings of this process."""

__all__ = ["Surroundings", "env"]


def __getattr__(name: str) -> object:
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from inchworm.desk import Surroundings

    if name == "env":
        return globals().setdefault(name, Surroundings())
    return Surroundings


def _reach_libraries(folder: Path) -> None:
    """Have the libraries of the project that a folder is in be imported without setting a path."""
    with suppress(UsageError):  # the folder is in none
        library = str(find_root(folder) / "library")
        if library not in sys.path:
            sys.path.append(library)


_reach_libraries(Path.cwd())
