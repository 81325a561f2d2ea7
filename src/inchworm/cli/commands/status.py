"""``inchworm status``."""

from __future__ import annotations

import datetime as dt
import sys
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.watching import Status, status
from inchworm.application.workplace import Workplace
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.terminal import console, print_json, rows, say, word
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.ledger.promotions import lacking_in_words
from inchworm.core.parameters.values import spell_ahead
from inchworm.core.promotion.composition import CompletedPromotion, Composition
from inchworm.core.running.pauses import pause_of
from inchworm.engine.status import EnvironmentStatus
from inchworm.report.documents import status_at_document, status_document

if TYPE_CHECKING:
    from inchworm.application.schedules import Schedules
    from inchworm.core.running.run import Measured


@click.command("status")
@click.argument("environment", required=False, metavar="[ENV]")
@click.option("--schedules", "of_schedules", is_flag=True, help="Schedules, and when they are due.")
@click.option("--measures", "of_measures", is_flag=True, help="The latest measures, compared.")
@click.option("--at", metavar="TIME", help="What ran then, as the ledger knows: 2026-10-01 12:00.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/status/1.")
def command(
    environment: str | None, of_schedules: bool, of_measures: bool, at: str | None, as_json: bool
) -> None:
    """Show what is where, since when, by whom and from which commit.

    Read fresh from each environment's database and services. With ENV: also its schedules, flows
    and what has drifted.
    """
    place = workplace()
    if of_schedules:
        from inchworm.application.schedules import schedules

        sys.exit(_show_schedules(schedules(place, environment), as_json))
    if of_measures:
        from inchworm.application.history import measures

        _show_measures(place, measures(place, None, environment), as_json)
        return
    if at is not None:
        _show_then(place, _moment(at), environment, as_json)
        return
    read = status(place, environment)
    if as_json:
        print_json(status_document(read))
    else:
        _show(place, read)
        if environment:
            _show_detail(read.environments[0], place.clock())
    sys.exit(0 if all(each.is_whole for each in read.environments) else 1)


def _moment(text: str) -> dt.datetime:
    """A time as somebody wrote it; UTC where it says no zone; a day is its end."""
    try:
        moment = dt.datetime.fromisoformat(text)
    except ValueError as error:
        raise click.UsageError(f"--at {text} is not a time such as 2026-10-01 12:00.") from error
    if len(text) == len("2026-10-01"):
        moment = moment.replace(hour=23, minute=59, second=59)
    return moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)


def _show_then(place: Workplace, at: dt.datetime, environment: str | None, as_json: bool) -> None:
    from inchworm.application.history import status_at

    name = place.project.environment(environment).name if environment else None
    live = [each for each in status_at(place, at) if name in {None, each.environment}]
    if as_json:
        print_json(status_at_document(at.isoformat(), live))
        return
    screen = console()
    screen.print(f"{at:%Y-%m-%d %H:%M %Z}, as the ledger knows", style="dim")
    lines = [
        (
            each.environment,
            each.bundle or "nothing yet",
            (each.commit or "-")[:7],
            each.promotion,
            shown_time(each.since) if each.since else "",
            each.by,
        )
        for each in live
    ]
    screen.print(rows(("environment", "ran there", "commit", "", "since", "by"), lines))


