"""The record of the API versions of a project's inward flows, in the environment's database."""

from __future__ import annotations

from operator import itemgetter

from inchworm.core.running.api_versions import ApiVersion
from inchworm.targets.databases.protocols import Database

_COLUMNS = "flow, version, number, document, put_at, is_live, requests, requested_at"


class ApiVersions:
    """The versions that were put into an environment.

    Args:
        database: the environment's database, whose bookkeeping has its tables.
        schema: that of the bookkeeping.
        project: the flows' project.
    """

    def __init__(self, database: Database, schema: str, project: str) -> None:
        self._database = database
        self._table = f"{schema}.api_versions"
        self._project = project

    def all(self) -> tuple[ApiVersion, ...]:
        """Every version of every flow, in the order in which they came."""
        rows = self._database.rows(
            f"SELECT {_COLUMNS} FROM {self._table} WHERE project = ?", [self._project]
        )
        return tuple(
            ApiVersion(
                flow=flow,
                version=version,
                number=int(number),
                document=document,
                put_at=put_at,
                is_live=bool(is_live),
                requests=int(requests),
                requested_at=requested_at,
            )
            for flow, version, number, document, put_at, is_live, requests, requested_at in sorted(
                rows, key=itemgetter(0, 2)
            )
        )

    def put(self, flow: str, version: str, document: str, at: str) -> None:
        """Record a version as the live one of its flow. Called inside a transaction.

        One that was there before keeps its place in their order.
        """
        known = [each for each in self.all() if each.flow == flow]
        self._database.execute(
            f"UPDATE {self._table} SET is_live = ? WHERE project = ? AND flow = ?",
            [0, self._project, flow],
        )
        if any(each.version == version for each in known):
            self._database.execute(
                f"UPDATE {self._table} SET document = ?, is_live = ? "
                "WHERE project = ? AND flow = ? AND version = ?",
                [document, 1, self._project, flow, version],
            )
            return
        number = max((each.number for each in known), default=0) + 1
        self._database.execute(
            f"INSERT INTO {self._table} (project, {_COLUMNS}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [self._project, flow, version, number, document, at, 1, 0, ""],
        )

    def count(self, flow: str, version: str, at: str) -> None:
        """Count a request that a version has taken in. Called in the transaction of its row."""
        self._database.execute(
            f"UPDATE {self._table} SET requests = requests + 1, requested_at = ? "
            "WHERE project = ? AND flow = ? AND version = ?",
            [at, self._project, flow, version],
        )

    def forget(self, flow: str) -> None:
        """Forget a flow that is taken away. Called inside a transaction."""
        self._database.execute(
            f"DELETE FROM {self._table} WHERE project = ? AND flow = ?", [self._project, flow]
        )
