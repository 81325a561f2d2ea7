"""Workspace and gateway: what services must be able to do."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any, Protocol

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import PartId
from inchworm.core.promotion.composition import LiveItem
from inchworm.safe_files import check_no_link

SIM_FOLDER = Path(".inchworm/sim")
"""Where simulated services keep what they are sent, below the project."""


_SIM_NAME = re.compile(r"\w[\w.-]{0,99}")


def sim_file(root: Path, name: str) -> Path:
    """Where the simulated service of that name keeps what it is sent.

    Raises:
        TargetError: when the name is no file's, or leads elsewhere.
    """
    if not _SIM_NAME.fullmatch(name):
        raise TargetError(
            f"{name!r} is no name of a simulated service.",
            next="Write letters, digits, _, - and dots, as in sim:dev.",
        )
    file = root / SIM_FOLDER / f"{name}.sqlite"
    check_no_link(root, file)
    return file


class Service(Protocol):
    """A service that keeps items, each a part with its document."""

    def items(self) -> dict[PartId, LiveItem]:
        """All items, by part."""
        ...

    def document(self, part: PartId) -> Mapping[str, Any]:
        """The definition of one item, as it was put there."""
        ...

    def put(self, part: PartId, digest: str, document: Mapping[str, Any]) -> None:
        """Add or replace an item; doing it again changes nothing."""
        ...

    def remove(self, part: PartId) -> None:
        """Remove an item if it is there."""
        ...


class Workspace(Service, Protocol):
    """Where notebooks, libraries, pipelines and their schedules live."""

    is_untouched: bool
    """Whether a simulated service said, when it was asked for its items, that it never had any."""

    def schedules(self) -> dict[str, str]:
        """The state of each ``pipeline.schedule``: on, off or paused."""
        ...

    def set_schedule(self, pipeline: str, schedule: str, state: str) -> None:
        """Set a schedule's state."""
        ...

    def ahead(self) -> dt.timedelta:
        """By how much its clock was moved; by nothing where it has none that can be moved."""
        ...


class Gateway(Service, Protocol):
    """Where connections and flows live."""

    is_untouched: bool
    """As of a workspace."""

    def activate(self, flow: PartId) -> str | None:
        """Switch a flow on, or have it start; the gateway's reason if it refuses."""
        ...

    def state_of(self, flow: PartId) -> tuple[str, str]:
        """The state of a flow, and the reason of it: ``active``, ``starting`` or another word."""
        ...
