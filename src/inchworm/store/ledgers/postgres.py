"""A ledger in PostgreSQL: for a team, whose checkouts and build servers share it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from typing import Any

import psycopg

from inchworm.core.errors import LedgerError
from inchworm.store.ledgers.sql import SqlStorage, Statements, table_of_runs, tables
from inchworm.targets.secret import Secret

_GRANTED = """
SELECT privilege_type,
       CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END
FROM pg_class c, aclexplode(coalesce(c.relacl, acldefault('r', c.relowner)))
WHERE c.oid = to_regclass(?) AND pg_get_userbyid(grantee) <> current_user
"""
"""What others may do with a table: its owner, too."""


class PostgresLedger(SqlStorage):
    """A ledger in a schema of a PostgreSQL database.

    Args:
        url: as libpq reads it, without a password.
        schema: the schema of its tables.
        password: handed over beside the address.
    """

    def __init__(self, url: str, schema: str, password: Secret | None) -> None:
        self.prefix = f"{schema}."
        self._schema = schema
        self._url = url
        self._password = password
        self._open: psycopg.Connection[tuple[Any, ...]] | None = None
        place = psycopg.conninfo.conninfo_to_dict(url)
        self.place = f"the ledger in {place.get('dbname', '?')} on {place.get('host', 'localhost')}"

    @property
    def exists(self) -> bool:
        """Whether anything was ever recorded."""
        with self._reading() as run:
            return bool(run("SELECT 1 WHERE to_regclass(?) IS NOT NULL", [f"{self.prefix}entries"]))

    def begin(self) -> None:
        """Make the schema and its tables, unless they are there."""
        with self._reading() as run:
            youngest = f"{self.prefix}runs"
            if run("SELECT 1 WHERE to_regclass(?) IS NOT NULL", [youngest]):
                return
        with self._transaction() as run:
            # two that begin at once would both find nothing there
            run("SELECT pg_advisory_xact_lock(hashtextextended(?, 0))", [self.prefix])
            if not run("SELECT 1 FROM pg_namespace WHERE nspname = ?", [self._schema]):
                run(f"CREATE SCHEMA {self._schema}")
            # nobody but their owner may touch tables that are there, not even in vain
            statements = table_of_runs if self.exists else tables
            for statement in statements(self.prefix, "BIGINT"):
                run(statement)
            # whoever may use the tables of an earlier version may use what comes to them
            for privilege, grantee in run(_GRANTED, [f"{self.prefix}promotions"]):
                run(f"GRANT {privilege} ON {youngest} TO {grantee}")

    @contextmanager
    def _locked(self) -> Iterator[Statements]:
        with self._transaction() as run:
            # no lock of the table: that asks for a right to change entries, which nobody needs
            key = f"inchworm ledger {self.prefix}"
            run("SELECT pg_advisory_xact_lock(hashtextextended(?, 0))", [key])
            yield run

    @contextmanager
    def _transaction(self) -> Iterator[Statements]:
        with self._reading() as run, self._connection().transaction():
            yield run

    @contextmanager
    def _reading(self) -> Iterator[Statements]:
        try:
            yield _running(self._connection())
        except psycopg.Error as error:
            if self._open is not None and self._open.closed:
                self._open = None
            raise LedgerError(
                f"cannot be used: {self._masked(error)}",
                where=self.place,
                next="Check [storage] ledger and password in inchworm.toml, that the server runs, "
                "and that we may make a schema there or use the one that is there.",
            ) from error

    def _connection(self) -> psycopg.Connection[tuple[Any, ...]]:
        """The connection; it is opened when it is needed first, and ends with the program."""
        if self._open is None:
            secret = {} if self._password is None else {"password": self._password.reveal()}
            self._open = psycopg.connect(
                self._url,
                autocommit=True,
                connect_timeout=10,
                application_name="inchworm ledger",
                **secret,  # type: ignore[arg-type]  # the driver names none of libpq's settings
            )
        return self._open

    def close(self) -> None:
        """End the connection."""
        if self._open is not None:
            closing(self._open).__exit__(None, None, None)
            self._open = None

    def _masked(self, error: psycopg.Error) -> str:
        lines = [line.strip() for line in str(error).splitlines() if line.strip()]
        text = lines[0] if lines else type(error).__name__
        return self._password.hidden_in(text) if self._password is not None else text


def _running(connection: psycopg.Connection[tuple[Any, ...]]) -> Statements:
    def run(sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        cursor = connection.execute(sql.replace("?", "%s").encode(), values)
        return cursor.fetchall() if cursor.description is not None else []

    return run