def _show_schedules(read: Schedules, as_json: bool) -> int:
    """On or off, the next times there and in UTC, and the last run; the exit code."""
    if as_json:
        from inchworm.report.runs import schedules_document

        print_json(schedules_document(read.schedules))
        return 1 if read.problems else 0
    screen = console()
    lines = []
    for each in read.schedules:
        last = each.last
        ended = Text.assemble(f"{last.id} ", word(last.state.value)) if last else "never ran"
        zone = each.schedule.scheduled.timezone
        due = [moment.astimezone(ZoneInfo(zone)) for moment in each.due]
        times = "\n".join(f"{moment:%Y-%m-%d %H:%M} {zone}" for moment in due)
        if not each.schedule.scheduled.cron:
            times = each.schedule.scheduled.text
        state = word(each.schedule.shown_state)
        lines.append((each.environment, each.schedule.name, state, times or "-", ended))
    if lines:
        screen.print(rows(("in", "schedule", "state", "due", "last run"), lines))
    else:
        screen.print("There are no schedules.")
    pauses = ((each.environment, each.schedule.pause) for each in read.schedules)
    for name, pause in dict.fromkeys((name, pause) for name, pause in pauses if pause):
        say(screen, "paused", f"{name}: {pause.what or 'everything'}, {pause.in_words}")
    for name, ahead in read.ahead.items():
        if ahead:
            by = spell_ahead(ahead)
            say(screen, "moved", f"{name}: due by the clock of its workspace, which is {by}")
    for name, problem in read.problems.items():
        say(screen, "failed", f"{name}: {problem}")
    return 1 if read.problems else 0


def _show_measures(place: Workplace, measured: list[Measured], as_json: bool) -> None:
    """The latest of each measure, an environment beside the other."""
    latest = {(each.part, each.name, each.environment): each for each in measured}
    if as_json:
        from inchworm.report.measures import measures_document

        print_json(measures_document(list(latest.values())))
        return
    screen = console()
    if not latest:
        screen.print("Nothing was measured yet: no notebook that ran has called env.measure.")
        return
    names = [e.name for e in place.project.environments]
    shown = [n for n in names if any(n == environment for _, _, environment in latest)]
    lines = []
    for part, name in sorted({(part, name) for part, name, _ in latest}):
        cells = [latest.get((part, name, environment)) for environment in shown]
        values = [f"{each.value:g} ({each.run})" if each else "" for each in cells]
        lines.append((part, name, *values))
    screen.print(rows(("notebook", "measure", *shown), lines, right=range(2, 2 + len(shown))))


def _show(place: Workplace, read: Status) -> None:
    screen = console()
    settings = place.project.settings
    screen.print(
        Text.assemble(
            (settings.name, "bold"),
            (f"  read {shown_time(read.read_at)} UTC as {place.user}", "dim"),
            (f", the corner of {place.project.owner}" if place.project.owner else "", "dim"),
        )
    )
    screen.print()
    lines = list(map(_line, read.environments))
    headings = ("environment", "", "runs here", "commit", "since", "by", "parts", "held", "drifted")
    shown = [place for place in range(9) if place != _HELD or any(line[_HELD] for line in lines)]
    screen.print(
        rows(
            [headings[place] for place in shown],
            [[line[place] for place in shown] for line in lines],
            right=(6, 7, 8),
        )
    )
    screen.print()
    for each in read.environments:
        if each.problem:
            screen.print(
                Text.assemble(word("failed"), f"  {each.environment.name}: {each.problem}")
            )
        elif each.live is not None:
            identity = f"{each.environment.name}: as {each.live.identity}"
            screen.print(f"{identity}{_with(each.live.last, read.ledger)}", style="dim")
    for each in read.environments:
        if each.live is not None and (why := each.live.notebooks_unreachable):
            text = f"  {each.environment.name}: nothing is known of its notebooks: {why}"
            screen.print(Text.assemble(word("warning"), text))
    for each in read.environments:
        for pause in each.live.pauses if each.live else ():
            if pause.is_in_force(place.clock()):
                text = f"  {each.environment.name}: {pause.what or 'everything'}, {pause.in_words}"
                screen.print(Text.assemble(word("paused"), text))
    for each in read.environments:
        last = each.live.last if each.live else None
        if last is not None and last.exception:
            text = f"  {each.environment.name}: {last.bundle} runs here BY EXCEPTION, "
            screen.print(Text.assemble(word("exception"), (text, "bold"), last.exception))
    for each in read.environments:
        _show_what_stays(screen, each)
    for name, values in read.overrides.items():
        for parameter, value in values.items():
            text = f"  {name}: {parameter} = {value}, until the next promotion"
            screen.print(Text.assemble(word("given for once"), text))
    _show_unfinished(screen, read)
    for name, lacking in read.unknown_there.items():
        screen.print(Text.assemble(word("warning"), f"  {lacking_in_words(lacking, name)}."))
    if read.missing_ledgers:
        listed = ", ".join(f"{name} by {i[:4]}" for name, (i, _) in read.missing_ledgers.items())
        screen.print(Text.assemble(word("missing"), f"  there is no ledger here; {listed}"))
        screen.print(
            "next   If it was this checkout's, restore its latest copy. If it is lost: "
            "inchworm ledger rebuild. If it is another checkout's, nothing is wrong."
        )


