"""The structures that promotions left in a database."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.structure.definitions import HANGING, Definition, Thing
from inchworm.targets.databases.bookkeeping.base import AT_ONCE, Books, batched, read_back


class Structures(Books):
    """Structures as they were left."""

    @read_back
    def structures(self) -> list[Definition]:
        """The definitions that promotions left in the database, as far as they are recorded."""
        if not self.has("structures"):
            return []
        is_lacking = ("structures", "relation", "VARCHAR") in self._lacking()
        column = "NULL" if is_lacking else "relation"
        return [
            Definition(
                thing=Thing(thing),
                name=name,
                sql=sql,
                is_of_schema=bool(of_schema),
                needs=(relation,) if relation else (),
            )
            for thing, name, sql, of_schema, relation in self._sorted(
                f"SELECT thing, name, definition, of_schema, {column} "
                f"FROM {self.schema}.structures WHERE project = ?",
                [self._project],
                by=[0, 1],
            )
        ]

    def record(self, before: Iterable[Definition], after: Iterable[Definition], at: str) -> None:
        """Record what a step changed. Called inside the step's transaction.

        What the step left as it was keeps its record, so that a change made by hand stays one.

        Args:
            before: the definitions before the step.
            after: the same, after it.
            at: the time, ISO 8601.
        """
        old = {definition.key: definition for definition in before}
        new = {definition.key: definition for definition in after}
        changed = [
            definition
            for key, definition in {**old, **new}.items()
            if key not in old or key not in new or old[key].sql != new[key].sql
        ]
        for some in batched(changed, AT_ONCE):
            same = " OR ".join(["(thing = ? AND name = ?)"] * len(some))
            named = [value for each in some for value in (each.thing.value, each.name)]
            self._database.execute(
                f"DELETE FROM {self.schema}.structures WHERE project = ? AND ({same})",
                [self._project, *named],
            )
        self._insert_structures((new[d.key] for d in changed if d.key in new), at)

    def leave_unrecorded(self, schema: str) -> None:
        """Say that a schema was changed, and that recording it is still to come.

        Called inside the transaction of the change. ``schema`` is its physical name.
        """
        self._database.execute(
            f"INSERT INTO {self.schema}.unrecorded VALUES (?, ?)", [self._project, schema]
        )

    @read_back
    def unrecorded(self) -> frozenset[str]:
        """The physical names of schemas that a promotion has changed and not yet recorded."""
        if not self.has("unrecorded"):
            return frozenset()
        rows = self._database.rows(
            f"SELECT schema_name FROM {self.schema}.unrecorded WHERE project = ?", [self._project]
        )
        return frozenset(str(name) for (name,) in rows)

    def recorded(self, schema: str) -> None:
        """Say that a schema is recorded as it is. Called inside a transaction."""
        self._database.execute(
            f"DELETE FROM {self.schema}.unrecorded WHERE project = ? AND schema_name = ?",
            [self._project, schema],
        )

    def _insert_structures(self, definitions: Iterable[Definition], at: str) -> None:
        self._database.add_rows(
            f"{self.schema}.structures",
            ("project", "thing", "name", "of_schema", "definition", "put_at", "relation"),
            [
                (
                    self._project,
                    one.thing.value,
                    one.name,
                    int(one.is_of_schema),
                    one.sql,
                    at,
                    one.relation if one.thing in HANGING else None,
                )
                for one in definitions
            ],
        )
