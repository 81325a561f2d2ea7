"""Which storage the address of a ledger asks for."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from inchworm.core.errors import ProjectError
from inchworm.safe_files import check_no_link
from inchworm.store.ledgers.protocol import LedgerStorage
from inchworm.targets.secret import Secret


def open_ledger_storage(
    address: str, root: Path, schema: str, password: Callable[[], Secret | None]
) -> LedgerStorage:
    """The storage of a ledger.

    Args:
        address: the path of a file, relative to the project, or ``postgresql://user@host/database``.
        root: the project's folder.
        schema: of a ledger in a server, the schema of its tables.
        password: resolves the password, where a server asks for one.

    Raises:
        ProjectError: when a ledger cannot be stored at such an address.
    """
    scheme, separator, _ = address.partition("://")
    if not separator:
        from inchworm.store.ledgers.sqlite import SqliteLedger

        path = Path(address)
        file = path if path.is_absolute() else root / path
        check_no_link(root, file)
        return SqliteLedger(file)
    if scheme in {"postgresql", "postgres"}:
        from inchworm.store.ledgers.postgres import PostgresLedger

        return PostgresLedger(address, schema, password())
    raise ProjectError(
        f"a ledger cannot be stored at {scheme}://...",
        where="inchworm.toml",
        next="Write [storage] ledger = the path of a file, or postgresql://user@host/database.",
    )
