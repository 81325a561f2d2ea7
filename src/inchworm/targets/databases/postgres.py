"""PostgreSQL: a server that several people and programs use at once."""

from __future__ import annotations

import datetime as dt
import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing, contextmanager, suppress
from typing import Any, NamedTuple

import psycopg
from psycopg import errors

from inchworm.core.errors import EnvironmentMoved, TargetError
from inchworm.core.sql.types import normal_type
from inchworm.core.structure.definitions import Definition
from inchworm.core.structure.tables import Column, Table
from inchworm.targets.databases.base import Database, Server, Switch, quoted, quoted_one
from inchworm.targets.databases.postgres_definitions import read_definitions
from inchworm.targets.secrets import Secret

_SCRATCH = "__wanted"
_BIG = 131_072
"""Pages of 8 kB; a table with more is not counted."""
_LOCK_TIMEOUT = "15s"
"""How long a statement waits for a lock that somebody else holds."""

_STRUCTURE = """
SELECT n.nspname, c.relname, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull
FROM pg_attribute a
JOIN pg_class c ON c.oid = a.attrelid
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND a.attnum > 0 AND NOT a.attisdropped
  AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%'
  AND n.nspname NOT LIKE 'pg_temp%'
ORDER BY n.nspname, c.relname, a.attnum
"""

_KINDS = """
SELECT n.nspname, c.relname, c.relkind
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f')
  AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%'
  AND n.nspname NOT LIKE 'pg_temp%'
"""

_DEPENDENT_VIEWS = """
WITH RECURSIVE reads AS (
  SELECT DISTINCT r.ev_class AS view, d.refobjid AS source
  FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
  WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass
    AND r.ev_class <> d.refobjid
), found AS (
  SELECT view, 1 AS depth FROM reads WHERE source = ANY(%s::text[]::regclass[]::oid[])
  UNION
  SELECT reads.view, found.depth + 1 FROM reads JOIN found ON reads.source = found.view
  WHERE found.depth < 100
)
SELECT n.nspname, c.relname, c.relkind, pg_get_viewdef(c.oid), max(found.depth)
FROM found JOIN pg_class c ON c.oid = found.view JOIN pg_namespace n ON n.oid = c.relnamespace
GROUP BY n.nspname, c.relname, c.relkind, c.oid ORDER BY max(found.depth)
"""

_UNFINISHED = """
SELECT n.nspname, c.relname FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
JOIN pg_namespace n ON n.oid = c.relnamespace WHERE NOT i.indisvalid
"""

_RIGHTS = """
SELECT CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee)) END,
       x.privilege_type, x.is_grantable
FROM pg_class c, aclexplode(c.relacl) x
WHERE c.oid = %s::text::regclass AND x.grantee <> c.relowner
"""

_IN_THE_WAY = """
SELECT DISTINCT a.pid, a.usename, coalesce(nullif(a.application_name, ''), '?'), a.state,
       left(regexp_replace(a.query, '\\s+', ' ', 'g'), 80)
FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.granted AND l.pid <> ALL(%s) AND l.pid <> pg_backend_pid()
  AND a.datname = current_database()
  AND l.locktype IN ('relation', 'transactionid') AND l.mode <> 'AccessShareLock'
ORDER BY a.pid LIMIT 3
"""


class _View(NamedTuple):
    """A view that has to be made again: its name, its SELECT, and who may use it."""

    name: str
    query: str
    rights: list[str]


