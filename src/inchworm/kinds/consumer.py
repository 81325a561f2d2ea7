"""Consumers: readers of our tables who live outside the project."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts, Read
from inchworm.core.lineage.graph import Edge, How, Node
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Part
from inchworm.core.rendered import Rendered, RenderedDocument
from inchworm.core.structure.tables import Table
from inchworm.core.toml import TomlDocument
from inchworm.kinds.base import Surroundings
from inchworm.kinds.settings import Report, Settings, documented, read_part


class ConsumerSettings(Settings):
    """A consumer's file: whom to tell, and what they read."""

    about: str = ""
    owner: str = ""
    contact: str
    reads: dict[str, tuple[str, ...]]
    cleared: tuple[str, ...] = ()


class Consumer(Struct, frozen=True, kw_only=True):
    """A consumer that has been read."""

    part: PartId
    file: str
    settings: ConsumerSettings
    document: TomlDocument


class ConsumerKind:
    """How consumers are handled."""

    kind = Kind.CONSUMER

    def read(self, part: Part, surroundings: Surroundings, report: Report) -> Consumer | None:
        """The settings."""
        validated = read_part(ConsumerSettings, part, report)
        if validated is None:
            return None
        settings, document = validated
        return Consumer(part=part.id, file=part.main.path, settings=settings, document=document)

    def facts(self, consumer: Consumer, tables: Mapping[str, Table], report: Report) -> Facts:
        """The columns that are read, with the line of each table's entry."""
        reads = tuple(
            Read(
                table=table.lower(),
                columns=frozenset(name.lower() for name in columns),
                file=consumer.file,
                line=consumer.document.line_of(("reads", table)),
            )
            for table, columns in consumer.settings.reads.items()
        )
        edges = tuple(
            Edge(Node(read.table, column), Node(str(consumer.part)), How.COPIED)
            for read in reads
            for column in sorted(read.columns or ())
        )
        return Facts(
            part=consumer.part,
            owner=consumer.settings.owner,
            documented=documented(consumer.settings),
            reads=reads,
            edges=edges,
            cleared=consumer.settings.cleared,
        )

    def render(self, consumer: Consumer, values: Mapping[str, Value]) -> Rendered:
        """The consumer's file, as it is recorded."""
        return RenderedDocument(part=consumer.part, content=dict(consumer.document.values))
