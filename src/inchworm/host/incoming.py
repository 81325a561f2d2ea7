"""What comes to the inward flows of a host's environments."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field

from inchworm.application.running import prepare_live
from inchworm.application.workplace import Workplace
from inchworm.core.errors import EnvironmentMoved, UsageError
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.receiving import Incoming, InwardFlow
from inchworm.host.host import Watched

_WAITING = 32
"""Requests of an environment that may wait for each other."""


class Busy(Exception):
    """Too much comes at once, or somebody else has the database: later it may be taken."""


@dataclass
class Inbox:
    """Takes in what comes, one request at a time in each environment.

    Attributes:
        workplace: a new workplace.
    """

    workplace: Callable[[], Workplace]
    _prepared: dict[str, tuple[tuple[str, str], Prepared]] = field(default_factory=dict)
    """By environment, the bundle that is live, with the digest and day that it is ready for."""
    _turns: dict[str, threading.Lock] = field(default_factory=lambda: defaultdict(threading.Lock))
    _room: dict[str, threading.Semaphore] = field(
        default_factory=lambda: defaultdict(lambda: threading.Semaphore(_WAITING))
    )

    def take(self, watched: Watched, flow: str, incoming: Incoming) -> tuple[int, bool]:
        """Take in a request; the status that the API promises, and whether it is new.

        Raises:
            Busy: when it cannot be taken now.
            UsageError: when nothing there takes it.
            Unacceptable: when the API's schema, or the table, does not take it.
            TargetError: when the environment cannot be reached.
        """
        room = self._room[watched.name]
        if not room.acquire(blocking=False):
            raise Busy
        try:
            with self._turns[watched.name]:
                return self._take(watched, flow, incoming)
        except EnvironmentMoved as error:
            raise Busy from error
        finally:
            room.release()

    def _take(self, watched: Watched, flow: str, incoming: Incoming) -> tuple[int, bool]:
        if watched.live is None or watched.live.last is None:
            raise UsageError(f"Nothing is live in {watched.name}.", next="Promote something.")
        workplace = self.workplace()
        made_for = (watched.live.last.digest, workplace.today.isoformat())
        known, prepared = self._prepared.get(watched.name, (("", ""), None))
        if prepared is None or known != made_for:
            prepared = prepare_live(workplace, watched.name)
            self._prepared[watched.name] = (made_for, prepared)
        inward = InwardFlow(flow, prepared, workplace.machine)
        state = watched.live.flows.get(inward.part.name, "not there")
        if state != "active":
            raise UsageError(
                f"{inward.part} is {state} at the gateway.", next="Ask those who run it."
            )
        return inward.status, inward.take(incoming, workplace.now())
