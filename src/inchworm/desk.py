"""The surroundings of a notebook at a desk.

The environment is the one that ``INCHWORM_ENV`` names, else the first of the project's route, if
one comes first. The project is the one that the working folder is in. Every call connects, does its
work and lets go, so that a notebook left open locks nobody out.

Rows are stored only where nobody relies on them: in no protected environment, and in no table but
one that a notebook of the project stores.
"""

from __future__ import annotations

import datetime as dt
import getpass
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.core.environments.environment import Environment
from inchworm.core.environments.physical_names import physical_table
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.identifiers import Kind, RelationName
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parameters.matrix import FILE, evaluate, is_of_matrix
from inchworm.core.parameters.values import Plain, Type, Value
from inchworm.core.promotion.aside import aside
from inchworm.core.rendered import Store
from inchworm.core.sql.declared import FILE as SOURCES
from inchworm.core.sql.renamed_tables import with_tables
from inchworm.core.sql.render import to_text
from inchworm.core.sql.type_names import normal_type
from inchworm.core.trust import NOTEBOOKS
from inchworm.engine.connections import open_database
from inchworm.engine.notebook_queries import query_with_values
from inchworm.engine.notebook_rows import columns_in_table, promised_columns
from inchworm.engine.open_environment import check_name
from inchworm.kinds.project_reader import read_project
from inchworm.project.tree import Project, find_project
from inchworm.safe_files import file_to_keep
from inchworm.targets.databases import Database
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.databases.quoting import quoted, quoted_one
from inchworm.targets.machine import Machine
from inchworm.targets.secrets import Secrets
from inchworm.targets.user_folder import UserFolder

if TYPE_CHECKING:
    import pandas as pd


