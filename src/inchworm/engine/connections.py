"""Environments opened: their databases and services, reached with their own values and secrets."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

from msgspec import Struct

from inchworm.core.environments.environment import Environment, ServiceAddress
from inchworm.core.parameters.matrix import substitute
from inchworm.core.parameters.values import Value
from inchworm.core.sql.declared import NOTHING_DECLARED, Declared
from inchworm.engine.addresses import filled, secret_of
from inchworm.engine.lazy_connection import LazyConnection
from inchworm.engine.open_environment import OpenEnvironment
from inchworm.store.compositions import Compositions, Remembered
from inchworm.store.remembered_values import Remembering
from inchworm.targets.databases import Database, connect
from inchworm.targets.databases.file_states import settled_state
from inchworm.targets.databases.registry import Address, product_at, product_of
from inchworm.targets.machine import Machine
from inchworm.targets.secrets import Secrets

if TYPE_CHECKING:
    from inchworm.targets.http_services import HttpService
    from inchworm.targets.jupyter_server import JupyterServer


@contextmanager
def open_database(
    environment: Environment,
    machine: Machine,
    values: Mapping[str, Value],
    *,
    read_only: bool,
    sources: Declared = NOTHING_DECLARED,
) -> Iterator[Database]:
    """Reach an environment's database alone; the connection ends with the block.

    Args:
        environment: as its file declares it.
        machine: where the project is, with its environment variables.
        values: this environment's values.
        read_only: for looking only.
        sources: the places outside the database that queries may read through it.

    Raises:
        NotTrusted: when the user has not allowed the project to reach places.
        TargetError: when it cannot be reached.
        EnvironmentMoved: when another process holds it.
    """
    with closing(_lazy_connection(environment, machine, values, read_only, sources)) as connection:
        yield connection.database


def _lazy_connection(
    environment: Environment,
    machine: Machine,
    values: Mapping[str, Value],
    read_only: bool,
    sources: Declared,
) -> LazyConnection:
    machine.trust.demand(f"open the database of {environment.name}")
    address = environment.database
    url = filled(address.url, environment, values)
    machine.trust.check_place(url)

    def connected() -> Database:
        return connect(
            url,
            root=machine.root,
            login=machine.login,
            person=machine.person,
            password=secret_of(address.password, url, environment, machine, values),
            read_only=read_only,
            threads=address.threads,
            reads=[str(substitute(pattern, values)) for pattern in sources.reads.values()],
        )

    return LazyConnection(connected)


def _state(
    environment: Environment, project: str, machine: Machine, values: Mapping[str, Value]
) -> str | None:
    """The state of an environment's database, with all that its composition depends on, as text.

    None where that cannot be told without asking the database.
    """
    address = environment.database
    url = filled(address.url, environment, values)
    files = product_at(url).files
    state = None
    if files is not None:
        state = settled_state(files(Address(url=url, root=machine.root)), time.time())
    if state is None:
        return None
    named = (environment.name, environment.formerly, address)
    return f"{state}\n{url}\n{project}\n{machine.login}\n{named}"


def is_shared(environment: Environment, values: Mapping[str, Value]) -> bool:
    """Whether several runs can work in an environment's database at a time.

    Raises:
        TargetError: when the package of its product cannot be loaded.
    """
    product = product_of(filled(environment.database.url, environment, values).partition("://")[0])
    return product is not None and product.is_shared


class Beginning(Struct, frozen=True, kw_only=True):
    """An environment that is about to be opened.

    Attributes:
        connection: to its database.
        read_of: the database with its state, and how it is reached, as text; None where that is
            not known.
        remembered: what the database had when it was read last, if nobody has written to it since.
    """

    connection: LazyConnection
    read_of: str | None = None
    remembered: Remembered | None = None

    def close(self) -> None:
        """Let go of the database."""
        self.connection.close()


def begin_to_read(
    environment: Environment, project: str, machine: Machine, values: Mapping[str, Value]
) -> Beginning:
    """Begin to open an environment for looking only: what is remembered of it is read.

    The arguments are those of :func:`open_environment`.

    Raises:
        ProjectError: when its address has a parameter that has no value.
    """
    read_of = _state(environment, project, machine, values)
    remembered = None
    if read_of is not None:
        place = Remembering(machine.root, machine.sealer)
        remembered = Compositions(place).get(environment.name, read_of)
    connection = _lazy_connection(environment, machine, values, True, NOTHING_DECLARED)
    return Beginning(connection=connection, read_of=read_of, remembered=remembered)


@contextmanager
def open_environment(
    environment: Environment,
    project: str,
    machine: Machine,
    values: Mapping[str, Value],
    *,
    read_only: bool,
    sources: Declared = NOTHING_DECLARED,
    begun: Beginning | None = None,
) -> Iterator[OpenEnvironment]:
    """Reach an environment's database and services.

    Args:
        environment: as its file declares it.
        project: the project's name, under which the database keeps its books.
        machine: where the project is, with its environment variables.
        values: this environment's values; secrets are resolved here and kept nowhere.
        read_only: for looking only.
        sources: the places outside the database that queries may read through it.
        begun: where opening it for looking only has begun.

    Raises:
        TargetError: when something cannot be reached.
        EnvironmentMoved: when another process holds the database.
        WrongEnvironment: when the database is that of another environment.
    """
    product = product_at(filled(environment.database.url, environment, values))
    if begun is None and read_only and sources is NOTHING_DECLARED:
        begun = begin_to_read(environment, project, machine, values)
    elif begun is None:
        connection = _lazy_connection(environment, machine, values, read_only, sources)
        begun = Beginning(connection=connection)
    with closing(begun):
        if begun.remembered is None:
            begun.connection.begin()  # the services are reached meanwhile
        with (
            closing(_service(environment.workspace, environment, machine, values)) as workspace,
            closing(_service(environment.gateway, environment, machine, values)) as gateway,
            _notebook_server(environment, project, machine, values) as notebooks,
        ):
            place = OpenEnvironment(
                environment=environment,
                project=project,
                product=product,
                connection=begun.connection,
                workspace=workspace,
                gateway=gateway,
                notebooks=notebooks,
                machine=machine,
                read_of=begun.read_of,
                remembered=begun.remembered,
            )
            if place.remembered is None:
                _ = place.bookkeeping  # so that what is wrong with the database is said at once
            yield place


def _service(
    address: ServiceAddress, environment: Environment, machine: Machine, values: Mapping[str, Value]
) -> HttpService:
    from inchworm.targets.http_services import connect_service

    url = filled(address.url, environment, values)
    machine.trust.check_place(url)
    token = secret_of(address.token, url, environment, machine, values)

    def resolve(reference: str) -> str:
        with closing(Secrets(machine, environment.secret_store)) as secrets:
            return secrets.resolve(reference, "").reveal()  # of a service in this process

    return connect_service(url, machine.root, token, resolve)


@contextmanager
def _notebook_server(
    environment: Environment, project: str, machine: Machine, values: Mapping[str, Value]
) -> Iterator[JupyterServer | None]:
    """The server of the notebooks, where there is one."""
    address = environment.notebooks
    if address is None:
        yield None
        return
    from inchworm.targets.jupyter_server import JupyterServer

    url = filled(address.url, environment, values)
    machine.trust.check_place(url)
    token = secret_of(address.token, url, environment, machine, values)
    folder = filled(address.folder_of(project, environment), environment, values)
    with closing(JupyterServer(url, folder, address.kernel, token)) as server:
        yield server
