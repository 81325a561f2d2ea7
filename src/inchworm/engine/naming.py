"""From a project's names to those that an environment's database has."""

from __future__ import annotations

from functools import cached_property

from inchworm.core.drafting import real_name
from inchworm.core.environments import Environment
from inchworm.core.facts import Assembly
from inchworm.core.parts import Kind
from inchworm.core.sql.render import with_real_names


class Naming:
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
        return real_name(name.lower(), self._assembly, self._environment)

    def schema(self, schema: str) -> str:
        """A schema's name there; of one that the project does not know, its own."""
        if schema in self._assembly.outside_schemas or schema not in self._known:
            return schema
        return self._environment.database.real_schema(schema)

    def statement(self, sql: str) -> str:
        """A statement of a script as the database reads it.

        Raises:
            SqlProblem: when it has to be told in another dialect, and cannot be read.
        """
        renames = self._environment.database.schema_pattern != "{schema}"
        if not renames and self._assembly.dialect == self._dialect:
            return sql
        return with_real_names(sql, self.schema, self._assembly.dialect, self._dialect)

    @cached_property
    def _known(self) -> frozenset[str]:
        """The schemas that the project knows."""
        of_tables = (table.rpartition(".")[0] for table in self._assembly.tables)
        of_parts = (part.name for part in self._assembly.of_kind(Kind.SCHEMA))
        return frozenset([*of_parts, *of_tables])
