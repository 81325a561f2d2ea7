"""DuckDB: a database in a file, used by one process at a time."""

from collections.abc import Sequence
from pathlib import Path

from inchworm.targets.databases.protocols import Database
from inchworm.targets.databases.registry import Address, Product, Starter


def _connect(address: Address) -> Database:
    from inchworm.targets.databases.duckdb.models import DuckDb
    from inchworm.targets.databases.duckdb.places import Places

    return DuckDb(
        address.path,
        login=address.login,
        read_only=address.read_only,
        threads=address.threads,
        places=Places(root=address.root, patterns=address.reads),
    )


def _in_memory() -> Database:
    from inchworm.targets.databases.duckdb.models import DuckDb
    from inchworm.targets.databases.duckdb.session import IN_MEMORY

    return DuckDb(IN_MEMORY)


def files_of(path: Path) -> Sequence[Path]:
    """The file of a database, and that of what was written to it last."""
    return path, path.with_name(f"{path.name}.wal")


def _starter(name: str) -> Starter:
    return Starter(
        about="Development: a DuckDB file in this folder", url="duckdb:///.inchworm/dev.duckdb"
    )


PRODUCT = Product(
    dialect="duckdb",
    example="duckdb:///path",
    connect=_connect,
    starter=_starter,
    in_memory=_in_memory,
    files=lambda address: files_of(address.path),
)
