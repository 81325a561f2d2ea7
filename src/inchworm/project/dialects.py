"""The SQL dialects that a project can be written in."""

from __future__ import annotations

import importlib.util
import pkgutil
from pathlib import Path


def known_dialects() -> list[str]:
    """The SQL dialects that the parser knows: each is a module of its own.

    The parser itself takes longer to import than most commands do all their work.
    """
    parser = importlib.util.find_spec("sqlglot")
    folders = parser.submodule_search_locations if parser is not None else None
    dialects = {
        module.name
        for folder in folders or ()
        for module in pkgutil.iter_modules([str(Path(folder) / "dialects")])
    }
    return sorted(dialects - {"dialect"})
