"""The helper through which a notebook reads and writes its surroundings.

The same notebook runs unedited at a desk and in every environment::

    from inchworm.notebook import env

    levels = env.query("SELECT gauge_id, hour, mean_cm FROM hydro.hourly_level")
    env.store("hydro.level_forecast", forecast, key=["gauge_id", "hour"])

The environment is the one that ``INCHWORM_ENV`` names, else the first of the project's route. The
project is the one that the working folder is in. Every call connects, does its work and lets go, so
that a notebook left open locks nobody out.
"""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.core.environments import Environment
from inchworm.core.errors import ProjectError, UsageError, did_you_mean
from inchworm.core.facts import Assembly
from inchworm.core.parameters import FILE, evaluate, is_of_matrix
from inchworm.core.physical_names import physical_table
from inchworm.core.sql.parse import SqlProblem, parse_query
from inchworm.core.sql.render import to_text, with_tables, with_values
from inchworm.core.sql.types import normal_type
from inchworm.core.values import Plain, Type, Value
from inchworm.engine.places import open_database
from inchworm.kinds.reading import read_project
from inchworm.project.tree import Project, find_project
from inchworm.targets.databases import Database
from inchworm.targets.databases.base import quoted
from inchworm.targets.secrets import Secrets

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Surroundings", "env"]


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
        """What :meth:`measure` was told."""

    def query(self, sql: str) -> pd.DataFrame:
        """The rows of a query, written with logical names and ``:parameters``.

        Raises:
            ProjectError: when the SQL does not parse or uses an unknown parameter.
            TargetError: when the database refuses it.
        """
        dialect = self._project.settings.dialect
        try:
            tree = with_values(parse_query(sql, dialect), self._values)
        except SqlProblem as problem:
            raise ProjectError(f"the SQL {problem.reason}.", next="Correct the query.") from problem
        except KeyError as error:
            name = str(error.args[0])
            near = did_you_mean(name, self._values, f"Declare it in {FILE}.")
            raise ProjectError(f"there is no parameter {name}.", next=near) from error
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
            secrets = Secrets(self._project.root, self._environment.vault)
            return secrets.resolve(value.text).reveal()
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
        """
        wanted = list(columns) if columns else [str(name) for name in frame.columns]
        missing = [name for name in wanted if name not in frame.columns]
        if missing:
            raise UsageError(
                f"The rows for {table} lack {', '.join(missing)}.",
                next="Give the frame all columns that columns = ... promises.",
            )
        real, beside = self._real(table), self._real(table) + "__stored"
        rows = frame[wanted]
        with self._database(read_only=False) as database, database.transaction():
            database.create_schema(real.rpartition(".")[0])
            if real not in database.kinds():
                self._create(database, real, rows, columns)
            names = ", ".join(quoted(name) for name in wanted)
            database.drop(beside)
            template = f"SELECT {names} FROM {quoted(real)} LIMIT 0"
            database.build(beside, "table", template)
            database.append_frame(beside, rows)
            same = " AND ".join(f"here.{quoted(k)} = new.{quoted(k)}" for k in key)
            found = f"WHERE EXISTS (SELECT 1 FROM {quoted(beside)} AS new WHERE {same})"
            database.execute(f"DELETE FROM {quoted(real)} AS here {found if key else ''}")
            database.execute(
                f"INSERT INTO {quoted(real)} ({names}) SELECT {names} FROM {quoted(beside)}"
            )
            database.drop(beside)
        return len(rows)

    def measure(self, name: str, value: float) -> None:
        """A number about this run, such as the error of a forecast."""
        self.measures[name] = float(value)

    def _create(
        self,
        database: Database,
        real: str,
        rows: pd.DataFrame,
        columns: Mapping[str, str] | None,
    ) -> None:
        if columns is None:
            raise UsageError(
                f"{real} is not there, and its columns are not known.",
                next='Give env.store their types: columns={"name": "INTEGER", ...}.',
            )
        dialect = self._project.settings.dialect
        types = (f"{quoted(name)} {normal_type(kind, dialect)}" for name, kind in columns.items())
        database.execute(f"CREATE TABLE {quoted(real)} ({', '.join(types)})")

    # ---- surroundings -------------------------------------------------------------------------

    @cached_property
    def _project(self) -> Project:
        return find_project(self._folder or Path.cwd())

    @cached_property
    def _environment(self) -> Environment:
        name = self._name or os.environ.get("INCHWORM_ENV")
        if name:
            return self._project.environment(name)
        if not self._project.environments:
            raise UsageError("There is no environment.", next="Add environments/dev.toml.")
        return self._project.environments[0]

    @cached_property
    def _assembly(self) -> Assembly:
        """Schemas and parameters are all that has to be known of the project here."""
        settings = self._project.settings
        files = {
            path: content
            for path, content in self._project.contents.items()
            if path.startswith("schemas/") or is_of_matrix(path)
        }
        return read_project(
            name=settings.name, version=settings.version, dialect=settings.dialect, files=files
        ).assembly

    @cached_property
    def _values(self) -> Mapping[str, Value]:
        today = dt.datetime.now(dt.UTC).date()
        return evaluate(self._assembly.matrix, self._environment.name, today).values

    def _real(self, name: str) -> str:
        return physical_table(name.lower(), self._assembly, self._environment)

    @contextmanager
    def _database(self, *, read_only: bool) -> Iterator[Database]:
        with open_database(
            self._environment, self._project.root, self._values, read_only=read_only
        ) as database:
            yield database


env = Surroundings()
"""The surroundings of this process."""
