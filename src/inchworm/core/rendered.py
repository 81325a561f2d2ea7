"""Rendered parts: a part with one environment's values, as it is put in place there.

Each kind that promotions work on in a database has a type of its own; what goes to a service is a
document. The digest of a rendered part is that of its document, and decides whether it changed.
"""

from __future__ import annotations

import json
from abc import abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from enum import StrEnum
from functools import cached_property
from typing import Any, TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.parts import Digest, digest_of


class Store(StrEnum):
    """The kind of relation that a model is in the database."""

    VIEW = "view"
    TABLE = "table"
    INCREMENT = "increment"


class When(StrEnum):
    """Whether a migration runs before or after the switch-over of models."""

    BEFORE = "before"
    AFTER = "after"


class Managed(StrEnum):
    """Who changes a schema, and by what."""

    MIGRATIONS = "migrations"
    STRUCTURE = "structure"
    OUTSIDE = "outside"


class Rendered(Struct, frozen=True, kw_only=True, dict=True):
    """A part with one environment's values in place."""

    part: PartId

    @property
    @abstractmethod
    def document(self) -> Mapping[str, Any]:
        """The part as plain data, for its digest and for services."""

    @cached_property
    def digest(self) -> Digest:
        """Digest of the document: what influences the environment, and nothing else."""
        return digest_of(canonical(self.document))

    def placed(self, tables: Mapping[str, RelationName]) -> Rendered:
        """The part with the physical names of tables; promotions do that with their own SQL.

        Args:
            tables: by logical name, those that have another name in the environment.
        """
        return self


class RenderedDocument(Rendered, frozen=True, kw_only=True):
    """A part that a service takes as it is.

    Attributes:
        content: the part as plain data.
        tables: by logical name, the tables that have another name in the environment.
    """

    content: Mapping[str, Any]
    tables: Mapping[str, RelationName] = field(default_factory=dict)

    @property
    def document(self) -> Mapping[str, Any]:
        """The content, with the names of tables that are not what they are called in it."""
        if not self.tables:
            return self.content
        return {**self.content, "tables": dict(sorted(self.tables.items()))}

    def placed(self, tables: Mapping[str, RelationName]) -> Rendered:
        """The part with the names that its tables have in the environment."""
        return replace(self, tables=tables)


class RenderedNotebook(RenderedDocument, frozen=True, kw_only=True):
    """A notebook.

    Attributes:
        queries: what it asks the database by its helper, each with the line where it does; they
            have logical names, and ``:parameters``.
        imports: the top-level modules that it imports, each with the line where it does.
    """

    queries: tuple[tuple[str, int], ...] = ()
    imports: tuple[tuple[str, int], ...] = ()


class RenderedFlow(RenderedDocument, frozen=True, kw_only=True):
    """A flow, whose table or query is the service's to read or fill.

    Attributes:
        dialect: that of its query.
    """

    dialect: str

    @property
    def document(self) -> Mapping[str, Any]:
        """The flow, with physical names at its ends."""
        if not self.tables:
            return self.content
        ends = {end: self._placed_end(self.content[end]) for end in ("from", "to")}
        return {**super().document, **ends}

    def _placed_end(self, end: Mapping[str, Any]) -> Mapping[str, Any]:
        placed = dict(end)
        if table := end.get("table"):
            placed["table"] = self.tables.get(table.lower(), table)
        if query := end.get("query"):
            from inchworm.core.sql.parse import parse_query  # the parser, only where it is needed
            from inchworm.core.sql.renamed_tables import with_tables
            from inchworm.core.sql.render import to_text

            tree = parse_query(query, self.dialect)
            named = with_tables(tree, lambda name: self.tables.get(name, name), self.dialect)
            placed["query"] = to_text(named, self.dialect)
        return placed


class RenderedModel(Rendered, frozen=True, kw_only=True):
    """A model.

    Attributes:
        sql: its SELECT in the project's dialect, with logical names and values as literals.
        key: columns that are required, and unique together.
        checks: for each column its data checks, as ``{"between": [0, 10], "required": True}``.
        since: the column that tells new rows of an increment.
        keeps_rows: whether a change of an increment leaves the rows that it has.
        day: the column that tells of which day a row of an increment is.
    """

    sql: str
    store: Store
    key: tuple[str, ...] = ()
    checks: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    since: str | None = None
    keeps_rows: bool = False
    day: str | None = None

    @property
    def is_view(self) -> bool:
        """Whether it has no rows of its own."""
        return self.store is Store.VIEW

    @property
    def document(self) -> Mapping[str, Any]:
        """The model as plain data."""
        increment = {"since": self.since, "on_change": "keep" if self.keeps_rows else "rebuild"}
        return {
            "sql": self.sql,
            "store": self.store.value,
            "key": list(self.key),
            "checks": dict(self.checks),
            **(increment if self.since is not None else {}),
            **({"day": self.day} if self.day is not None else {}),
        }


class RenderedCheck(Rendered, frozen=True, kw_only=True):
    """A check file.

    Attributes:
        sql: the SELECT that must return no row.
        refuses: whether a row stops the promotion.
        message: what a row means.
    """

    sql: str
    refuses: bool
    message: str

    @property
    def document(self) -> Mapping[str, Any]:
        """The check as plain data."""
        severity = "error" if self.refuses else "warning"
        return {"sql": self.sql, "severity": severity, "message": self.message}


