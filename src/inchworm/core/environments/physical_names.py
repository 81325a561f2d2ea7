"""From a project's names to those that an environment's database has."""

from __future__ import annotations

from functools import cached_property

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import ProjectError
from inchworm.core.identifiers import Home, Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.sql.problems import SqlProblem


def physical_table(name: str, assembly: Assembly, environment: Environment) -> RelationName:
    """A logical ``schema.table`` under the name that it has in an environment.

    Schemas that are managed outside are never renamed.
    """
    logical = RelationName(name)
    if logical.schema in assembly.outside_schemas:
        return logical
    return environment.database.physical_table(name)


def tables_renamed(
    part: PartId, assembly: Assembly, environment: Environment
) -> dict[str, RelationName]:
    """The tables that a part of a service names, and that have another name in an environment.

    By logical name. The SQL of other parts gets its names when a promotion runs it.
    """
    if not part.kind.is_service or environment.database.schema_pattern == "{schema}":
        return {}
    outline = assembly.outlines[part]
    built = [
        other.relation
        for stage in outline.stages
        for other in stage.works_on
        if other.kind.home is Home.DATABASE
    ]
    physical = {
        name: physical_table(name, assembly, environment)
        for name in (*outline.reads, *outline.interfaces, *outline.fills, *built)
        if name in assembly.tables
    }
    return {name: other for name, other in physical.items() if other != name}


class PhysicalNames:
    """The names of one project's tables and schemas in one environment.

    Args:
        dialect: that of the environment's database.
    """

    def __init__(self, assembly: Assembly, environment: Environment, dialect: str) -> None:
        self._assembly = assembly
        self._environment = environment
        self._dialect = dialect

    def table(self, name: str) -> RelationName:
        """A logical table's name there; its case counts if it is that of a table."""
        return physical_table(self.logical(name), self._assembly, self._environment)

    def logical(self, name: str) -> RelationName:
        """The name of a table as the project knows it; a part's name may be in another case."""
        return RelationName(name if name in self._assembly.tables else name.lower())

    def schema(self, schema: str) -> str:
        """A schema's name there; of one that the project does not know, its own."""
        if schema in self._assembly.outside_schemas or schema not in self._known:
            return schema
        return self._environment.database.physical_schema(schema)

    @property
    def outside(self) -> frozenset[str]:
        """The schemas that are managed outside, which keep their names."""
        return frozenset(self._assembly.outside_schemas)

    @property
    def translates(self) -> bool:
        """Whether a statement of the project is another one there."""
        renames = self._environment.database.schema_pattern != "{schema}"
        return renames or self._assembly.dialect != self._dialect

    def statement(self, sql: str) -> str:
        """A statement of a script as the database reads it.

        Raises:
            ProjectError: when it has to be told in another dialect and cannot be read, or when the
                logical name of a schema would be left in it.
        """
        if not self.translates:
            return sql
        from inchworm.core.sql.schema_names import with_physical_schemas  # the parser

        try:
            return with_physical_schemas(sql, self.schema, self._assembly.dialect, self._dialect)
        except SqlProblem as problem:
            raise ProjectError(
                f"a statement {problem.reason}.",
                next="Write the table's name outside of texts and function bodies, or give this "
                "environment a database of its own, where schemas keep their names.",
            ) from problem

    @cached_property
    def _known(self) -> frozenset[str]:
        """The schemas that the project knows."""
        of_tables = (RelationName(table).schema for table in self._assembly.tables)
        of_parts = (part.name for part in self._assembly.of_kind(Kind.SCHEMA))
        return frozenset([*of_parts, *of_tables])
