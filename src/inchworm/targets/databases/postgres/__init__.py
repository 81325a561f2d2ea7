"""PostgreSQL: a server that several people and programs use at once."""

from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.registry import Address, Product, Starter


def _connect(address: Address) -> Database:
    from inchworm.targets.databases.postgres.models import Postgres

    return Postgres(
        address.url,
        password=address.password,
        read_only=address.read_only,
        person=address.person,
    )


def _starter(name: str) -> Starter:
    return Starter(
        about=f"Development: a PostgreSQL database, made with createdb {name}_dev",
        url=f"postgresql://localhost:5432/{name}_dev",
        preparation=(f"createdb {name}_dev",),
    )


PRODUCT = Product(
    dialect="postgres",
    example="postgresql://user@host:5432/database",
    connect=_connect,
    starter=_starter,
    longest_name=63,
    is_shared=True,
)
