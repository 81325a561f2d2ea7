"""What a visitor of a host sees who has no token: how things stand, without errors and names."""

from __future__ import annotations

from enum import StrEnum

from msgspec.structs import replace

from inchworm.core.ledger.runs import RunSummary
from inchworm.host.host import Watched

_HIDDEN = "The reason is shown with a token."


class Open(StrEnum):
    """What a visitor without a token sees."""

    NOTHING = "nothing"
    STATUS = "status"
    """States and times, without errors and people's names."""
    EVERYTHING = "everything"


def without_names(watched: Watched) -> Watched:
    """Return an environment without errors and people's names."""
    live = watched.live
    if live is not None:
        last = replace(live.last, by="", exception="") if live.last is not None else None
        live = replace(
            live,
            last=last,
            troubles=tuple(_HIDDEN for _ in live.troubles),
            schedules=tuple(
                replace(each, pause=each.pause.without_names) if each.pause else each
                for each in live.schedules
            ),
        )
    return replace(
        watched,
        live=live,
        problem=_HIDDEN if watched.problem else "",
        not_begun=tuple(replace(each, why=_HIDDEN) for each in watched.not_begun),
    )


def run_without_names(run: RunSummary) -> RunSummary:
    """Return a run without its message and whoever began it."""
    return replace(run, message=_HIDDEN if run.message else "", began_by="")
