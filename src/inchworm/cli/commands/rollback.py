"""``inchworm rollback``."""

from __future__ import annotations

import sys

import click

from inchworm.application.rolling_back import RollbackRequest, draft_rollback
from inchworm.cli.options import allowing, drafting
from inchworm.cli.process import workplace
from inchworm.cli.promotions import Asking, promote_drafted


@click.command("rollback")
@click.argument("what", metavar="ENV|PROMOTION")
@click.option("--to", metavar="PROMOTION", help="The promotion whose state comes back.")
@click.option("--because", default="", metavar="TEXT", help="The reason, for the record.")
@click.option(
    "--build",
    is_flag=True,
    help="Build tables from the data of now, also those that were kept.",
)
@click.option(
    "--rows-of-then",
    is_flag=True,
    help="Models that keep rows lose those that came since.",
)
@allowing
@drafting
def command(
    what: str,
    to: str | None,
    because: str,
    build: bool,
    rows_of_then: bool,
    overwrite: bool,
    put_back: bool,
    resumed: tuple[str, ...],
    only_draft: bool,
    yes: bool,
    as_json: bool,
) -> None:
    """Take an environment back to what ran there before.

    With an environment: undo the latest promotion, or the one that stopped halfway. With a
    promotion (P12): undo that one, if it is the latest. It is drafted, shown and carried out
    like any promotion; tables that were replaced are switched back, not built again, and
    migrations are taken back by their undo scripts.
    """
    place = workplace()
    request = RollbackRequest(
        what=what,
        to=to,
        because=because,
        rows_of_then=rows_of_then,
        build=build,
        overwrite=overwrite,
        put_back=put_back,
        resume=frozenset(resumed),
    )
    code = promote_drafted(
        place,
        lambda: draft_rollback(place, request),
        what,
        Asking(yes=yes, as_json=as_json),
        only_draft=only_draft,
    )
    sys.exit(code)
