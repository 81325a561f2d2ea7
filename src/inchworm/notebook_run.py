"""The helper of a notebook that a run executes: it asks the process that runs the notebook.

The kernel has neither the environment's values nor a way into its database. It sends what it wants
as JSON through a socket in a folder that nobody else can look into; what comes back was pickled by
the process that started it. Rows go the other way as Parquet files in the same folder.
"""

from __future__ import annotations

import json
import pickle
import uuid
from collections.abc import Mapping, Sequence
from multiprocessing.connection import Client, Connection
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inchworm.core.errors import UsageError

if TYPE_CHECKING:
    import pandas as pd


class RunSurroundings:
    """The environment of a run, as a notebook sees it; its methods are those of ``env`` at a desk.

    Args:
        connection: to the process that runs the notebook.
        folder: where rows are written on their way there.
    """

    def __init__(self, connection: Connection, folder: Path) -> None:
        self._connection = connection
        self._folder = folder
        self.measures: dict[str, float] = {}
        """The numbers given to :meth:`measure`, by name."""

    def query(self, sql: str) -> pd.DataFrame:
        """The rows of a query, written with logical names and ``:parameters``."""
        frame: pd.DataFrame = self._ask("query", sql=sql)
        return frame

    def table(self, name: str) -> pd.DataFrame:
        """A whole table, by its logical name."""
        frame: pd.DataFrame = self._ask("table", name=name)
        return frame

    def value(self, name: str) -> Any:
        """A parameter's value here; of a secret, the secret itself."""
        return self._ask("value", name=name)

    def store(
        self,
        table: str,
        frame: pd.DataFrame,
        *,
        key: Sequence[str] = (),
        columns: Mapping[str, str] | None = None,
    ) -> int:
        """Put rows into a table of the notebook's own; they go live when the notebook has ended.

        Args:
            table: its logical name.
            frame: the rows.
            key: rows with the same key are replaced, others stay; without a key all are replaced.
            columns: the table's columns and SQL types, as the notebook declares them.
        """
        from inchworm.engine.notebook_queries import promised_columns
        from inchworm.store.frames import write_frame

        names = promised_columns(table, frame.columns, columns)
        file = self._folder / f"{uuid.uuid4().hex}.parquet"
        write_frame(frame[names], file)
        stored: int = self._ask("store", table=table, file=file.name, key=list(key), columns=names)
        return stored

    def measure(self, name: str, value: float) -> None:
        """A number about this run, such as the error of a forecast; it is recorded with the run."""
        self.measures[name] = float(value)
        self._ask("measure", name=name, value=float(value))

    def _ask(self, call: str, **arguments: Any) -> Any:
        self._connection.send_bytes(json.dumps({"call": call, **arguments}).encode())
        is_answered, answer = pickle.loads(self._connection.recv_bytes())
        if not is_answered:
            raise UsageError(answer["what"], next=answer["next"])
        return answer


def connect(address: str, key: bytes, folder: str) -> None:
    """Have ``inchworm.notebook.env`` ask the process that runs the notebook."""
    import inchworm.notebook

    surroundings = RunSurroundings(Client(address, family="AF_UNIX", authkey=key), Path(folder))
    inchworm.notebook.env = surroundings  # type: ignore[assignment]
