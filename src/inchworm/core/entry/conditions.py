"""Entry conditions, as environment files declare them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import asdict

from inchworm.core.identifiers import Kind, PartId


class EntryConditions(Struct, frozen=True, kw_only=True):
    """What an environment demands before a promotion may run.

    Attributes:
        approvals: how many people have to approve.
        by: who may approve: people, and ``group:NAME``; anybody where it is empty.
        each_of: groups of which each has to give an approval, every one from another person.
        authors_may_approve: True if an author of the changes may approve.
        signed: whether only approvals count that are signed with a known key.
        bundle_signed: whether the bundle has to be signed with a known key.
        bundle_by: who may have signed it: people and groups; anybody known where it is empty.
        passed_in: environments that the bundle must have passed through.
        rested: how long it must have been in those, and in the environments before, in seconds.
        no_warnings: whether warnings that are not waived are in the way.
        closed: times in which nothing enters.
        timezone: of those times.
        measures: what notebooks must have measured.
        ran: what must have run with success, with this bundle.
        ask: commands that get the draft as JSON, and have to end with 0.
        ask_seconds: how long each of them may take.
        ask_environment: the environment variables that they get, besides those of the system.
        rules_from: the branch whose committed rules count; empty where the working tree's do.
        exception: who may promote although conditions are missing: people and groups.
        exception_skips_route: True if an exception also passes the environments before.
    """

    approvals: int = 0
    by: tuple[str, ...] = ()
    each_of: tuple[str, ...] = ()
    authors_may_approve: bool = False
    signed: bool = False
    bundle_signed: bool = False
    bundle_by: tuple[str, ...] = ()
    passed_in: tuple[str, ...] = ()
    rested: float = 0.0
    no_warnings: bool = False
    closed: tuple[str, ...] = ()
    timezone: str = "UTC"
    measures: tuple[str, ...] = ()
    ran: tuple[str, ...] = ()
    ask: tuple[str, ...] = ()
    ask_seconds: float = 60.0
    ask_environment: tuple[str, ...] = ()
    rules_from: str = ""
    exception: tuple[str, ...] = ()
    exception_skips_route: bool = False

    def to_json(self) -> dict[str, Any]:
        """The conditions as they are remembered."""
        return asdict(self)

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> EntryConditions:
        """Conditions as they were remembered."""
        given: dict[str, Any] = {
            name: tuple(value) if isinstance(value, list) else value for name, value in data.items()
        }
        return cls(**given)


NO_CONDITIONS = EntryConditions()


class MeasureCondition(Struct, frozen=True, kw_only=True):
    """A number that a notebook must have measured in an environment.

    Attributes:
        comparison: ``<=`` or ``>=``.
        bound: the number; of one that is ``of_live``, the share of what is live.
        of_live: whether the bound is a share of the latest number where the promotion goes.
    """

    text: str
    notebook: PartId
    name: str
    comparison: str
    bound: float
    of_live: bool
    environment: str

    def holds(self, value: float, live: float | None) -> bool:
        """Whether a number is as demanded.

        Args:
            value: the number measured.
            live: the latest number where the promotion goes; None where there is none yet.
        """
        if self.of_live and live is None:
            return True
        bound = self.bound * live if self.of_live and live is not None else self.bound
        return value <= bound if self.comparison == "<=" else value >= bound


_MEASURE = re.compile(
    r"(?P<notebook>notebook:\S+)\s+(?P<name>\S+)\s+(?P<comparison><=|>=)\s+"
    r"(?P<bound>-?[0-9.]+)(?P<share>%\s+of\s+live)?\s+in\s+(?P<environment>[a-z][a-z0-9_-]*)"
)
_RAN = re.compile(r"(?P<part>[a-z]+:\S+)\s+in\s+(?P<environment>[a-z][a-z0-9_-]*)")


def measure_condition(text: str) -> MeasureCondition:
    """``notebook:N NAME <= 5 in ENV``, or ``... <= 110% of live in ENV``.

    Raises:
        ValueError: when the text is neither.
    """
    match = _MEASURE.fullmatch(text.strip())
    if match is None:
        raise ValueError(
            f"{text!r} is not a measure such as notebook:level_forecast rmse_cm <= 5 in test"
        )
    share = match["share"] is not None
    return MeasureCondition(
        text=text,
        notebook=PartId.parse(match["notebook"]),
        name=match["name"],
        comparison=match["comparison"],
        bound=float(match["bound"]) / (100 if share else 1),
        of_live=share,
        environment=match["environment"],
    )


def ran_condition(text: str) -> tuple[PartId, str]:
    """``pipeline:nightly in test``: the part, and the environment in which it must have run.

    Raises:
        ValueError: when the text is nothing of the kind.
    """
    match = _RAN.fullmatch(text.strip())
    part = PartId.parse(match["part"]) if match else None
    if match is None or part is None or part.kind not in _RUNS:
        raise ValueError(f"{text!r} is not a run such as pipeline:nightly in test")
    return part, match["environment"]


_RUNS = frozenset({Kind.PIPELINE, Kind.MODEL, Kind.NOTEBOOK, Kind.FLOW})
