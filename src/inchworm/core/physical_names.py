"""From a project's names to those that an environment's database has."""

from __future__ import annotations

from functools import cached_property

from inchworm.core.environments import Environment
from inchworm.core.errors import ProjectError
from inchworm.core.facts import Assembly
from inchworm.core.parts import Kind
from inchworm.core.sql.parse import SqlProblem
from inchworm.core.sql.schema_names import with_physical_schemas


def physical_table(name: str, assembly: Assembly, environment: Environment) -> str:
    """A logical ``schema.table`` under the name that it has in an environment.

    Schemas that are managed outside are never renamed.
    """
    if name.rpartition(".")[0] in assembly.outside_schemas:
        return name
    return environment.database.real_table(name)


class PhysicalNames:
    """The names of one project's tables and schemas in one environment.

    Args:
        dialect: that of the environment's database.
    """

    def __init__(self, assembly: Assembly, environment: Environment, dialect: str) -> None:
        self._assembly = assembly
        self._environment = environment
        self._dialect = dialect

    def table(self, name: str) -> str:
        """A logical table's name there."""
        return physical_table(name.lower(), self._assembly, self._environment)

    def schema(self, schema: str) -> str:
        """A schema's name there; of one that the project does not know, its own."""
        if schema in self._assembly.outside_schemas or schema not in self._known:
            return schema
        return self._environment.database.real_schema(schema)

    def statement(self, sql: str) -> str:
        """A statement of a script as the database reads it.

        Raises:
            ProjectError: when it has to be told in another dialect and cannot be read, or when the
                logical name of a schema would be left in it.
        """
        renames = self._environment.database.schema_pattern != "{schema}"
        if not renames and self._assembly.dialect == self._dialect:
            return sql
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
        of_tables = (table.rpartition(".")[0] for table in self._assembly.tables)
        of_parts = (part.name for part in self._assembly.of_kind(Kind.SCHEMA))
        return frozenset([*of_parts, *of_tables])
