"""The files and addresses that a DuckDB connection may reach, besides its own file."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

_WILD = re.compile(r"[*?\[]")
Config = dict[str, str | bool | int | float | list[str]]


class Places(Struct, frozen=True, kw_only=True):
    """Declared places.

    Attributes:
        root: the project's folder, where relative paths start.
        patterns: of files and addresses; the folder before the first wildcard may be read.
    """

    root: Path = Path()
    patterns: tuple[str, ...] = ()

    @property
    def config(self) -> Config:
        """The settings that a connection begins with.

        Extensions are only loaded for places that are addresses.
        """
        is_remote = any("://" in pattern for pattern in self.patterns)
        return {
            "enable_external_access": bool(self.patterns),  # then narrowed at once
            "autoinstall_known_extensions": is_remote,
            "autoload_known_extensions": is_remote,
        }

    @property
    def narrowing(self) -> Iterator[str]:
        """Statements after which a new connection reaches these places, and no others.

        And after which moments with a zone are told, and become such without one, in UTC: on every
        machine alike.
        """
        yield "SET GLOBAL TimeZone = 'UTC'"
        if self.patterns:
            folders = ", ".join(map(_quoted, sorted({*self._folders()})))
            yield f"SET file_search_path = {_quoted(str(self.root.resolve()))}"
            yield f"SET allowed_directories = [{folders}]"
            yield "SET enable_external_access = false"

    def _folders(self) -> Iterator[str]:
        """The folder of each pattern; a relative one as it is written, too, and from the root."""
        for pattern in self.patterns:
            folder = _WILD.split(pattern, maxsplit=1)[0].rpartition("/")[0]
            if "://" in pattern:
                yield f"{folder}/"
                continue
            yield folder or "."
            yield str(self.root.resolve() / folder)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


NO_PLACES = Places()