class Postgres:
    """A connection to a PostgreSQL database.

    Args:
        url: as libpq reads it, without a password.
        password: the password, handed over beside the address.
        read_only: the server then refuses every change.
    """

    dialect = "postgres"

    def __init__(
        self, url: str, *, password: Secret | None = None, read_only: bool = False
    ) -> None:
        self._url = url
        self._password = password
        self._connection = self._connect()
        info = self._connection.info
        self.identity = f"{info.user} at {info.dbname}"
        self._where = f"{info.dbname} on {info.host}"
        self.execute(f"SET lock_timeout = '{_LOCK_TIMEOUT}'")
        if read_only:
            self.execute("SET default_transaction_read_only = on")

    def _connect(self) -> psycopg.Connection[tuple[Any, ...]]:
        secret = {} if self._password is None else {"password": self._password.reveal()}
        try:
            return psycopg.connect(
                self._url,
                autocommit=True,
                connect_timeout=10,
                application_name="inchworm",
                **secret,  # type: ignore[arg-type]  # the driver names none of libpq's settings
            )
        except psycopg.Error as error:
            raise TargetError(
                f"the database cannot be reached: {self._masked(_first_line(error))}",
                next="Check its address and password in the environment file, and that it runs.",
            ) from error

    def hold(self, name: str) -> None:
        """Keep others from promoting into this database until the connection ends."""
        (got,) = self.rows("SELECT pg_try_advisory_lock(hashtextextended(?, 0))", [name])
        if got[0]:
            return
        holders = self.rows(
            "SELECT a.pid, a.usename, coalesce(a.client_addr::text, 'this machine') "
            "FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid "
            "WHERE l.locktype = 'advisory' AND l.granted AND a.datname = current_database()"
        )
        said = ", ".join(f"{user} from {client} (process {pid})" for pid, user, client in holders)
        raise EnvironmentMoved(
            f"another promotion works in {self._where}: {said}.",
            next="Wait until it has finished, and try again.",
        )

    def another(self) -> Database | None:
        """Another session."""
        return Postgres(self._url, password=self._password)

    def interrupt(self) -> None:
        """Ask the server to cancel what this session does."""
        with suppress(psycopg.Error):  # it may have ended, and the connection with it
            self._connection.cancel_safe(timeout=5)

    def server(self) -> Server:
        """The server's version and its clock."""
        ((version, now),) = self.rows("SELECT current_setting('server_version'), clock_timestamp()")
        return Server(product="PostgreSQL", version=version.split()[0], now=_with_zone(now))

    def execute(self, sql: str, values: Sequence[Any] = ()) -> None:
        """Run a statement."""
        with self._errors():
            self._run(sql, values)

    def execute_alone(self, sql: str) -> None:
        """Run a statement by itself. An index that was not finished would be taken for one."""
        words = set(re.findall(r"\w+", sql))
        for schema, name in self.rows(_UNFINISHED):
            if name in words:
                self.execute(f"DROP INDEX {quoted(f'{schema}.{name}')}")
        self.execute(sql)

    def rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a query."""
        with self._errors():
            return self._run(sql, values).fetchall()

    def _run(self, text: str, values: Sequence[Any]) -> psycopg.Cursor[tuple[Any, ...]]:
        if not values:
            return self._connection.execute(text.encode())
        return self._connection.execute(text.replace("%", "%%").replace("?", "%s").encode(), values)

    def frame(self, sql: str) -> Any:
        """Run a query into a pandas DataFrame."""
        import pandas as pd

        with self._errors():
            cursor = self._run(sql, ())
            names = [column.name for column in cursor.description or ()]
            return pd.DataFrame(cursor.fetchall(), columns=names)

    def append_frame(self, table: str, frame: Any) -> None:
        """Add the rows of a pandas DataFrame to a table, columns matched by name."""
        columns = ", ".join(quoted_one(str(column)) for column in frame.columns)
        plain = frame.astype(object).where(frame.notna(), None)
        with (
            self._errors(),
            self._connection.cursor() as cursor,
            cursor.copy(f"COPY {quoted(table)} ({columns}) FROM STDIN".encode()) as copy,
        ):
            for row in plain.itertuples(index=False, name=None):
                copy.write_row(row)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """Everything inside takes effect together, or not at all."""
        self.execute("BEGIN")
        try:
            yield
        except BaseException:
            with suppress(psycopg.Error):  # a lost connection has rolled back by itself
                self._connection.rollback()
            raise
        self.execute("COMMIT")

    @contextmanager
    def trial(self, schemas: Sequence[str]) -> Iterator[None]:
        """A transaction that is rolled back."""
        self.execute("BEGIN")
        try:
            for schema in schemas:
                self.execute(f"CREATE SCHEMA {quoted(schema)}")
            yield
        finally:
            with self._errors():
                self._connection.rollback()

    @contextmanager
    def scratch(self, schema: str) -> Iterator[tuple[Database, str]]:
        """A transaction of a second connection, rolled back; the schema has another name there."""
        name = schema + _SCRATCH
        with closing(Postgres(self._url, password=self._password)) as board, board.trial([name]):
            yield board, name

    @contextmanager
    def restructuring(self, upon: Sequence[str]) -> Iterator[None]:
        """A transaction before which views upon what is named go, and after which they come again.

        A view of PostgreSQL does not let the type of a column change that it reads.
        """
        with self.transaction():
            kinds = self.kinds()
            there = [name for name in upon if name in kinds]
            own = {name for name in there if kinds[name] == "view"}
            rights = {name: self._rights(name) for name in own}
            others = self._views_upon(there, own)
            for view in reversed(others):
                self.execute(f"DROP VIEW {quoted(view.name)}")
            yield
            for name in own & self.kinds().keys():
                self._grant(name, rights[name])
            for view in others:
                self.execute(f"CREATE VIEW {quoted(view.name)} AS {view.query}")
                self._grant(view.name, view.rights)

    @contextmanager
    def attempt(self) -> Iterator[None]:
        """Inside a trial: if a statement inside fails, what was made before it is still there."""
        self.execute("SAVEPOINT attempt")
        try:
            yield
        except TargetError:
            self.execute("ROLLBACK TO SAVEPOINT attempt")
            raise
        self.execute("RELEASE SAVEPOINT attempt")

    def structure(self, schemas: Iterable[str] | None = None) -> dict[str, Table]:
        """Tables and views with their columns, by real name."""
        wanted = None if schemas is None else set(schemas)
        found: dict[str, list[Column]] = defaultdict(list)
        for schema, table, column, type_, required in self.rows(_STRUCTURE):
            if wanted is None or schema in wanted:
                kind = normal_type(type_, self.dialect)
                found[f"{schema}.{table}"].append(Column(column, kind, required))
        return {name: Table(name, tuple(columns)) for name, columns in found.items()}

    def definitions(self, schemas: Sequence[str]) -> list[Definition]:
        """What some schemas have, as the server tells it."""
        ((before,),) = self.rows("SELECT current_setting('search_path')")
        self.execute("SET search_path = ''")
        try:
            return read_definitions(self.rows, schemas)
        finally:
            self.rows("SELECT set_config('search_path', ?, false)", [before])

    def kinds(self) -> Mapping[str, str]:
        """``table`` or ``view`` for each thing that :meth:`structure` lists."""
        return {
            f"{schema}.{name}": "view" if kind in {"v", "m"} else "table"
            for schema, name, kind in self.rows(_KINDS)
        }

    def size(self, name: str) -> int | None:
        """The bytes of a table with its indexes and what is kept out of line."""
        ((size,),) = self.rows("SELECT pg_total_relation_size(to_regclass(?))", [quoted(name)])
        return None if size is None else int(size)

    def about_rows(self, name: str) -> int | None:
        """What the statistics say of a table of more than a gigabyte."""
        found = self.rows(
            "SELECT reltuples::bigint, relpages FROM pg_class WHERE oid = to_regclass(?)",
            [quoted(name)],
        )
        return int(found[0][0]) if found and found[0][1] > _BIG else None

    def create_schema(self, schema: str) -> None:
        """Make a schema unless it is there; then the right to make schemas is not needed."""
        if not self.rows("SELECT 1 FROM pg_namespace WHERE nspname = ?", [schema]):
            self.execute(f"CREATE SCHEMA IF NOT EXISTS {quoted(schema)}")

    def build(self, name: str, store: str, sql: str) -> int | None:
        """Make a table or view from a SELECT, replacing a leftover; the rows of a table."""
        self.drop(name)
        with self._errors():
            cursor = self._run(f"CREATE {store.upper()} {quoted(name)} AS {sql}", ())
        return None if store == "view" else cursor.rowcount

    def empty_copy(self, name: str, sql: str) -> str:
        """The statement that makes an empty table with the columns of a SELECT, running nothing."""
        return f"CREATE TABLE {quoted(name)} AS ({sql}) WITH NO DATA"

    def drop(self, name: str) -> None:
        """Remove a table or view if it is there, and what was built upon it."""
        kind = self.kinds().get(name)
        if kind is not None:
            self.execute(f"DROP {kind.upper()} {quoted(name)} CASCADE")

    def switch_over(self, switches: Sequence[Switch]) -> None:
        """Put what was built beside in place. Called inside a transaction.

        A view of PostgreSQL follows the table that it was made on, whatever that is called later.
        So every view that reads what is replaced, also those of others, is made again on what then
        has the name; rights that were granted on tables and views are granted again.
        """
        kinds = self.kinds()
        there = [switch.name for switch in switches if switch.name in kinds]
        rights = {name: self._rights(name) for name in there}
        own = {name for s in switches for name in (s.name, s.beside) if name is not None}
        others = self._views_upon(there, own)
        for view in reversed(others):
            self.execute(f"DROP VIEW IF EXISTS {quoted(view.name)} CASCADE")
        for switch in reversed(switches):
            if kinds.get(switch.name) == "view":
                self.execute(f"DROP VIEW IF EXISTS {quoted(switch.name)} CASCADE")
        for switch in switches:
            if switch.kept in kinds:
                self.execute(f"DROP {kinds[switch.kept].upper()} {quoted(switch.kept)} CASCADE")
            if kinds.get(switch.name) == "table":
                self._rename(switch.name, switch.kept)
            if switch.beside is not None and switch.store == "table":
                self._rename(switch.beside, switch.name)
        for switch in switches:
            if switch.beside is not None and switch.store == "view":
                self.execute(f"DROP VIEW IF EXISTS {quoted(switch.beside)} CASCADE")
                self.execute(f"CREATE VIEW {quoted(switch.name)} AS {switch.view_sql}")
        for switch in switches:
            if switch.beside is not None:
                self._grant(switch.name, rights.get(switch.name, []))
        for view in others:
            self.execute(f"CREATE VIEW {quoted(view.name)} AS {view.query}")
            self._grant(view.name, view.rights)

    def _views_upon(self, names: Sequence[str], leave_out: set[str]) -> list[_View]:
        """Views that read some relations, each after those that it reads itself."""
        if not names:
            return []
        with self._errors():
            found = self._connection.execute(
                _DEPENDENT_VIEWS.encode(), ([quoted(name) for name in names],)
            ).fetchall()
        views = []
        for schema, table, kind, query, _ in found:
            name = f"{schema}.{table}"
            if name in leave_out:
                continue
            if kind == "m":
                raise TargetError(
                    f"{name} is a materialised view upon what this promotion replaces.",
                    next="Make it a plain view or a model, or drop it and make it again by hand.",
                )
            views.append(_View(name, query, self._rights(name)))
        return views

    def _rights(self, name: str) -> list[str]:
        """What was granted on a relation, each as the part of a GRANT that follows the name."""
        with self._errors():
            found = self._connection.execute(_RIGHTS.encode(), (quoted(name),)).fetchall()
        return [
            f"{privilege}|{who}{' WITH GRANT OPTION' if again else ''}"
            for who, privilege, again in found
        ]

    def _grant(self, name: str, rights: Iterable[str]) -> None:
        for right in rights:
            privilege, _, who = right.partition("|")
            self.execute(f"GRANT {privilege} ON {quoted(name)} TO {who}")

    def _rename(self, old: str, new: str) -> None:
        table = new.partition(".")[2]
        self.execute(f"ALTER TABLE {quoted(old)} RENAME TO {quoted_one(table)}")

    def close(self) -> None:
        """End the connection."""
        self._connection.close()

    @contextmanager
    def _errors(self) -> Iterator[None]:
        try:
            yield
        except errors.LockNotAvailable as error:
            raise TargetError(
                f"{self._where} says: waited {_LOCK_TIMEOUT} for a lock.{self._in_the_way()}",
                next="Nothing was changed by it. Have that session end, and go on.",
            ) from error
        except errors.QueryCanceled as error:
            raise TargetError(
                f"{self._where} says: {_first_line(error)}",
                next="Nothing was changed by it. Raise the statement timeout there, and go on.",
            ) from error
        except psycopg.OperationalError as error:
            if not self._connection.closed:
                raise self._refused(error) from error
            raise TargetError(
                f"{self._where} does not answer any more: {self._masked(_first_line(error))}",
                next="Whether the last statement took effect is read from its bookkeeping when the "
                "promotion goes on.",
            ) from error
        except psycopg.Error as error:
            raise self._refused(error) from error

    def _refused(self, error: psycopg.Error) -> TargetError:
        detail = error.diag.message_detail
        said = self._masked(_first_line(error)) + (f" ({detail})" if detail else "")
        return TargetError(f"{self._where} says: {said}", next="Nothing was changed by it.")

    def _in_the_way(self) -> str:
        """Who holds locks, asked by a connection of its own."""
        with suppress(TargetError, psycopg.Error), self._connect() as other:
            found = other.execute(
                _IN_THE_WAY.encode(), ([self._connection.info.backend_pid],)
            ).fetchall()
            return "".join(
                f" Process {pid} ({user}, {program}) is {state}: {query}."
                for pid, user, program, state, query in found
            )
        return ""

    def _masked(self, text: str) -> str:
        if self._password is None:
            return text
        return text.replace(self._password.reveal(), str(self._password))


def _with_zone(moment: Any) -> dt.datetime:
    assert isinstance(moment, dt.datetime)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _first_line(error: Exception) -> str:
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    return lines[0] if lines else type(error).__name__
