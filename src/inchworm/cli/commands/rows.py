"""``inchworm rows``."""

from __future__ import annotations

import sys

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.sampling import Rows, RowsRequest, sample_rows
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.samples import print_sample
from inchworm.cli.terminal import console, print_json, word
from inchworm.core.counting import counted
from inchworm.engine.sampling import Selected
from inchworm.report.documents import rows_document


@click.command("rows")
@click.argument("name", metavar="MODEL|CHECK|TABLE")
@click.option("--in", "environment", metavar="ENV", help="Where; else the route's first.")
@click.option("--first", default=20, show_default=True, metavar="N", type=click.IntRange(1, 10_000))
@click.option("--where", metavar="CONDITION", help="Only rows for which this holds.")
@click.option("--failing", is_flag=True, help="Rows that fail the checks of a model or column.")
@click.option("--live", is_flag=True, help="Of a model, the rows that it has there now.")
@click.option("--of", "bundle", metavar="BUNDLE", help="Parts of a bundle, not of the source tree.")
@click.option("--sql", "only_sql", is_flag=True, help="Print the statement, and do not run it.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/rows/1.")
def command(
    name: str,
    environment: str | None,
    first: int,
    where: str | None,
    failing: bool,
    live: bool,
    bundle: str | None,
    only_sql: bool,
    as_json: bool,
) -> None:
    """Show rows: of a model as its file says now, of a check that fails, or of a live table.

    The statement runs in ENV's database, which is not changed. Models upstream that differ from
    what is live there are computed in it, so the rows are those that a promotion would lead to.
    """
    shown = sample_rows(
        workplace(),
        RowsRequest(
            name=name,
            environment=environment,
            first=first,
            where=where,
            failing=failing,
            live=live,
            bundle=bundle,
            run=not only_sql,
        ),
    )
    if as_json:
        print_json(rows_document(shown))
    elif only_sql:
        sys.stdout.write(";\n\n".join(each.sql for each in shown.selected) + ";\n")
    else:
        _show(shown)


def _show(shown: Rows) -> None:
    screen = console()
    environment = shown.environment
    screen.print(
        Text.assemble(
            (shown.part, "bold"),
            f"  {shown.source} in ",
            (environment.name, "bold"),
            " (",
            word(environment.protection),
            ")",
            (f"  as {shown.identity}, read {shown_time(shown.read_at)} UTC", "dim"),
        )
    )
    computed = dict.fromkeys(part for each in shown.selected for part in each.computed)
    if computed:
        listed = ", ".join(map(str, computed))
        screen.print(f"computed, because something else is live there: {listed}", style="dim")
    for selected in shown.selected:
        if selected.about == shown.part or _has_rows(selected):
            screen.print()
            _show_sample(screen, shown, selected)
    hold = [s.about for s in shown.selected if s.about != shown.part and not _has_rows(s)]
    if hold:
        screen.print()
        screen.print(Text.assemble(word("done"), f"  {counted(len(hold), 'check')} without a row:"))
        for about in hold:
            screen.print(f"      {about}", style="dim")


def _has_rows(selected: Selected) -> bool:
    return selected.sample is not None and bool(selected.sample.rows)


def _show_sample(screen: Console, shown: Rows, selected: Selected) -> None:
    sample = selected.sample
    assert sample is not None  # the statement was run
    if selected.about != shown.part:
        screen.print(Text(selected.about, style="bold"))
    if not sample.rows:
        screen.print("no rows", style="dim")
        return
    print_sample(screen, sample)
    count = counted(len(sample.rows), "row")
    how_many = f"the first {count} of more: --first N for others" if sample.more else count
    screen.print(Text(how_many, style="dim"))