class Surroundings:
    """One environment as a notebook sees it.

    Args:
        folder: where the project is looked for; by default the working folder.
        environment: the environment's name; by default ``INCHWORM_ENV``, else the route's first.
    """

    def __init__(self, folder: Path | None = None, environment: str | None = None) -> None:
        self._folder = folder
        self._name = environment
        self.measures: dict[str, float] = {}
        """The numbers given to :meth:`measure`, by name."""

    def query(self, sql: str) -> pd.DataFrame:
        """The rows of a query, written with logical names and ``:parameters``.

        Raises:
            ProjectError: when the SQL does not parse or uses an unknown parameter.
            TargetError: when the database refuses it.
        """
        dialect = self._project.settings.dialect
        tree = query_with_values(sql, dialect, self._values)
        with self._database(read_only=True) as database:
            text = to_text(with_tables(tree, self._real, dialect), database.dialect)
            frame: pd.DataFrame = database.frame(text)
            return frame

    def table(self, name: str) -> pd.DataFrame:
        """A whole table, by its logical name."""
        with self._database(read_only=True) as database:
            frame: pd.DataFrame = database.frame(f"SELECT * FROM {quoted(self._real(name))}")
            return frame

    def value(self, name: str) -> Plain:
        """A parameter's value here; of a secret, the secret itself.

        Raises:
            UsageError: when there is no such parameter.
        """
        if name not in self._values:
            near = did_you_mean(name, self._values, f"Declare it in {FILE}.")
            raise UsageError(f"There is no parameter {name}.", next=near)
        value = self._values[name]
        if value.type is Type.SECRET:
            with closing(Secrets(self._machine, self._environment.secret_store)) as secrets:
                return secrets.resolve(value.text, NOTEBOOKS).reveal()
        return value.plain

    def store(
        self,
        table: str,
        frame: pd.DataFrame,
        *,
        key: Sequence[str] = (),
        columns: Mapping[str, str] | None = None,
    ) -> int:
        """Put rows into a table of the notebook's own, in one transaction; returns how many.

        Args:
            table: its logical name; it is made if it is not there.
            frame: the rows.
            key: rows with the same key are replaced, others stay; without a key all are replaced.
            columns: the table's columns and SQL types, in the project's dialect. They let the
                lineage be known, and the table be made, before the notebook has ever run.

        Raises:
            UsageError: when rows are missing columns, or may not be stored there.
            TargetError: when the database refuses them.
        """
        self._check_current()
        self._check_storable(table.lower())
        names = promised_columns(table, frame.columns, columns)
        physical = self._real(table)
        rows = frame[names]
        with self._database(read_only=False) as database:
            self._check_owner(table.lower(), physical, database)
            database.create_schema(physical.schema)
            self._replace(database, physical, rows, key, columns)
        return len(rows)

    def _replace(
        self,
        database: Database,
        physical: RelationName,
        rows: pd.DataFrame,
        key: Sequence[str],
        columns: Mapping[str, str] | None,
    ) -> None:
        """Put rows into a table in one transaction, in which a staging table comes and goes."""
        with database.transaction():
            kinds = database.kinds()
            if physical not in kinds:
                self._create(database, physical, columns)
            own = database.structure([physical.schema])[physical].columns
            called = columns_in_table(list(map(str, rows.columns)), physical, [c.name for c in own])
            rows, key = rows.rename(columns=called), [called[name] for name in key]
            names = ", ".join(map(quoted_one, called.values()))
            beside = aside(physical, "__stored", kinds)
            template = f"SELECT {names} FROM {quoted(physical)} LIMIT 0"
            database.build(beside, Store.TABLE, template)
            database.append_frame(beside, rows)
            same = " AND ".join(f"here.{quoted_one(k)} = new.{quoted_one(k)}" for k in key)
            matching = f"WHERE EXISTS (SELECT 1 FROM {quoted(beside)} AS new WHERE {same})"
            database.execute(f"DELETE FROM {quoted(physical)} AS here {matching if key else ''}")
            database.execute(
                f"INSERT INTO {quoted(physical)} ({names}) SELECT {names} FROM {quoted(beside)}"
            )
            database.drop([beside])

    def measure(self, name: str, value: float) -> None:
        """A number about this run, such as the error of a forecast."""
        self.measures[name] = float(value)

    def keep(self, path: str | Path) -> None:
        """Keep a file with the run; at a desk there is none, and the file stays where it is.

        Args:
            path: the file.

        Raises:
            UsageError: when it does not exist.
        """
        file_to_keep(path)

    def _check_current(self) -> None:
        """Whether the environment is still what it was when this kernel asked first.

        A notebook stays open for days; meanwhile an environment can become protected, move to
        another database, or get other values.

        Raises:
            UsageError: when it is not.
        """
        now = Surroundings(self._folder, self._name)
        known, current = self._environment, now._environment
        if current.protected:
            self.__dict__["_environment"] = current  # which takes no rows from a desk
            return
        values = {name: value.text for name, value in self._values.items()}
        if known != current or values != {n: value.text for n, value in now._values.items()}:
            raise UsageError(
                f"{current.name} changed since this notebook began: its file, or its values.",
                where=current.file,
                next="Restart the kernel, so that the notebook works with what counts now.",
            )

    def _check_storable(self, table: str) -> None:
        """Whether a notebook may store a table at all at a desk."""
        where = f"{self._environment.name} ({self._environment.protection})"
        if self._environment.protected:
            raise UsageError(
                f"{where} takes rows from no desk.",
                next="Promote the notebook, or set INCHWORM_ENV to an environment that is not "
                "protected.",
            )
        outlines = self._whole_project.outlines
        providers = [part for part, outline in outlines.items() if table in outline.interfaces]
        others = sorted(part for part in providers if part.kind is not Kind.NOTEBOOK)
        if others:
            raise UsageError(
                f"{table} is what {others[0]} provides, and no table of a notebook's own.",
                where=outlines[others[0]].file,
                next="Give env.store a table that nothing else provides.",
            )

    def _check_owner(self, table: str, physical: RelationName, database: Database) -> None:
        """Whether a table that is there is a notebook's of this project.

        Raises:
            UsageError: when it is somebody else's, or nobody knows whose.
            WrongEnvironment: when the database is that of another environment.
        """
        project = self._project.settings.name
        bookkeeping = Bookkeeping(database, project, self._environment.database.bookkeeping)
        check_name(self._environment, project, bookkeeping.environment())
        for part in bookkeeping.parts():
            if part.project != project and part.managed and physical in part.tables:
                raise UsageError(
                    f"{physical} is what {part.part} of the project {part.project} provides.",
                    next="Give env.store a table that nothing else provides.",
                )
        outlines = self._whole_project.outlines
        is_declared = any(table in outline.interfaces for outline in outlines.values())
        if physical in database.kinds([physical]) and not is_declared:
            raise UsageError(
                f"{physical} is there, and no notebook of this project stores it.",
                next="If it is the notebook's own, save the notebook under notebooks/ first; "
                "otherwise give env.store another table.",
            )

    def _create(
        self, database: Database, physical: RelationName, columns: Mapping[str, str] | None
    ) -> None:
        if columns is None:
            raise UsageError(
                f"{physical} is not there, and its columns are not known.",
                next='Give env.store their types: columns={"name": "INTEGER", ...}.',
            )
        dialect = self._project.settings.dialect
        types = (f"{quoted(name)} {normal_type(kind, dialect)}" for name, kind in columns.items())
        database.execute(f"CREATE TABLE {quoted(physical)} ({', '.join(types)})")

    # ---- surroundings -------------------------------------------------------------------------

    @cached_property
    def _project(self) -> Project:
        return find_project(self._folder or Path.cwd(), self._user_folder.sealer())

    @property
    def _user_folder(self) -> UserFolder:
        return UserFolder.of(os.environ)

    @cached_property
    def _machine(self) -> Machine:
        """A notebook is a process of its own, so its variables and login are looked at here."""
        return Machine(
            root=self._project.root,
            environ=os.environ,
            login=getpass.getuser(),
            trust=self._user_folder.trust_in(self._project.root),
            sealer=self._user_folder.sealer(),
        )

    @cached_property
    def _environment(self) -> Environment:
        name = self._name or os.environ.get("INCHWORM_ENV")
        if name:
            return self._project.environment(name)
        first = [e for e in self._project.environments if not e.after]
        if not first:
            raise UsageError("There is no environment.", next="Add environments/dev.toml.")
        if len(first) > 1:
            raise UsageError(
                f"Several environments come first: {', '.join(e.name for e in first)}.",
                next="Say which one is meant: set INCHWORM_ENV.",
            )
        return first[0]

    @cached_property
    def _assembly(self) -> Assembly:
        """Schemas and parameters are all that has to be known of the project here."""
        settings = self._project.settings
        files = {
            path: content
            for path, content in self._project.contents.items()
            if path.startswith("schemas/") or path == SOURCES or is_of_matrix(path)
        }
        return read_project(
            name=settings.name, version=settings.version, dialect=settings.dialect, files=files
        ).assembly

    @property
    def _whole_project(self) -> Assembly:
        """All parts, as they are now: a notebook may have been saved since the last call."""
        return find_project(self._project.root, self._machine.sealer).read()[0].assembly

    @cached_property
    def _values(self) -> Mapping[str, Value]:
        today = dt.datetime.now(dt.UTC).date()
        return evaluate(self._assembly.matrix, self._environment.name, today).values

    def _real(self, name: str) -> RelationName:
        return physical_table(name.lower(), self._assembly, self._environment)

    @contextmanager
    def _database(self, *, read_only: bool) -> Iterator[Database]:
        with open_database(
            self._environment,
            self._machine,
            self._values,
            read_only=read_only,
            sources=self._assembly.sources,
        ) as database:
            yield database