def _line(status: EnvironmentStatus) -> tuple[str | Text, ...]:
    """An environment's line of the table."""
    environment, live = status.environment, status.live
    protection = word("protected" if environment.protected else "not protected")
    if live is None:
        return (environment.name, protection, "cannot be read", *[""] * 6)
    parts, last = str(len(live.parts)), live.last
    if last is None:
        return (environment.name, protection, "nothing yet", "", "", "", parts, "", "")
    return (
        environment.name,
        protection,
        last.bundle,
        (last.commit or "-")[:7],
        shown_time(last.at),
        last.by,
        parts,
        str(len(live.holds)) if live.holds else "",
        Text(str(len(status.drifted)), style="bold yellow" if status.drifted else ""),
    )


def _show_unfinished(screen: Console, read: Status) -> None:
    """Promotions that are not over: who is at work on them, or how they go on."""
    for summary in read.unfinished:
        text = f"  {summary.id} with {summary.bundle} in {summary.environment}"
        at_work = read.at_work[summary.environment]
        if at_work:
            text += f": {at_work} just now"
        if str(summary.id) not in at_work:
            text += f". Go on{' then' if at_work else ''}: inchworm promote {summary.id}"
        screen.print(Text.assemble(word(summary.state.value), text))


_HELD = 7
"""The column of parts on hold, which is shown where there are any."""


def _show_what_stays(screen: Console, status: EnvironmentStatus) -> None:
    """Parts on hold, and parts that are as in another bundle because nobody chose them."""
    live = status.live
    if live is None:
        return
    for hold in live.holds:
        until = f", until {hold.until}" if hold.until else ""
        text = f"  {status.environment.name}: {hold.part}, {hold.because}{until} ({hold.by})"
        screen.print(Text.assemble(word("held"), text))
    held = {str(hold.part) for hold in live.holds}
    mixture = live.last.mixture.sources if live.last else {}
    for part, source in mixture.items():
        if part not in held:
            how = f"as in {source}" if source else "stays out"
            text = f"  {status.environment.name}: {part} {how}"
            screen.print(Text.assemble(word("not chosen"), text))


def _with(last: CompletedPromotion | None, ledger: str) -> str:
    """The promotion that was the latest there, where it is not one of our ledger."""
    if last is None or last.id is None or last.id.ledger == ledger:
        return ""
    return f"; {last.bundle} went in with {last.named(ledger)}, another ledger"


def _is_paused(schedule: str, live: Composition, now: dt.datetime) -> bool:
    pipeline = PartId(Kind.PIPELINE, schedule.rpartition(".")[0])
    return pause_of(live.pauses, pipeline, schedule, now) is not None


def _show_detail(status: EnvironmentStatus, now: dt.datetime) -> None:
    if status.live is None:
        return
    screen = console()
    lines = [
        (
            "schedule",
            name,
            "paused" if state == "on" and _is_paused(name, status.live, now) else state,
        )
        for name, state in status.live.schedules.items()
    ]
    lines += [
        (part.kind.value, str(part), f"{item.state} {item.reason}".strip())
        for part, item in status.live.items.items()
        if part.kind.is_activated
    ]
    lines += [
        ("API version", f"flow:{each.flow}@{each.version}", f"{state.value}; {each.usage}")
        for each, state in status.api_versions
    ]
    lines += [("drifted", str(part), "is not as it was put") for part in status.drifted]
    if lines:
        screen.print()
        screen.print(rows(("", "", ""), lines))
