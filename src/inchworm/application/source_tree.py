"""The source tree as it was seen last, for commands that need not look closer when nothing changed.

Little is imported here: a check that has nothing to do should not take longer than saying so.
"""

from __future__ import annotations

import importlib.util
import tomllib
from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from inchworm import __version__
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts_cache import FACTS_VERSION, UNREADABLE
from inchworm.core.parts import Contents, Digest, Part, Seen, SourceFile
from inchworm.core.seal import Sealer
from inchworm.project.file_index import (
    FILES,
    PROJECT_FILE,
    TreeContents,
    find_root,
    fingerprint,
    look,
    read_file,
)
from inchworm.store.facts import FILE, FactsStore
from inchworm.store.remembered_values import Remembering

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Assembly, Facts, Outline


class DamagedError(Exception):
    """Facts that were remembered cannot be used after all."""


class SourceTree(Struct, frozen=True, dict=True):
    """The files of a project, and what is remembered of them."""

    root: Path
    sealer: Sealer

    @classmethod
    def around(cls, folder: Path, sealer: Sealer) -> SourceTree:
        """The source tree that a folder is in.

        Args:
            folder: the folder.
            sealer: of what is remembered of the tree.

        Raises:
            UsageError: when it is in none.
        """
        return cls(find_root(folder), sealer)

    @cached_property
    def stamp(self) -> str:
        """Of everything but the parts' files that facts depend on."""
        return _stamp(self.root)

    @cached_property
    def memory(self) -> FactsStore:
        """The facts that were worked out earlier."""
        return FactsStore(self.place, FILE, self.stamp)

    @property
    def place(self) -> Remembering:
        """Where things are remembered of it."""
        return Remembering(self.root, self.sealer)

    @cached_property
    def _read(self) -> dict[str, bytes]:
        """Contents that had to be read in order to tell what the files look like."""
        return {}

    @cached_property
    def files(self) -> dict[str, Seen]:
        """The size, times and digest of each file now."""
        return look(self.root, self.memory.files, self._read)

    @cached_property
    def fingerprint(self) -> str:
        """One text for the contents of all files."""
        return fingerprint(self.files)

    @cached_property
    def contents(self) -> Contents:
        """The contents of the files."""
        return TreeContents(self.root, self.files, self._read)

    @cached_property
    def parameters(self) -> Contents:
        """The files that declare parameters; the others, of which there may be thousands, need no
        look.
        """
        if "contents" in self.__dict__:
            return self.contents
        from inchworm.core.parameters.matrix import FILE as MATRIX
        from inchworm.core.parameters.matrix import FOLDER

        read: dict[str, bytes] = {}
        files = look(self.root, {}, read, files=(MATRIX,), folders=(FOLDER,))
        return TreeContents(self.root, files, read)

    @property
    def is_unchanged(self) -> bool:
        """Whether all files are as they were at the last reading."""
        remembered = self.memory.checked
        return isinstance(remembered, dict) and remembered.get("files") == self.fingerprint

    def recall(self, what: str) -> Any:
        """A result that was kept for just these files; None when there is none."""
        return self.memory.checked.get(what) if self.is_unchanged else None

    def keep(self, read_as: Mapping[str, Digest] | None = None, **results: Any) -> None:
        """Remember the facts of all parts, and results that hold for just these files.

        Nothing is remembered if a file that is read by itself, and not as part of the tree, is not
        what it was: somebody wrote to it meanwhile.

        Args:
            read_as: the digest of files that were read before the tree was looked at.
            results: the results.
        """
        now = look(self.root, self.files, files=FILES, folders=("environments",))
        beside = {path: seen for path, seen in self.files.items() if path in now or path in FILES}
        if {path: seen.digest for path, seen in now.items()} != {
            path: seen.digest
            for path, seen in self.files.items()
            if path in FILES or path.startswith("environments/")
        }:
            return
        if any(beside[path].digest != digest for path, digest in (read_as or {}).items()):
            return
        before = self.memory.checked if self.is_unchanged else {}
        self.memory.save(self.files, {**before, **results, "files": self.fingerprint})

    def assembly(self) -> Assembly | None:
        """The parts and their lineage, if all files are as they were.

        It has no parameters: what is asked of it is lineage. Fetching facts may raise
        :class:`DamagedError`.
        """
        from inchworm.core.lineage.facts import Assembly

        project = self.recall("project")
        if not isinstance(project, dict):
            return None
        outlines: dict[PartId, Outline] = {}
        for part in self.memory:
            outline = self.memory.outline(part)
            if outline is None:
                return None
            outlines[part] = outline
        if len(outlines) != project["parts"]:
            return None
        return Assembly(
            name=project["name"],
            version=project["version"],
            dialect=project["dialect"],
            parts=_Parts(outlines, self.contents),
            outlines=outlines,
            fetch=self._fetch,
            model_order=tuple(part for part in outlines if part.kind is Kind.MODEL),
            matrix={},
            environments=(),
        )

    def _fetch(self, part: PartId) -> Facts:
        from inchworm.core.lineage.facts_text import read_facts

        try:
            return read_facts(self.memory[part])
        except UNREADABLE as error:
            raise DamagedError from error


class _Parts(Mapping[PartId, Part]):
    """Parts with their main files, made when they are asked for."""

    def __init__(self, outlines: Mapping[PartId, Outline], contents: Contents) -> None:
        self._outlines = outlines
        self._contents = contents

    def __getitem__(self, part: PartId) -> Part:
        file = SourceFile(self._outlines[part].file, self._contents)
        return Part(id=part, files=(file,))

    def __iter__(self) -> Any:
        return iter(self._outlines)

    def __len__(self) -> int:
        return len(self._outlines)


def _stamp(root: Path) -> str:
    """Of everything but the parts' files that facts depend on: program, parser and dialect."""
    parser = importlib.util.find_spec("sqlglot")
    file = Path(parser.origin) if parser is not None and parser.origin else None
    version = file.with_name("_version.py") if file else None
    state = version.stat() if version is not None and version.exists() else None
    of_parser = f"{state.st_size}/{state.st_mtime_ns}" if state else "?"
    try:
        dialect = tomllib.loads(read_file(root, PROJECT_FILE).decode()).get("dialect", "")
    except ValueError:  # whoever reads it in earnest will say what is wrong
        dialect = "?"
    return f"{__version__}/{FACTS_VERSION}/{of_parser}/{dialect}"
