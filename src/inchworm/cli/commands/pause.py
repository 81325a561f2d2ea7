"""``inchworm pause``."""

from __future__ import annotations

import datetime as dt

import click

from inchworm.application.pausing import pause, resume
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, say


@click.command("pause")
@click.argument("environment", metavar="ENV")
@click.argument("what", metavar="[PIPELINE|SCHEDULE]", default="")
@click.option("--because", default="", metavar="TEXT", help="The reason, for the record.")
@click.option("--until", metavar="TIME", help="When it ends by itself: 2026-12-01 06:00, in UTC.")
@click.option("--resume", "ends", is_flag=True, help="Have it start what is due again.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/pauses/1.")
def command(
    environment: str, what: str, because: str, until: str | None, ends: bool, as_json: bool
) -> None:
    """Have schedules start nothing: a pipeline's, one (nightly.morning), or all of ENV.

    Whoever runs schedules respects it, and so does the next promotion. What is at work goes on, and
    a person can run anything. Once it ends, times that were missed count as the schedule says.
    """
    place = workplace()
    if ends:
        paused = resume(place, environment, what)
    else:
        paused = [pause(place, environment, what, because, _moment(until))]
    if as_json:
        pauses = [each.to_json() for each in paused]
        print_json({"format": "inchworm/pauses/1", "pauses": pauses})
        return
    name = place.project.environment(environment).name
    for each in paused:
        named = f"{name}: {each.what or 'everything'}"
        how = " starts what is due again" if ends else f", {each.in_words}"
        say(console(), "done" if ends else "paused", f"{named}{how}")


def _moment(text: str | None) -> dt.datetime | None:
    if text is None:
        return None
    try:
        moment = dt.datetime.fromisoformat(text)
    except ValueError as error:
        raise click.UsageError(
            f"--until {text} is no time. Write it as 2026-12-01 06:00."
        ) from error
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)
