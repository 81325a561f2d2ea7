"""What a draft would take away of what is there: counted by the database, and named."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from msgspec.structs import replace

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.environments.rights import Rights
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import Composition
from inchworm.core.promotion.drafting.rolling_back import UNDO
from inchworm.core.promotion.promotion import Draft
from inchworm.core.promotion.states import Phase
from inchworm.core.rendered import Script
from inchworm.core.structure.losing import Loss, Way
from inchworm.core.structure.tables import Table
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.engine.preparation import Prepared
from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.quoting import quoted, quoted_one

SCRIPTED = frozenset({Phase.MIGRATE, Phase.MIGRATE_AFTER})
"""The phases whose steps run scripts of schemas."""


def count_rows(database: Database, table: RelationName, column: str = "") -> str:
    """How many rows a table has, or values a column; as text, roughly where that is quicker.

    Args:
        database: asked for it.
        table: its physical name.
        column: empty for whole rows.

    Raises:
        TargetError: when the database refuses.
    """
    roughly = database.about_rows(table)
    if roughly is not None:
        return f"about {roughly:,}"
    what = quoted_one(column) if column else "*"
    ((count,),) = database.rows(f"SELECT count({what}) FROM {quoted(table)}")
    return f"{count:,}"


def losses(
    drafted: Draft,
    prepared: Prepared,
    place: OpenEnvironment,
    live: Composition,
    rights: Rights,
    *,
    overwrite: bool,
) -> Iterator[Finding]:
    """Findings about rows, values and relations of others that a draft would take away.

    Args:
        drafted: the draft.
        prepared: its bundle.
        place: the environment; its database is asked only where something goes.
        live: what it has.
        rights: they tell whose each relation is, where the database knows.
        overwrite: whether what others made may be lost.
    """
    losing = _Losing(drafted, prepared, place, live)
    for finding in losing.occupied(rights):
        yield _overwritten(finding) if overwrite else finding
    yield from losing.scripts()


def new_losses(
    drafted: Draft, prepared: Prepared, place: OpenEnvironment, live: Composition
) -> list[Finding]:
    """What a draft would take away by now, and did not when it was made: rows have come since."""
    losing = _Losing(drafted, prepared, place, live).scripts()
    return [finding for finding in losing if finding.severity is Severity.ERROR]


def stakes(
    drafted: Draft, prepared: Prepared, place: OpenEnvironment, live: Composition
) -> dict[int, tuple[Loss, ...]]:
    """What each script of a draft may not take away once it runs, by the number of its step."""
    by_step: dict[int, tuple[Loss, ...]] = {}
    losing = _Losing(drafted, prepared, place, live)
    for scripted, loss in losing.all_losses():
        if losing.severity(loss, scripted) is None and not loss.is_of_scripts:
            by_step[scripted.step] = (*by_step.get(scripted.step, ()), loss)
    return by_step


def undo_losses(
    script: Script, tables: Mapping[str, Table], environment: Environment, dialect: str
) -> tuple[Loss, ...]:
    """What a script that takes a migration back takes away of what is live, and may not.

    Args:
        tables: the tables that are live, by logical name.
        dialect: of the script.
    """
    from inchworm.core.sql.losing import Scripts

    losses = Scripts(tables, dialect).losses(script.undo)
    may_lose = environment.database.may_lose
    return tuple(
        loss
        for loss in losses
        if loss.way is not Way.DELETES and {loss.name, loss.table}.isdisjoint(may_lose)
    )


def lost_rows(database: Database, names: PhysicalNames, loss: Loss) -> str | None:
    """How many rows or values go, as text; None where none do, or the database would refuse."""
    try:
        if not loss.is_conditional:
            rows = count_rows(database, names.table(loss.table), loss.column)
        else:
            ((count,),) = database.rows(names.statement(loss.counting))
            rows = f"{count:,}"
    except InchwormError:
        # a condition that names what an earlier script makes; a value that no cast takes
        return "some" if loss.way is Way.DELETES else None
    return None if rows == "0" else rows


class _Scripted(NamedTuple):
    """A script that a step of a draft runs."""

    step: int
    part: PartId
    script: Script
    is_undo: bool

    @property
    def sql(self) -> str:
        return self.script.undo if self.is_undo else self.script.sql

    @property
    def file(self) -> str:
        return self.script.undo_file if self.is_undo else self.script.file


class _Losing:
    def __init__(
        self, drafted: Draft, prepared: Prepared, place: OpenEnvironment, live: Composition
    ) -> None:
        self.drafted = drafted
        self.prepared = prepared
        self.assembly = prepared.reading.assembly
        self.environment = prepared.environment
        self.place = place
        self.live = live
        self.names = PhysicalNames(self.assembly, prepared.environment, place.product.dialect)

    # ---- relations that are in the way ---------------------------------------------------------

    def occupied(self, rights: Rights) -> Iterator[Finding]:
        """Relations of others whose names models, or tables of notebooks, would get."""
        wanted = {self.names.table(name): part for part, name in self._new()}
        occupied = {name: part for name, part in wanted.items() if name in self.live.tables}
        if not occupied:
            return
        kinds = self.place.database.kinds(frozenset(occupied))
        owners = {owned.name: owned.owner for owned in rights.owned}
        for name, part in sorted(occupied.items()):
            kind = kinds.get(name, "table")
            of = f" of {owners[name]}" if name in owners else ""
            rows = f" with {count_rows(self.place.database, name)} rows" if kind == "table" else ""
            yield rules.NAME_TAKEN.finding(
                f"{part} is new here, and a {kind}{of}{rows} has its name: {name}",
                part=part,
            )

    def _new(self) -> Iterator[tuple[PartId, str]]:
        """The parts that come to have a table here, with its logical name."""
        phases = {Phase.BUILD: Kind.MODEL, Phase.PREPARE: Kind.NOTEBOOK}
        for step in self.drafted.steps:
            part = step.part
            if not isinstance(part, PartId) or phases.get(step.phase) is not part.kind:
                continue
            if part in self.live.parts:
                continue
            if part.kind is Kind.MODEL:
                yield part, part.relation
            elif not self.live.is_unfinished:  # else the promotion that stopped may have made it
                yield part, step.item

    # ---- scripts -------------------------------------------------------------------------------

    def scripts(self) -> Iterator[Finding]:
        """What migrations, and scripts that take them back, take away."""
        for scripted, loss in self.all_losses():
            rows = lost_rows(self.place.database, self.names, loss)
            if rows is not None:
                yield self._lost(loss, rows, scripted)
        yield from self._unread()

    def _unread(self) -> Iterator[Finding]:
        """Statements that may take something away where nobody sees it."""
        from inchworm.core.sql.losing import Scripts

        scripts = Scripts({}, self.assembly.dialect)
        for scripted in self._steps():
            for words, line in scripts.unread(scripted.sql):
                yield rules.NOT_FOLLOWED_SCRIPT.finding(
                    f"{words} is not followed", part=scripted.part, file=scripted.file, line=line
                )

    def all_losses(self) -> Iterator[tuple[_Scripted, Loss]]:
        """What the scripts take away, if there is anything in it."""
        steps = list(self._steps())
        if not steps:
            return
        from inchworm.core.sql.losing import Scripts  # the parser, only where it is needed

        scripts = Scripts(self._tables(), self.assembly.dialect)
        for scripted in steps:
            for loss in scripts.losses(scripted.sql):
                yield scripted, loss

    def severity(self, loss: Loss, scripted: _Scripted) -> Severity | None:
        """How bad a loss is; None where it is refused."""
        if not {loss.name, loss.table}.isdisjoint(self.environment.database.may_lose):
            return Severity.NOTE
        return Severity.WARNING if scripted.is_undo and loss.way is Way.DELETES else None

    def _steps(self) -> Iterator[_Scripted]:
        """The scripts that are going to run, in order."""
        undone = {
            (part, each.ran.name): Script(
                name=each.ran.name,
                file=each.file.removesuffix(".undo.sql") + ".sql",
                sql=each.ran.script,
                checksum=Digest(each.ran.checksum),
                undo=each.undo,
            )
            for part, those in self.drafted.undone.items()
            for each in those
        }
        for step in self.drafted.steps:
            if step.phase not in SCRIPTED or not isinstance(step.part, PartId):
                continue
            if step.action == UNDO:
                yield _Scripted(step.number, step.part, undone[step.part, step.item], True)
            elif step.action == "run":
                schema = self.prepared.rendered.schema(step.part)
                yield _Scripted(step.number, step.part, schema.migration(step.item), False)

    def _tables(self) -> dict[str, Table]:
        """The live tables of our schemas, by logical name."""
        return logical_tables(self.live.tables, self.assembly, self.names)

    def _lost(self, loss: Loss, rows: str, scripted: _Scripted) -> Finding:
        severity = self.severity(loss, scripted)
        what = "values" if loss.column else "rows"
        return rules.LOSES_DATA.finding(
            f"{loss.way.value} {loss.name} and loses {rows} {what}",
            part=scripted.part,
            file=scripted.file,
            line=loss.line,
            severity=severity,
            remedy=_REMEDIES[severity] if severity else None,
        )


_REMEDIES = {
    Severity.NOTE: "It is listed under may_lose.",
    Severity.WARNING: "Look whether these are the rows that the migration put in.",
}


def _overwritten(finding: Finding) -> Finding:
    remedy = "It is replaced; the next promotion removes it for good."
    return replace(finding, severity=Severity.NOTE, remedy=remedy)


def logical_tables(
    tables: Mapping[str, Table], assembly: Assembly, names: PhysicalNames
) -> dict[str, Table]:
    """The tables of the schemas of a project, by logical name, of those by physical name."""
    schemas = {names.schema(part.name): part.name for part in assembly.of_kind(Kind.SCHEMA)}
    return {
        f"{schemas[table.schema]}.{RelationName(name).table}": table
        for name, table in tables.items()
        if table.schema in schemas
    }
