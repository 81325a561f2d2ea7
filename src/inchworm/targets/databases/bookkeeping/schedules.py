"""The states of schedules, and which due times were taken."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from inchworm.core.promotion.composition import SetSchedule
from inchworm.core.running.pauses import Pause
from inchworm.targets.databases.bookkeeping.base import AT_ONCE, Books, batched, read_back
from inchworm.targets.databases.bookkeeping.tables import DUE_TIMES


class Schedules(Books):
    """Schedules of pipelines."""

    @read_back
    def schedules(self) -> dict[str, SetSchedule]:
        """The state that promotions gave each ``pipeline.schedule``, and when."""
        if not self.has("schedules"):
            return {}
        rows = self._database.rows(
            f"SELECT schedule, state, set_at FROM {self.schema}.schedules WHERE project = ?",
            [self._project],
        )
        return {str(name): SetSchedule(str(state), str(at)) for name, state, at in rows}

    def set_schedules(self, states: Mapping[str, str], at: str) -> None:
        """Record the states of schedules as they were set. Called inside a transaction."""
        self.forget_schedules(states)
        self._database.add_rows(
            f"{self.schema}.schedules",
            ("project", "schedule", "state", "set_at"),
            [(self._project, name, state, at) for name, state in states.items()],
        )

    def forget_schedules(self, names: Iterable[str]) -> None:
        """Forget schedules that are gone. Called inside a transaction."""
        for some in batched(names, AT_ONCE):
            places = ", ".join("?" * len(some))
            self._database.execute(
                f"DELETE FROM {self.schema}.schedules WHERE project = ? AND schedule IN ({places})",
                [self._project, *some],
            )

    @read_back
    def pauses(self) -> tuple[Pause, ...]:
        """The pauses of this project's schedules, also those that are over, in their order."""
        if not self.has("pauses"):
            return ()
        return tuple(
            Pause(what=what, because=why, by=by, at=at, until=until or "", resumed_at=ended or "")
            for what, why, by, at, until, ended in self._sorted(
                "SELECT what, because, paused_by, paused_at, until, resumed_at "
                f"FROM {self.schema}.pauses WHERE project = ?",
                [self._project],
                by=[3, 0],
            )
        )

    def pause(self, pause: Pause) -> None:
        """Record a pause. Called inside a transaction."""
        self._database.execute(
            f"INSERT INTO {self.schema}.pauses VALUES (?, ?, ?, ?, ?, ?, NULL, NULL)",
            [
                *(self._project, pause.what, pause.because, pause.until or None),
                *(pause.by, pause.at),
            ],
        )

    def resume(self, what: str, at: str, by: str) -> None:
        """Record the end of the pauses of something. Called inside a transaction."""
        self._database.execute(
            f"UPDATE {self.schema}.pauses SET resumed_at = ?, resumed_by = ? "
            "WHERE project = ? AND what = ? AND resumed_at IS NULL",
            [at, by, self._project, what],
        )

    @read_back
    def due_times(self) -> dict[str, str]:
        """The latest due time of each schedule for which a run began, ISO 8601, UTC."""
        if not self.has("due_times"):
            return {}
        rows = self._database.rows(
            f"SELECT schedule, due FROM {self.schema}.due_times WHERE project = ?", [self._project]
        )
        return dict(rows)

    def claim_due(self, schedule: str, due: str) -> bool:
        """Take a due time, unless it or a later one was taken. Called inside a transaction."""
        self._database.execute(DUE_TIMES.format(schema=self.schema))
        taken = self.due_times().get(schedule, "")
        if taken >= due:
            return False
        self._database.execute(
            f"DELETE FROM {self.schema}.due_times WHERE project = ? AND schedule = ?",
            [self._project, schedule],
        )
        self._database.execute(
            f"INSERT INTO {self.schema}.due_times VALUES (?, ?, ?)", [self._project, schedule, due]
        )
        return True
