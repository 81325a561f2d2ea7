"""What comes to the inward flows of a host's environments."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable

from msgspec import Struct, field

from inchworm.application.running import prepare_live
from inchworm.application.workplace import Workplace
from inchworm.core.errors import EnvironmentMoved, UsageError
from inchworm.core.running.api_versions import ApiVersion
from inchworm.engine.preparation import Prepared
from inchworm.engine.running.receiving import Incoming, InwardFlow, versions_there
from inchworm.host.host import Watched

_WAITING = 32
"""Requests of an environment that may wait for each other."""


class Taken(Struct, frozen=True, kw_only=True):
    """What a flow has taken in.

    Attributes:
        status: of HTTP, that its API promises.
        is_new: False of a request that came before.
        since: when another version of its API took the place of the one that was asked, ISO 8601,
            UTC; empty where that is the live one.
        flow: the flow's name.
    """

    status: int
    is_new: bool
    since: str
    flow: str


class Busy(Exception):
    """Too much comes at once, or somebody else has the database: later it may be taken."""


class Inbox(Struct):
    """Takes in what comes, one request at a time in each environment.

    Attributes:
        workplace: a new workplace.
    """

    workplace: Callable[[], Workplace]
    _prepared: dict[str, _Ready] = field(default_factory=dict)
    """By environment, the bundle that is live, made ready."""
    _turns: dict[str, threading.Lock] = field(default_factory=lambda: defaultdict(threading.Lock))
    _room: dict[str, threading.Semaphore] = field(
        default_factory=lambda: defaultdict(lambda: threading.Semaphore(_WAITING))
    )

    def take(self, watched: Watched, flow: str, incoming: Incoming) -> Taken:
        """Take in a request.

        Raises:
            Busy: when it cannot be taken now.
            UsageError: when nothing there takes it.
            Retired: when the flow does not answer to that version of its API any more.
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

    def _take(self, watched: Watched, flow: str, incoming: Incoming) -> Taken:
        if watched.live is None or watched.live.last is None:
            raise UsageError(f"Nothing is live in {watched.name}.", next="Promote something.")
        workplace = self.workplace()
        made_for = (watched.live.last.promotion, workplace.today.isoformat())
        ready = self._prepared.get(watched.name)
        if ready is None or ready.made_for != made_for:
            prepared = prepare_live(workplace, watched.name)
            versions = versions_there(prepared, workplace.machine)
            ready = _Ready(made_for=made_for, prepared=prepared, versions=versions)
            self._prepared[watched.name] = ready
        inward = InwardFlow(flow, ready.prepared, workplace.machine, ready.versions)
        state = watched.live.flows.get(inward.part.name, "not there")
        if state != "active":
            raise UsageError(
                f"{inward.part} is {state} at the gateway.", next="Ask those who run it."
            )
        return Taken(
            is_new=inward.take(incoming, workplace.now()),
            status=inward.status,
            since=inward.since,
            flow=inward.part.name,
        )


class _Ready(Struct, frozen=True, kw_only=True):
    """A live bundle, made ready for what comes.

    Attributes:
        made_for: the promotion that put it there, and the day.
        versions: of the APIs of its flows that were put there.
    """

    made_for: tuple[str, str]
    prepared: Prepared
    versions: tuple[ApiVersion, ...]
