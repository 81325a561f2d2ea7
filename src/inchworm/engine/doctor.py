"""Trying every place that a promotion would need, before it is needed.

Nothing stays changed: what is made in a database to see whether it can be made is rolled back.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping

from msgspec import Struct

from inchworm.core.counting import counted
from inchworm.core.environments.environment import Environment
from inchworm.core.errors import InchwormError, TargetError
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.matrix import Values
from inchworm.core.parameters.values import Type
from inchworm.engine.addresses import check_secrets, secrets_of
from inchworm.engine.connections import open_environment
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.targets.databases.quoting import quoted
from inchworm.targets.http_services import HttpService
from inchworm.targets.jupyter_server import JupyterServer
from inchworm.targets.machine import Machine

_SCRATCH = "inchworm_probe"
_CLOCK_TOLERANCE = 5.0
"""Seconds by which two clocks may differ without being worth a word."""


class Probe(Struct, frozen=True, kw_only=True):
    """One thing that was tried.

    Attributes:
        where: the environment, or ``project``.
        what: what was tried, in a few words.
        is_fine: whether it worked; None when it could not be tried, because another failed.
        message: what the attempt told, or why it failed.
        remedy: what to do when it did not work.
    """

    where: str
    what: str
    is_fine: bool | None
    message: str = ""
    remedy: str = ""


def probe(where: str, what: str, attempt: Callable[[], str]) -> Probe:
    """Try one thing; an error that the user can act upon becomes a failed probe."""
    try:
        return Probe(where=where, what=what, is_fine=True, message=attempt())
    except InchwormError as error:
        message = f"{error.where}: {error.what}" if error.where else error.what
        return Probe(
            where=where, what=what, is_fine=False, message=message, remedy=error.next or ""
        )


def probe_environment(
    environment: Environment,
    assembly: Assembly,
    values: Values,
    machine: Machine,
    now: Callable[[], dt.datetime],
) -> Iterator[Probe]:
    """A probe of everything that a promotion into an environment needs."""
    name = environment.name
    yield probe(name, "values", lambda: _all_values(values))
    yield probe(name, "secrets", lambda: _all_secrets(environment, assembly, values, machine))
    try:
        with open_environment(
            environment, assembly.name, machine, values.values, read_only=False
        ) as place:
            who = f"as {place.identity} ({environment.protection})"
            yield Probe(where=name, what="database", is_fine=True, message=who)
            yield from _inside(place, assembly, now)
    except InchwormError as error:
        yield Probe(
            where=name, what="database", is_fine=False, message=error.what, remedy=error.next or ""
        )
        for what in ("clock", "rights", "tables managed outside", *environment.services):
            yield Probe(where=name, what=what, is_fine=None, message="not tried")


def _inside(
    place: OpenEnvironment, assembly: Assembly, now: Callable[[], dt.datetime]
) -> Iterator[Probe]:
    name = place.environment.name
    yield probe(name, "clock", lambda: _clock(place, now))
    yield probe(name, "rights", lambda: _rights(place))
    yield probe(name, "tables managed outside", lambda: _outside(place, assembly))
    yield probe(name, "bookkeeping", lambda: _books(place))
    services: Mapping[str, object] = {
        "workspace": place.workspace,
        "gateway": place.gateway,
        "notebooks": place.notebooks,
    }
    for what, service in services.items():
        if isinstance(service, HttpService | JupyterServer):
            yield probe(name, what, service.greet)


def _all_values(values: Values) -> str:
    if values.problems:
        first, count = values.problems[0], len(values.problems)
        more = f", and {count - 1} more" if count > 1 else ""
        raise TargetError(f"{first.message}{more}", where=first.place, next=first.remedy)
    return counted(len(values.values), "value")


def _all_secrets(
    environment: Environment, assembly: Assembly, values: Values, machine: Machine
) -> str:
    used = {use.parameter for outline in assembly.outlines.values() for use in outline.uses}
    used |= set(secrets_of(environment))
    secrets = [n for n in sorted(used) if n in values.values]
    secrets = [n for n in secrets if values.values[n].type is Type.SECRET]
    available = check_secrets(environment, values.values, secrets, machine)
    versions = [f"{s.reference} version {s.version}" for s in available if s.version]
    return "; ".join([f"{len(available)} of {len(available)} can be had", *versions])


def _clock(place: OpenEnvironment, now: Callable[[], dt.datetime]) -> str:
    server = place.database.server()
    if server.now is None:
        return f"{server.product} {server.version}, with the clock of this machine"
    apart = (server.now - now()).total_seconds()
    if abs(apart) > _CLOCK_TOLERANCE:
        raise TargetError(
            f"its clock is {abs(apart):.0f} s {'ahead of' if apart > 0 else 'behind'} ours.",
            next="Have one of the two clocks set right.",
        )
    return f"{server.product} {server.version}, same time as here"


def _rights(place: OpenEnvironment) -> str:
    """Make a schema, a table and a view, and take all of it back."""
    database = place.database
    table = quoted(f"{_SCRATCH}.t")
    with database.scratch_schemas([_SCRATCH]):
        database.execute(f"CREATE TABLE {table} AS SELECT 1 AS one")
        database.execute(f"CREATE VIEW {quoted(f'{_SCRATCH}.v')} AS SELECT one FROM {table}")
    too_many = "; the role is a superuser, which is more than it needs"
    is_superuser = database.rights((), ()).is_superuser
    return f"schemas, tables and views can be made{too_many if is_superuser else ''}"


def _outside(place: OpenEnvironment, assembly: Assembly) -> str:
    tables = [
        table.name
        for part, outline in assembly.outlines.items()
        if outline.managed_outside
        for table in assembly.facts[part].provides
    ]
    for table in tables:
        try:
            place.database.rows(f"SELECT 1 FROM {quoted(table)} WHERE 1 = 0")
        except TargetError as error:
            raise TargetError(
                f"{table} cannot be read: {error.what}",
                next="Have the table made, or the right to read it granted to us.",
            ) from error
    return f"all {len(tables)} can be read" if tables else "there are none"


def _books(place: OpenEnvironment) -> str:
    if not place.bookkeeping.exists:
        return "not there yet; the first promotion makes it"
    last = place.bookkeeping.last()
    if last is None:
        return "no promotion of this project yet"
    return f"{last.bundle} by {last.id or last.promotion}"
