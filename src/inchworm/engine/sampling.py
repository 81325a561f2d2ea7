"""The first rows of models, checks and tables, as one environment's database has them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cached_property

from msgspec import Struct
from sqlglot import exp

from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.promotion.composition import LivePart
from inchworm.core.promotion.data_checks import checks_of
from inchworm.core.rendered import RenderedParts
from inchworm.core.sample import Sample
from inchworm.core.sql.names import table_name
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.renamed_tables import with_tables
from inchworm.core.sql.render import to_text
from inchworm.core.sql.selection import first_rows
from inchworm.targets.databases import Database


class Question(Struct, frozen=True, kw_only=True):
    """Which rows are asked for.

    Attributes:
        first: how many rows at most.
        where: a condition on them.
    """

    first: int
    where: exp.Expr | None = None


class Selected(Struct, frozen=True, kw_only=True):
    """The SELECT of some rows, and the rows that it returned.

    Attributes:
        about: the rows in words.
        sql: the statement as the database reads it.
        sample: the rows; None where the statement was not run.
        computed: the models that the statement computes instead of reading them.
    """

    about: str
    sql: str
    sample: Sample | None = None
    computed: tuple[PartId, ...] = ()


class Sampler:
    """Selects rows of the parts of one version, in one environment's database.

    A model that differs from what is live, or is not live, is computed where another one reads it;
    so rows are those that a promotion of the version would lead to.

    Args:
        environment: as its file declares it.
        dialect: that of its database.
        database: its database; None where nothing is read, but statements are made.
        assembly: the version's parts.
        rendered: the same with the environment's values.
        live: the parts of the project that are live there.
    """

    def __init__(
        self,
        *,
        environment: Environment,
        dialect: str,
        database: Database | None,
        assembly: Assembly,
        rendered: RenderedParts,
        live: Mapping[PartId, LivePart],
    ) -> None:
        self._database = database
        self._dialect = dialect
        self._assembly = assembly
        self._rendered = rendered
        self._live = live
        self._names = PhysicalNames(assembly, environment, dialect)
        self._differing: dict[PartId, bool] = {}
        for part in live.values():
            rendered.recall(part.part, part.recipe, part.digest)

    def model(self, part: PartId, question: Question) -> Selected:
        """The rows of a model, computed."""
        return self._selected(str(part), self._parsed(self._rendered.model(part).sql), question)

    def check(self, part: PartId, question: Question) -> Selected:
        """The rows that a check file returns."""
        return self._selected(str(part), self._parsed(self._rendered.check(part).sql), question)

    def failing(self, part: PartId, column: str | None, question: Question) -> Iterator[Selected]:
        """For each check on the data of a model, or of one column of it, the rows that fail it."""
        model = self._rendered.model(part)
        for check in checks_of(part.relation, model.key, model.checks):
            if column is None or column in check.columns:
                yield self._selected(check.text, check.failing, question)

    def relation(
        self, name: RelationName, question: Question, *, is_physical: bool = False
    ) -> Selected:
        """The rows that a table or view has.

        Args:
            name: its name.
            question: which rows.
            is_physical: whether that is the name in the database, and not one of the project.
        """
        physical = name if is_physical else self._names.table(name)
        query = exp.select("*").from_(exp.table_(physical.table, db=physical.schema, quoted=True))
        tree = first_rows(
            query, {}, self._assembly.dialect, where=question.where, first=question.first + 1
        )
        return Selected(about=name, sql=to_text(tree, self._dialect))

    def _selected(self, about: str, query: exp.Query, question: Question) -> Selected:
        computed = self._computed(query)
        dialect = self._assembly.dialect
        tree = first_rows(
            query,
            {part.relation: each for part, each in computed.items()},
            dialect,
            where=question.where,
            first=question.first + 1,
        )
        text = to_text(with_tables(tree, self._names.table, dialect), self._dialect)
        return Selected(about=about, sql=text, computed=tuple(computed))

    def run(self, selected: Selected, first: int) -> Sample:
        """The rows of a SELECT, read in a transaction in which nothing can be changed."""
        assert self._database is not None  # whoever made it without one runs nothing
        with self._database.reading():
            columns, rows = self._database.select(selected.sql)
        return Sample.of(columns, rows, first)

    # ---- models that are not as in the version --------------------------------------------------

    def _computed(self, query: exp.Query) -> dict[PartId, exp.Query]:
        """The differing models that a query needs, each behind those that it reads itself."""
        dialect = self._assembly.dialect
        tables = {table_name(t, dialect) for t in query.find_all(exp.Table) if t.args.get("db")}
        needed: dict[PartId, None] = {}

        def need(part: PartId) -> None:
            if part in needed or part.kind is not Kind.MODEL or not self._differs(part):
                return
            for upstream in sorted(self._assembly.upstream.get(part, ())):
                need(upstream)
            needed[part] = None

        for table in sorted(tables & self._provider.keys()):
            need(self._provider[table])
        return {part: self._parsed(self._rendered.model(part).sql) for part in needed}

    def _differs(self, part: PartId) -> bool:
        """Whether a model's live rows are not those of the version: itself, or upstream of it."""
        known = self._differing.get(part)
        if known is None:
            live = self._live.get(part)
            self._differing[part] = False  # models that read each other end here
            known = live is None or live.digest != self._rendered.digest(part)
            models = (p for p in self._assembly.upstream.get(part, ()) if p.kind is Kind.MODEL)
            known = self._differing[part] = known or any(map(self._differs, models))
        return known

    @cached_property
    def _provider(self) -> Mapping[str, PartId]:
        return self._assembly.provider

    def _parsed(self, sql: str) -> exp.Query:
        return parse_query(sql, self._assembly.dialect)
