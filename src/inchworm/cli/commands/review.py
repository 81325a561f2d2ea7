"""``inchworm review``."""

from __future__ import annotations

from difflib import unified_diff
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.reviewing import Review, review
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.promotions import print_entry, show_recorded, title
from inchworm.cli.terminal import MOST_FINDINGS, console, print_findings, print_json, rows
from inchworm.cli.visible import visible
from inchworm.report.documents import entry_document, promotion_document
from inchworm.report.review_page import review_page, verdict_of
from inchworm.report.review_text import review_markdown
from inchworm.report.steps_sql import steps_sql
from inchworm.safe_files import write_output

_LINES = 60
"""Lines of differences that the terminal shows."""


@click.command("review")
@click.argument("promotion")
@click.option("--html", type=click.Path(path_type=Path), help="Write it as one page.")
@click.option("--markdown", is_flag=True, help="As text for a comment on a proposal.")
@click.option("--sql", is_flag=True, help="The statements alone.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/promotion/1.")
def command(promotion: str, html: Path | None, markdown: bool, sql: bool, as_json: bool) -> None:
    """Show everything about a draft (P12) to whoever has to say yes or no.

    What runs there now and what would, what is missing before it may run, each step with its
    reason, the differences from what is live, what is affected, what happened to the bundle
    elsewhere, and the statements that would run.
    """
    place = workplace()
    reviewed = review(place, promotion)
    if html is not None:
        write_output(html, review_page(reviewed, place.now()).encode())
        click.echo(f"{html}: {reviewed.promotion.id}. {verdict_of(reviewed)[0]}")
    elif markdown:
        click.echo(visible(review_markdown(reviewed)), nl=False)
    elif sql:
        if reviewed.unread:
            click.echo(f"The statements are not told: {reviewed.unread}", err=True)
        click.echo(visible(steps_sql(reviewed.statements)), nl=False)
    elif as_json:
        print_json(
            promotion_document(reviewed.promotion)
            | {
                "entry": entry_document(reviewed.entry),
                "affected": reviewed.affected,
                "statements": {str(step.number): list(s) for step, s in reviewed.statements},
            }
        )
    else:
        _show(console(), reviewed)


def _show(screen: Console, reviewed: Review) -> None:
    promotion, draft = reviewed.promotion, reviewed.promotion.draft
    screen.print(title(str(promotion.id), draft, reviewed.environment))
    screen.print(Text(verdict_of(reviewed)[0], style="bold"))
    text = f"drafted {shown_time(promotion.drafted_at)} UTC by {promotion.drafted_by}"
    if reviewed.seconds is not None:
        text += f"; usually takes about {max(1, round(reviewed.seconds))} s"
    screen.print(text, style="dim")
    show_recorded(screen, draft)
    print_entry(screen, reviewed.entry)
    print_findings(screen, draft.findings, MOST_FINDINGS, "All of them: --json")
    if reviewed.affected:
        screen.print(f"affects further: {', '.join(reviewed.affected)}")
        screen.print()
    _show_differences(screen, reviewed)
    if reviewed.proofs:
        lines = [
            (p.environment, p.record, p.what, p.state, shown_time(p.at), p.detail)
            for p in reviewed.proofs
        ]
        screen.print(rows(("in", "", "this bundle elsewhere", "state", "at, UTC", ""), lines))
        screen.print()
    if promotion.state.may_go_on:
        id_ = promotion.id
        screen.print(
            f"next   As a page: inchworm review {id_} --html FILE. Yes: inchworm approve {id_}. "
            f"No: inchworm approve {id_} --reject --because TEXT"
        )


def _show_differences(screen: Console, reviewed: Review) -> None:
    left = _LINES
    for file in reviewed.files:
        before, after = (file.before or "").splitlines(), (file.after or "").splitlines()
        lines = list(unified_diff(before, after, lineterm="", n=1))[2:]
        if left <= 0:
            screen.print(f"{file.path}: {len(lines)} lines; all of them with --html", style="dim")
            continue
        screen.print(Text(file.path, style="bold"))
        for line in lines[:left]:
            style = {"+": "green", "-": "red"}.get(line[:1], "dim")
            screen.print(Text(f"  {line}", style=style))
        if len(lines) > left:
            screen.print(f"  ... and {len(lines) - left} more lines: --html", style="dim")
        left -= len(lines)
        screen.print()
