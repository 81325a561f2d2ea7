"""The interface of a part kind, and the types that kinds share while reading."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Generic, Protocol, TypeVar

from msgspec import Struct, field

from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Facts
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered
from inchworm.core.sql.declared import Declared
from inchworm.core.structure.tables import Table


class Surroundings(Struct, frozen=True, kw_only=True):
    """The files and settings that a part may look at beyond its own files while it is read."""

    dialect: str
    shared: Mapping[str, bytes] = field(default_factory=dict)
    """Files that belong to whichever part names them, such as API documents, by path."""
    in_order: bool = False
    """Whether the part was read before, with the same files, and nothing was wrong with it: what
    takes long to look for need not be looked for again."""

    def declared(self) -> Declared:
        """The places outside the database that the project reads."""
        from inchworm.kinds.sources import declared_in  # its reading, only where it is needed

        return declared_in(self.shared)


Definition = TypeVar("Definition")


class PartKind(Protocol, Generic[Definition]):
    """How one kind of part is handled."""

    kind: Kind

    def read(
        self, part: Part, surroundings: Surroundings, report: Callable[[Finding], None]
    ) -> Definition | None:
        """The part's definition; None when it cannot be read at all. Reports what is wrong."""
        ...

    def facts(
        self,
        definition: Definition,
        tables: Mapping[str, Table],
        report: Callable[[Finding], None],
    ) -> Facts:
        """The tables, parts and parameters that the part provides, reads, needs and uses."""
        ...

    def render(self, definition: Definition, values: Mapping[str, Value]) -> Rendered:
        """What is put into an environment that has these values.

        Raises:
            KeyError: with the name of a parameter that has no value.
        """
        ...
