"""``inchworm hold``."""

from __future__ import annotations

import datetime as dt
import sys

import click

from inchworm.application.holding import HoldRequest, draft_hold
from inchworm.cli.options import drafting
from inchworm.cli.process import workplace
from inchworm.cli.promotions import Asking, promote_drafted


@click.command("hold")
@click.argument("part")
@click.option("--in", "environment", required=True, metavar="ENV", help="Where it is held.")
@click.option("--because", default="", metavar="TEXT", help="The reason, for the record.")
@click.option("--until", metavar="DATE", help="The last day of the hold.")
@click.option("--lift", is_flag=True, help="Lift the hold.")
@drafting
def command(
    part: str,
    environment: str,
    because: str,
    until: str | None,
    lift: bool,
    only_draft: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Keep a part as it is in an environment, or out of it, until that is lifted.

    It is drafted, approved and carried out like any promotion. While it is held, promotions leave
    it as it is, and lineage counts with it as it is; it is no difference to status and compare.
    """
    place = workplace()
    request = HoldRequest(
        part=part,
        environment=environment,
        because=because,
        until=_day(until),
        lift=lift,
    )
    code = promote_drafted(
        place,
        lambda: draft_hold(place, request),
        environment,
        Asking(yes=yes, as_json=as_json),
        only_draft=only_draft,
    )
    sys.exit(code)


def _day(text: str | None) -> dt.date | None:
    try:
        return None if text is None else dt.date.fromisoformat(text)
    except ValueError as error:
        raise click.UsageError(f"--until {text} is not a date such as 2026-12-31.") from error
