"""The registry of part kinds, and which part a file belongs to: its name comes from its path."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import NamedTuple

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parts import LIBRARY_PROJECT, LIBRARY_TESTS

_Naming = Callable[[list[str]], str | None]
"""From the pieces of a path to the part's name; None when it belongs to none of the kind."""


def _folder(*suffixes: str) -> _Naming:
    """Everything below ``folder/name/`` belongs to ``name``."""

    def name(pieces: list[str]) -> str | None:
        return pieces[1] if len(pieces) > 2 and pieces[-1].endswith(suffixes) else None

    return name


def _file(suffix: str) -> _Naming:
    """``folder/name<suffix>`` is ``name``."""

    def name(pieces: list[str]) -> str | None:
        if len(pieces) != 2 or not pieces[1].endswith(suffix):
            return None
        return pieces[1][: -len(suffix)]

    return name


def _schema(pieces: list[str]) -> str | None:
    name = _folder(".sql", ".toml")(pieces)
    return None if name is None else name.lower()


def _model(pieces: list[str]) -> str | None:
    """``models/hydro/hourly_level.sql`` is ``hydro.hourly_level``, in lower case."""
    if len(pieces) != 3 or not pieces[2].endswith(".sql"):
        return None
    return f"{pieces[1]}.{pieces[2][:-4]}".lower()


def _library(pieces: list[str]) -> str | None:
    if "/".join(pieces).startswith(LIBRARY_TESTS):
        return None
    is_project = len(pieces) == 3 and pieces[2] == LIBRARY_PROJECT
    return pieces[1] if is_project else _folder(".py")(pieces)


class Handled(NamedTuple):
    """How the parts in one folder of a project are handled.

    Attributes:
        kind: their kind.
        naming: from the pieces of a path to a part's name.
        handler: the class that handles the kind; its module is imported when a part is read.
    """

    kind: Kind
    naming: _Naming
    handler: str


FOLDERS: Mapping[str, Handled] = {
    "schemas": Handled(Kind.SCHEMA, _schema, "schema.SchemaKind"),
    "models": Handled(Kind.MODEL, _model, "model.ModelKind"),
    "checks": Handled(Kind.CHECK, _file(".sql"), "model.CheckKind"),
    "notebooks": Handled(Kind.NOTEBOOK, _file(".ipynb"), "notebook.NotebookKind"),
    "pipelines": Handled(Kind.PIPELINE, _file(".toml"), "pipeline.PipelineKind"),
    "connections": Handled(Kind.CONNECTION, _file(".toml"), "connection.ConnectionKind"),
    "flows": Handled(Kind.FLOW, _file(".toml"), "flow.FlowKind"),
    "library": Handled(Kind.LIBRARY, _library, "library.LibraryKind"),
    "consumers": Handled(Kind.CONSUMER, _file(".toml"), "consumer.ConsumerKind"),
}
"""The registry of kinds, by the folder in which every file belongs to a part of the kind."""

HANDLERS: Mapping[Kind, str] = {handled.kind: handled.handler for handled in FOLDERS.values()}
"""The class that handles each kind."""

SHARED_FOLDERS = ("apis", "sources.toml")
"""Folders and files that belong to the parts that name them, or read the places that they name."""

SEEN_BY_OTHERS = (*SHARED_FOLDERS, "library")
"""Folders and files that are looked at when the facts of other parts are worked out."""


def part_of(path: str) -> PartId | None:
    """The part that a path belongs to; None when it belongs to none."""
    pieces = path.split("/")
    if pieces[0] not in FOLDERS:
        return None
    kind, naming, _ = FOLDERS[pieces[0]]
    name = naming(pieces)
    return None if not name or UNFIT.search(name) else PartId(kind, name)


UNFIT = re.compile(r"[#?%/\\:\x00-\x1f\x7f-\x9f]")
"""Characters that no part's name may have: they mean something in addresses, or cannot be seen."""
