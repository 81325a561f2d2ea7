"""The versions of an inward flow's API that an environment answers to, side by side.

A version is the major number of the API document (its ``info.version``, up to the first dot): what
only adds to an API keeps it, and takes the place of what was there.
"""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Iterable, Mapping
from enum import StrEnum
from typing import Any

from msgspec import Struct


class ApiState(StrEnum):
    """Whether a flow answers to a version of its API."""

    LIVE = "live"
    ANSWERED = "answered"
    """It is a former one, and still answered."""
    RETIRED = "retired"


class ApiVersion(Struct, frozen=True, kw_only=True):
    """A version of a flow's API that was put into an environment.

    Attributes:
        flow: the flow's name.
        version: the major number of the API document.
        number: counts the versions of the flow in the order in which they came.
        document: the flow as it was put last, as JSON.
        put_at: when the version came, ISO 8601, UTC.
        is_live: whether it is the one that the live bundle has.
        requests: how many were taken in by it.
        requested_at: when the last of them came; empty where none did.
    """

    flow: str
    version: str
    number: int
    document: str
    put_at: str
    is_live: bool
    requests: int = 0
    requested_at: str = ""

    @property
    def usage(self) -> str:
        """How much it is used, in words."""
        if not self.requests:
            return "no request has come to it"
        several = "request has" if self.requests == 1 else "requests have"
        last = dt.datetime.fromisoformat(self.requested_at).astimezone(dt.UTC)
        return f"{self.requests:,} {several} come to it, the last {last:%Y-%m-%d %H:%M} UTC"


def version_of(flow: Mapping[str, Any]) -> str:
    """The version of the API that a rendered flow takes requests by; empty where it takes none.

    Args:
        flow: the rendered flow.
    """
    if flow.get("direction") != "in" or "openapi" not in flow:
        return ""
    return str(flow["openapi"]["info"]["version"]).strip().lstrip("vV").partition(".")[0]


def answered(versions: Iterable[ApiVersion], live: str, keep: int) -> list[ApiVersion]:
    """The versions that a flow answers to, the live one first, then the former ones.

    Args:
        versions: all that were put there, of one flow.
        live: the version that is live.
        keep: how many are answered at most, the live one included.
    """
    known = sorted(versions, key=lambda each: -each.number)
    current = [each for each in known if each.version == live]
    if not current:
        return []
    return [*current, *(each for each in known if each.number < current[0].number)][:keep]


def states(versions: Iterable[ApiVersion], keep: int) -> list[tuple[ApiVersion, ApiState]]:
    """How each version stands, by flow, the latest first.

    Args:
        versions: all that were put there, of all flows.
        keep: how many of a flow's are answered at most.
    """
    by_flow: dict[str, list[ApiVersion]] = defaultdict(list)
    for each in versions:
        by_flow[each.flow].append(each)
    standing = []
    for own in by_flow.values():
        live = next((each.version for each in own if each.is_live), "")
        answers = answered(own, live, keep)
        for each in sorted(own, key=lambda each: -each.number):
            former = ApiState.ANSWERED if each in answers else ApiState.RETIRED
            standing.append((each, ApiState.LIVE if each.version == live else former))
    return standing
