"""Looking at rows: of a model as the source has it, of a check that fails, of a live table."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import nullcontext

from msgspec import Struct
from msgspec.structs import replace

from inchworm.application.tracing import find_node
from inchworm.application.workplace import Workplace
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import ProjectError, UsageError
from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.matrix import FILE, evaluate
from inchworm.core.promotion.composition import LivePart
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.selection import condition_of
from inchworm.engine.addresses import filled
from inchworm.engine.connections import open_database
from inchworm.engine.open_environment import check_name
from inchworm.engine.preparation import rendered_for
from inchworm.engine.sampling import Question, Sampler, Selected
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.targets.databases import Database
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.registry import product_at


class RowsRequest(Struct, frozen=True, kw_only=True):
    """Which rows are asked for.

    Attributes:
        name: a model, check, table, or column of a model.
        environment: where; None for the environment that comes first.
        first: how many rows at most.
        where: a condition on the rows, in the project's dialect.
        failing: whether those rows of a model are asked for that fail its checks.
        live: whether a model is read as it is live, and not computed.
        bundle: the bundle whose parts are meant; None for the source tree as it is.
        run: whether the statements are run, and not only told.
    """

    name: str
    environment: str | None = None
    first: int = 20
    where: str | None = None
    failing: bool = False
    live: bool = False
    bundle: str | None = None
    run: bool = True


class Rows(Struct, frozen=True, kw_only=True):
    """Rows that were asked for.

    Attributes:
        part: the part or table that they are of.
        source: where its definition comes from: the source tree, a bundle, or what is live.
        identity: who we are in the environment's database.
        read_at: when they were read, ISO 8601, UTC.
        selected: the statements, each with its rows.
    """

    part: str
    source: str
    environment: Environment
    identity: str
    read_at: str
    selected: tuple[Selected, ...]


def sample_rows(workplace: Workplace, request: RowsRequest) -> Rows:
    """The first rows of a model, check or table in an environment. Nothing is changed there.

    Where only the statement is asked for in a project that is not trusted, no environment is
    reached, and no model counts as live.

    Raises:
        UsageError: when there is no such thing, environment or bundle, or the condition cannot be.
        ProjectError: when a part cannot be read, or the environment lacks a value.
        TargetError: when the database refuses the statement.
    """
    environment = _environment(workplace, request.environment)
    reading, source = _version(workplace, request.bundle)
    assembly = reading.assembly
    values = evaluate(assembly.matrix, environment.name, workplace.today).values
    question = _question(request, assembly.dialect)
    project = workplace.project.settings.name
    is_read = request.run or workplace.machine.trust.is_given
    with (
        open_database(
            environment, workplace.machine, values, read_only=True, sources=assembly.sources
        )
        if is_read
        else nullcontext()
    ) as database:
        live: dict[PartId, LivePart] = {}
        if database is not None:
            bookkeeping = Bookkeeping(database, project, environment.database.bookkeeping)
            check_name(environment, project, bookkeeping.environment())
            live = {part.part: part for part in bookkeeping.parts_of_ours()}
        sampler = Sampler(
            environment=environment,
            dialect=product_at(filled(environment.database.url, environment, values)).dialect,
            database=database,
            assembly=assembly,
            rendered=rendered_for(environment, reading, values),
            live=live,
        )
        subject = _subject(request, assembly, database)
        try:
            selected = list(_selected(sampler, subject, request, question))
        except KeyError as error:
            raise ProjectError(
                f"{environment.name} has no value for {error.args[0]}, which {subject.of} uses.",
                where=environment.file,
                next=f"Give it one in {FILE}.",
            ) from error
        if not selected:
            raise UsageError(
                f"{subject.of} has no checks on its data"
                f"{f' about {subject.column}' if subject.column else ''}.",
                next="Look at its rows without --failing.",
            )
        if request.run:
            selected = [replace(each, sample=sampler.run(each, request.first)) for each in selected]
        return Rows(
            part=str(subject.of),
            source=source if isinstance(subject.of, PartId) else "live",
            environment=environment,
            identity=database.identity if database is not None else "not asked",
            read_at=workplace.now(),
            selected=tuple(selected),
        )


def _environment(workplace: Workplace, name: str | None) -> Environment:
    if name is not None:
        return workplace.project.environment(name)
    first = [each for each in workplace.project.environments if not each.after]
    if len(first) != 1:
        listed = ", ".join(each.name for each in workplace.project.environments) or "none"
        raise UsageError(
            "No environment, or more than one, comes first.",
            next=f"Say which one: --in ENV (there are: {listed}).",
        )
    return first[0]


def _version(workplace: Workplace, bundle: str | None) -> tuple[Reading, str]:
    """The parts that are meant, and where they come from, in words."""
    if bundle is None:
        return workplace.read_remembered(), "as in the source tree"
    packed = workplace.bundles.get(bundle)
    reading = read_project(
        name=packed.project,
        version=packed.version,
        dialect=packed.dialect,
        files=packed.files,
        known=workplace.bundle_facts(packed),
    )
    return reading, f"as in {packed.name}"


def _question(request: RowsRequest, dialect: str) -> Question:
    if request.where is None:
        return Question(first=request.first)
    try:
        return Question(first=request.first, where=condition_of(request.where, dialect))
    except SqlProblem as problem:
        raise UsageError(
            f"--where {problem.reason}.",
            next="Write it as behind WHERE, about columns of the rows, such as "
            '--where "level_cm > 300".',
        ) from problem


class _Subject(Struct, frozen=True, kw_only=True):
    """The part or relation whose rows are asked for, and the column of it that was named.

    Attributes:
        is_physical: whether the relation is one that the project does not know.
    """

    of: PartId | RelationName
    column: str | None = None
    is_physical: bool = False


def _subject(request: RowsRequest, assembly: Assembly, database: Database | None) -> _Subject:
    try:
        node = find_node(assembly, request.name)
    except UsageError:
        physical = RelationName(request.name.lower())
        if database is None or physical not in database.kinds([physical]):
            raise
        return _Subject(of=physical, is_physical=True)
    part = PartId.parse(node.owner) if node.is_part else _provider(node.owner, assembly)
    if part is None or (part.kind not in {Kind.MODEL, Kind.CHECK} and node.is_part):
        raise UsageError(
            f"{node.owner} has no rows of its own.",
            next="Name a model, a check, or a table as schema.table.",
        )
    if not assembly.outlines[part].readable:
        raise ProjectError(
            f"{part} cannot be read.",
            where=assembly.outlines[part].file,
            next="See what is wrong with it: inchworm check",
        )
    is_computed = part.kind in {Kind.MODEL, Kind.CHECK} and not request.live
    subject = _Subject(of=part if is_computed else RelationName(node.owner), column=node.field)
    _check_subject(subject, request)
    return subject


def _provider(table: str, assembly: Assembly) -> PartId | None:
    """The part that provides a table; a model that cannot be read provides nothing yet."""
    unreadable = (p for p in assembly.of_kind(Kind.MODEL) if p.relation == table)
    return assembly.provider.get(table) or next(unreadable, None)


def _check_subject(subject: _Subject, request: RowsRequest) -> None:
    is_model = isinstance(subject.of, PartId) and subject.of.kind is Kind.MODEL
    if request.failing and not is_model:
        raise UsageError(
            f"--failing is about the checks in a model's settings, and {subject.of} has none.",
            next=f"Leave it out: inchworm rows {subject.of}",
        )
    if subject.column is not None and not request.failing:
        of = subject.of.relation if isinstance(subject.of, PartId) else subject.of
        raise UsageError(
            f"{request.name} is a column.",
            next=f"See its rows: inchworm rows {of}, or those that its checks refuse: "
            f"inchworm rows {of}.{subject.column} --failing",
        )


def _selected(
    sampler: Sampler, subject: _Subject, request: RowsRequest, question: Question
) -> Iterator[Selected]:
    match subject.of:
        case PartId() if request.failing:
            yield from sampler.failing(subject.of, subject.column, question)
        case PartId(kind=Kind.CHECK):
            yield sampler.check(subject.of, question)
        case PartId():
            yield sampler.model(subject.of, question)
        case _:
            yield sampler.relation(subject.of, question, is_physical=subject.is_physical)