class Script(Struct, frozen=True, kw_only=True):
    """A migration, or a script that runs at every promotion.

    Attributes:
        name: its file's name without ``.sql``.
        file: its path in the project.
        sql: its statements, with logical names.
        checksum: digest of what it means: comments and layout do not count.
        baseline: whether it makes what an environment may have had before.
        in_transaction: False for a statement that a database refuses to run in a transaction.
        undo: the script that takes the migration back, if there is one.
        takes_up: the objects that were changed by hand and are the migration's doing from now on,
            each with a digest of its definition.
    """

    name: str
    file: str
    sql: str
    checksum: Digest
    when: When = When.BEFORE
    baseline: bool = False
    in_transaction: bool = True
    undo: str = ""
    takes_up: Mapping[str, str] = field(default_factory=dict)

    @property
    def undo_file(self) -> str:
        """The path of the undo script."""
        return self.file.removesuffix(".sql") + ".undo.sql"

    @property
    def document(self) -> dict[str, Any]:
        """The script as plain data; settings that say nothing special are left out."""
        return {
            **({} if self.in_transaction else {"transaction": False}),
            **({"undo": self.undo} if self.undo else {}),
            **({"takes_up": dict(self.takes_up)} if self.takes_up else {}),
            "name": self.name,
            "file": self.file,
            "checksum": self.checksum,
            "baseline": self.baseline,
            "when": self.when.value,
            "sql": self.sql,
        }


class RenderedSchema(Rendered, frozen=True, kw_only=True):
    """A schema.

    Attributes:
        tables: of a schema that is managed outside: names, each with its columns and their types.
        desired: of one that is managed by its structure: the script that makes the structure.
        renames: new names by old ones, as the schema declares them.
        migrations: in the order in which they run.
        before: scripts that run at every promotion, before anything else.
        after: scripts that run at every promotion, behind everything else.
    """

    managed: Managed
    tables: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = ()
    desired: str = ""
    renames: Mapping[str, str] = field(default_factory=dict)
    migrations: tuple[Script, ...] = ()
    before: tuple[Script, ...] = ()
    after: tuple[Script, ...] = ()

    @property
    def has_desired_structure(self) -> bool:
        """Whether its changes are worked out from the structure that it should have."""
        return self.managed is Managed.STRUCTURE

    @property
    def scripts(self) -> tuple[Script, ...]:
        """The scripts that run at every promotion."""
        return (*self.before, *self.after)

    def migration(self, name: str) -> Script:
        """The migration of that name.

        Raises:
            KeyError: when there is none.
        """
        return _named(self.migrations, name)

    def script(self, when: When, name: str) -> Script:
        """The script of that name that runs at every promotion.

        Raises:
            KeyError: when there is none.
        """
        return _named(self.before if when is When.BEFORE else self.after, name)

    @property
    def document(self) -> Mapping[str, Any]:
        """The schema as plain data."""
        if self.managed is Managed.OUTSIDE:
            tables = [{"name": n, "columns": [list(c) for c in cs]} for n, cs in self.tables]
            return {"managed": self.managed.value, "tables": tables}
        if self.has_desired_structure:
            own: dict[str, Any] = {"wanted": self.desired, "renames": dict(self.renames)}
        else:
            own = {"migrations": [script.document for script in self.migrations]}
        return {
            "managed": self.managed.value,
            **own,
            "before": [script.document for script in self.before],
            "after": [script.document for script in self.after],
        }


class RenderedParts(Mapping[PartId, Rendered]):
    """The parts of a version in one environment, each rendered when it is asked for.

    Args:
        parts: the ids of all parts.
        render: renders one.
        recipe: digest of everything that one is rendered from. Two parts of one recipe are rendered
            alike, so what was put in place by the same recipe need not be rendered to be compared.
    """

    def __init__(
        self,
        parts: Iterable[PartId],
        render: Callable[[PartId], Rendered],
        recipe: Callable[[PartId], Digest],
    ) -> None:
        self._parts = dict.fromkeys(parts)
        self._render = render
        self.recipe = recipe
        self._rendered: dict[PartId, Rendered] = {}
        self._digests: dict[PartId, Digest] = {}

    def recall(self, part: PartId, recipe: str, digest: Digest) -> None:
        """Take over the digest of a part that was rendered by a recipe, if it still is."""
        if recipe and part in self._parts:
            with suppress(KeyError):  # it lacks a value; whoever needs it will hear of that
                if recipe == self.recipe(part):
                    self._digests[part] = digest

    def digest(self, part: PartId) -> Digest:
        """The digest of a rendered part; it is rendered only if the digest is not known."""
        known = self._digests.get(part)
        return self[part].digest if known is None else known

    def __getitem__(self, part: PartId) -> Rendered:
        rendered = self._rendered.get(part)
        if rendered is None:
            if part not in self._parts:
                raise KeyError(part)
            rendered = self._rendered[part] = self._render(part)
        return rendered

    def __contains__(self, part: object) -> bool:
        return part in self._parts

    def __iter__(self) -> Iterator[PartId]:
        return iter(self._parts)

    def __len__(self) -> int:
        return len(self._parts)

    def model(self, part: PartId) -> RenderedModel:
        """A part that is a model."""
        return _of_type(self[part], RenderedModel)

    def check(self, part: PartId) -> RenderedCheck:
        """A part that is a check."""
        return _of_type(self[part], RenderedCheck)

    def schema(self, part: PartId) -> RenderedSchema:
        """A part that is a schema."""
        return _of_type(self[part], RenderedSchema)


def canonical(document: object) -> bytes:
    """JSON with sorted keys and no layout: equal documents give equal bytes."""
    text = json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return text.encode()


def _named(scripts: Iterable[Script], name: str) -> Script:
    for script in scripts:
        if script.name == name:
            return script
    raise KeyError(name)


R = TypeVar("R", bound=Rendered)


def _of_type(rendered: Rendered, type_: type[R]) -> R:
    if not isinstance(rendered, type_):
        raise TypeError(f"{rendered.part} is no {type_.__name__}")
    return rendered
