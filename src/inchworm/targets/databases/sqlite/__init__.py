"""SQLite: a database in a file, each schema of it a file of its own."""

from collections.abc import Sequence
from pathlib import Path

from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.registry import Address, Product, Starter


def _connect(address: Address) -> Database:
    from inchworm.targets.databases.sqlite.models import Sqlite

    return Sqlite(address.path, login=address.login, read_only=address.read_only)


def _in_memory() -> Database:
    from inchworm.targets.databases.sqlite.models import Sqlite
    from inchworm.targets.databases.sqlite.session import IN_MEMORY

    return Sqlite(IN_MEMORY)


def _files(address: Address) -> Sequence[Path]:
    from inchworm.targets.databases.sqlite.session import files_of_schemas

    path = address.path
    files = (path, *files_of_schemas(path))
    return [file.with_name(file.name + end) for file in files for end in ("", "-wal", "-journal")]


def _starter(name: str) -> Starter:
    return Starter(
        about="Development: a SQLite file in this folder", url="sqlite:///.inchworm/dev.sqlite"
    )


PRODUCT = Product(
    dialect="sqlite",
    example="sqlite:///path",
    connect=_connect,
    starter=_starter,
    in_memory=_in_memory,
    files=_files,
)
