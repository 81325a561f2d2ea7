"""What a draft would take away of what is there: counted by the database, and named."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding, Severity
from inchworm.core.environments.physical_names import PhysicalNames
from inchworm.core.environments.rights import Rights
from inchworm.core.errors import InchwormError
from inchworm.core.identifiers import Kind, PartId, RelationName
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

_SCRIPTS = frozenset({Phase.MIGRATE, Phase.MIGRATE_AFTER})


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
    yield from losing.occupied(rights, overwrite=overwrite)
    yield from losing.scripts()


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

    def occupied(self, rights: Rights, *, overwrite: bool) -> Iterator[Finding]:
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
                severity=Severity.NOTE if overwrite else None,
                remedy="It is replaced; the next promotion removes it for good."
                if overwrite
                else None,
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
        steps = list(self._steps())
        if not steps:
            return
        from inchworm.core.sql.losing import Scripts  # the parser, only where it is needed

        scripts = Scripts(self._tables(), self.assembly.dialect)
        for part, script, is_undo in steps:
            file = script.undo_file if is_undo else script.file
            for loss in scripts.losses(script.undo if is_undo else script.sql):
                rows = self._count(loss)
                if rows is not None:
                    yield self._lost(loss, rows, part, file, puts_back=is_undo)

    def _steps(self) -> Iterable[tuple[PartId, Script, bool]]:
        """The scripts that are going to run, in order, and whether each takes a migration back."""
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
            if step.phase not in _SCRIPTS or not isinstance(step.part, PartId):
                continue
            if step.action == UNDO:
                yield step.part, undone[step.part, step.item], True
            elif step.action == "run":
                schema = self.prepared.rendered.schema(step.part)
                yield step.part, schema.migration(step.item), False

    def _tables(self) -> dict[str, Table]:
        """The live tables of our schemas, by logical name."""
        schemas = {
            self.names.schema(part.name): part.name for part in self.assembly.of_kind(Kind.SCHEMA)
        }
        return {
            f"{schemas[table.schema]}.{RelationName(name).table}": table
            for name, table in self.live.tables.items()
            if table.schema in schemas
        }

    def _count(self, loss: Loss) -> str | None:
        """How many rows or values go; None where none do, or the database would refuse anyway."""
        try:
            if not loss.is_conditional:
                rows = count_rows(self.place.database, self.names.table(loss.table), loss.column)
            else:
                ((count,),) = self.place.database.rows(self.names.statement(loss.counting))
                rows = f"{count:,}"
        except InchwormError:
            # a condition that names what an earlier script makes; a value that no cast takes
            return "some" if loss.way is Way.DELETES else None
        return None if rows == "0" else rows

    def _lost(self, loss: Loss, rows: str, part: PartId, file: str, *, puts_back: bool) -> Finding:
        is_allowed = not {loss.name, loss.table}.isdisjoint(self.environment.database.may_lose)
        severity, remedy = None, None
        if is_allowed:
            severity, remedy = Severity.NOTE, "It is listed under may_lose."
        elif puts_back and loss.way is Way.DELETES:
            severity = Severity.WARNING
            remedy = "Look whether these are the rows that the migration put in."
        what = "values" if loss.column else "rows"
        return rules.LOSES_DATA.finding(
            f"{loss.way.value} {loss.name} and loses {rows} {what}",
            part=part,
            file=file,
            line=loss.line,
            severity=severity,
            remedy=remedy,
        )
