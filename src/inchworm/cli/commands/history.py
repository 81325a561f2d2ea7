"""``inchworm history``."""

from __future__ import annotations

from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.history import (
    Runs,
    Wanted,
    executed_notebook,
    heard_promotion,
    history,
    kept_file,
    life_of,
    measures,
    runs,
)
from inchworm.application.history import promotion as find_promotion
from inchworm.application.history import run as find_run
from inchworm.application.workplace import Workplace
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.runs import print_run, print_runs
from inchworm.cli.samples import print_failing_rows
from inchworm.cli.step_lines import listed
from inchworm.cli.terminal import console, print_json, rows, say, spell_seconds, word
from inchworm.cli.visible import visible
from inchworm.core.counting import counted
from inchworm.core.entry.rules import OF_RULES
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import promotion_key, promotion_number
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.promotion.promotion import Promotion
from inchworm.core.promotion.states import State
from inchworm.core.running.run import Measured, run_number
from inchworm.report.documents import history_document, life_document, recorded_document
from inchworm.report.runs import run_document
from inchworm.report.steps_sql import steps_sql
from inchworm.safe_files import write_output


@click.command("history")
@click.argument("record", required=False, metavar="[PROMOTION|RUN|PART]")
@click.option("--to", "--in", "environment", metavar="ENV", help="Only those of one environment.")
@click.option("--by", default="", metavar="NAME", help="Only those that somebody moved last.")
@click.option("--state", default="", metavar="STATE", help="Only those in a state: failed.")
@click.option("--since", default="", metavar="DATE", help="Only those from a day on.")
@click.option("--until", default="", metavar="DATE", help="Only those up to a day.")
@click.option("--runs", "of_runs", is_flag=True, help="Runs, and not promotions.")
@click.option("--notebook", metavar="NAME", help="With a run: a notebook that it executed.")
@click.option(
    "--html",
    type=click.Path(path_type=Path),
    help="Write a page: that notebook, or what entered, with the evidence.",
)
@click.option("--kept", metavar="NAME", help="With a run: a file that a notebook kept.")
@click.option("--into", type=click.Path(path_type=Path), help="Where to write that file.")
@click.option("--sql", is_flag=True, help="With a promotion: the statements of its steps.")
@click.option("--measure", metavar="NAME", help="What notebooks measured under a name.")
@click.option("--picture", type=click.Path(path_type=Path), help="Draw it: FILE.svg or FILE.png.")
@click.option("--all", "everything", is_flag=True, help="All of them, and all steps, not just 100.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/history/1.")
def command(
    record: str | None,
    environment: str | None,
    by: str,
    state: str,
    since: str,
    until: str,
    of_runs: bool,
    notebook: str | None,
    html: Path | None,
    kept: str | None,
    into: Path | None,
    sql: bool,
    measure: str | None,
    picture: Path | None,
    everything: bool,
    as_json: bool,
) -> None:
    """List promotions or runs, the latest first, or show one (P12, R12) step by step.

    With a part (model:hydro.gauge): what promotions did to it, in all environments.

    A notebook that a run executed can be written as a page: R12 --notebook NAME --html FILE.
    Without a record, --html writes what entered (--to prod --since 2026-10-01) with its evidence:
    conditions, approvals, findings, steps; --picture draws promotions over time.

    Promotions of other ledgers are listed as far as the databases told of them, when status or
    promote read them. The ledger's chain is followed first, so an entry that was altered does not
    go unnoticed.
    """
    place = workplace()
    if kept is not None or into is not None:
        _write_kept(place, record, kept, into)
        return
    if sql and (record is None or promotion_number(record) is None):
        raise click.UsageError("--sql goes with a promotion: history P12 --sql.")
    if (notebook is None) is not (html is None or record is None) or (html and of_runs):
        raise click.UsageError("Say all of it: history RUN --notebook NAME --html FILE.")
    if picture is not None and measure is None and (record is not None or of_runs):
        raise click.UsageError("--picture draws promotions, or what --measure NAME lists.")
    if record is not None and notebook is not None and html is not None:
        from inchworm.report.notebooks import write_notebook

        write_notebook(executed_notebook(place, record, notebook), html)
        click.echo(f"{html}: {notebook} as {record.upper()} executed it")
    elif measure is not None:
        _show_measures(measures(place, measure, environment), picture, as_json)
    elif record is not None and run_number(record) is not None:
        run = find_run(place, record)
        print_json(run_document(run)) if as_json else print_run(console(), run, everything)
    elif record is not None and promotion_number(record) is None:
        _show_life(place, record, as_json)
    elif record is not None and (heard := heard_promotion(place, record)):
        _show_heard(heard, as_json)
    elif record is not None:
        one = find_promotion(place, record)
        if sql:
            _print_sql(one)
        elif as_json:
            print_json(recorded_document(one))
        else:
            _show_one(one, everything)
    elif of_runs:
        _show_runs(place, runs(place, environment, state), everything, as_json)
    else:
        wanted = Wanted(environment=environment or "", by=by, state=state, since=since, until=until)
        if picture is not None:
            _draw_promotions(place, wanted, picture)
        if html is not None:
            _write_audit(place, wanted, html)
        if picture is None and html is None:
            _show_promotions(place, wanted, everything, as_json)


def _write_kept(place: Workplace, record: str | None, kept: str | None, into: Path | None) -> None:
    if record is None or kept is None or into is None:
        raise click.UsageError("Say all of it: history RUN --kept NAME --into FILE.")
    write_output(into, kept_file(place, record, kept))
    click.echo(f"{into}: {kept} as {record.upper()} kept it")


def _write_audit(place: Workplace, wanted: Wanted, html: Path) -> None:
    from inchworm.application.auditing import audit
    from inchworm.report.audit_page import audit_page

    write_output(html, audit_page(audit(place, wanted), place.now()).encode())
    click.echo(f"{html}: what entered, with its evidence")


def _draw_promotions(place: Workplace, wanted: Wanted, picture: Path) -> None:
    from inchworm.application.auditing import audit
    from inchworm.report.figures import check_picture
    from inchworm.report.promotions_picture import Moment, draw_promotions

    check_picture(picture)
    recorded = audit(place, wanted)
    moments = [
        Moment(
            environment=record.promotion.draft.environment,
            bundle=record.promotion.draft.bundle,
            state=record.promotion.state,
            at=record.at,
            is_rollback=record.promotion.draft.rollback is not None,
        )
        for record in recorded.entries
    ]
    known = [environment.name for environment in place.project.environments]
    gone = {moment.environment for moment in moments}.difference(known)
    title = f"{place.project.settings.name}: promotions"
    draw_promotions(moments, [*known, *sorted(gone)], picture, title)
    click.echo(f"{picture}: {counted(len(moments), 'promotion')} over time")


def _show_measures(measured: list[Measured], picture: Path | None, as_json: bool) -> None:
    from inchworm.report.figures import check_picture
    from inchworm.report.measures import draw_measure, measures_document

    if picture is not None:
        check_picture(picture)
        draw_measure(measured, picture)
    if as_json:
        print_json(measures_document(measured))
        return
    screen = console()
    lines = [
        (shown_time(m.at), m.environment, str(m.run), m.part, f"{m.value:g}")
        for m in measured[::-1]
    ]
    name = measured[0].name
    screen.print(rows(("at, UTC", "in", "run", "notebook", name), lines, right=(4,)))
    if picture is not None:
        screen.print(f"drawn in {picture}", style="dim")


def _show_runs(place: Workplace, asked: Runs, everything: bool, as_json: bool) -> None:
    recorded, usual = asked
    shown = recorded if everything else recorded[:_SHOWN]
    if as_json:
        documents = [
            run_document(place.ledger.run(run.id))
            | {"took_seconds": run.took, "usual_seconds": usual.get(run.id)}
            for run in shown
        ]
        print_json({"format": "inchworm/runs/1", "runs": documents})
        return
    screen = console()
    if not shown:
        screen.print("Nothing ran yet. Run what is live: inchworm run NAME --in ENV")
        return
    print_runs(screen, shown, usual)
    if len(recorded) > len(shown):
        screen.print(f"... and {len(recorded) - len(shown):,} earlier: --all", style="dim")


def _show_life(place: Workplace, name: str, as_json: bool) -> None:
    life = life_of(place, name)
    events = life.events
    if as_json:
        print_json(life_document(life))
        return
    screen = console()
    screen.print(Text(str(life.part), style="bold"))
    lines = [
        (
            str(event.promotion),
            event.environment,
            event.bundle,
            f"{event.step.action} {event.step.item}".strip(),
            word(event.report.state.value),
            shown_time(event.at),
            event.by,
            "; ".join(filter(None, (event.step.reason, event.taken_back))),
        )
        for event in events[:_SHOWN]
    ]
    screen.print(rows(("", "in", "bundle", "what", "state", "when, UTC", "by", "why"), lines))
    if len(events) > _SHOWN:
        screen.print(f"... and {len(events) - _SHOWN:,} earlier: --json", style="dim")
    for heard in life.heard:
        screen.print(
            f"{heard.environment}: live from {heard.bundle} since {shown_time(heard.at)} UTC, by "
            f"{heard.promotion}, as its database told when this ledger was rebuilt",
            style="dim",
        )


def _show_heard(heard: list[HeardPromotion], as_json: bool) -> None:
    """Promotions that only databases know of."""
    if as_json:
        print_json(history_document((), heard))
        return
    screen = console()
    lines = [
        (
            each.environment,
            each.promotion.bundle,
            (each.promotion.commit or "-")[:7],
            shown_time(each.promotion.at),
            each.promotion.by,
            each.promotion.exception or "-",
        )
        for each in heard
    ]
    screen.print(rows(("in", "bundle", "commit", "done, UTC", "by", "exception"), lines))
    screen.print(
        "This ledger does not have it. Its database told this much; its steps, approvals and "
        "findings are in the ledger that recorded it.",
        style="dim",
    )


def _show_promotions(place: Workplace, wanted: Wanted, everything: bool, as_json: bool) -> None:
    recorded = history(place, wanted)
    shown = recorded.promotions if everything else recorded.promotions[:_SHOWN]
    if as_json:
        promotions = (place.ledger.promotion(summary.id) for summary in shown)
        print_json(history_document(promotions, recorded.heard))
        return
    screen = console()
    if not shown and not recorded.heard:
        screen.print("There are no promotions yet. Make one: inchworm promote BUNDLE --to ENV.")
        return
    # in the order of the ledger's entries: no clock says what came later
    lines = [(summary.through, _line(summary)) for summary in shown]
    earliest = shown[-1].through if len(shown) < len(recorded.promotions) else 0
    lines += [
        (heard.entry, _line_of_other(heard, place.ledger.id))
        for heard in recorded.heard
        if heard.entry >= earliest
    ]
    lines.sort(key=lambda line: line[0], reverse=True)
    screen.print(
        rows(
            ("", "environment", "bundle", "state", "when, UTC", "by", "steps", "took"),
            [line for _, line in lines],
            right=(6, 7),
        )
    )
    if recorded.heard:
        example = recorded.heard[0].promotion.named(place.ledger.id)
        screen.print(f"{example} and the like: promotions of other ledgers", style="dim")
    if earliest:
        hidden = len(recorded.promotions) - len(shown)
        screen.print(f"... and {hidden:,} earlier: --all", style="dim")


_SHOWN = 100
"""How many promotions are listed unless all are asked for."""


def _line(summary: Summary) -> tuple[str | Text, ...]:
    return (
        str(summary.id),
        summary.environment,
        summary.bundle,
        word(summary.state.value),
        shown_time(summary.changed_at),
        summary.changed_by,
        f"{summary.steps_over} of {summary.steps}",
        spell_seconds(summary.seconds),
    )


def _line_of_other(heard: HeardPromotion, ledger: str) -> tuple[str | Text, ...]:
    promotion = heard.promotion
    return (
        promotion.named(ledger),
        heard.environment,
        promotion.bundle,
        word("done"),
        shown_time(promotion.at),
        promotion.by,
        "",
        "",
    )


def _show_story(screen: Console, promotion: Promotion) -> None:
    """What it took back, what stayed as it was, and what people said about it."""
    draft = promotion.draft
    if draft.rollback is not None:
        undone = ", ".join(str(promotion_key(key) or key) for key in draft.rollback.undoes)
        because = f", because {draft.rollback.because}" if draft.rollback.because else ""
        screen.print(f"a rollback of {undone}{because}")
    if draft.sources:
        listed = ", ".join(f"{p} ({s or 'out'})" for p, s in draft.sources.items())
        screen.print(f"these stayed as they were: {listed}")
    for approval in promotion.approvals:
        because = f": {approval.because}" if approval.because else ""
        how = "signed" if approval.envelope else f"as {approval.identity.value} says"
        at = shown_time(approval.at)
        screen.print(f"{approval.verdict.value} {at} UTC by {approval.by} ({how}){because}")
    admission = promotion.admission
    for judged in admission.judged if admission else ():
        met = "met" if judged.is_met else "missing"
        screen.print(Text.assemble(word(met), f" {judged.condition}: {judged.evidence}"))
    for finding in draft.findings:
        if finding.rule in OF_RULES:
            say(screen, "warning", finding.message)
    if admission and admission.exception:
        say(screen, "warning", f"let in by exception, {admission.exception}")


def _print_sql(promotion: Promotion) -> None:
    """What the steps ran, or were about to run when the promotion stopped."""
    of_step, name = promotion.statements, promotion.id
    if not of_step and promotion.state is State.DRAFTED:
        raise UsageError(
            f"{name} has not begun.", next=f"What it would run: inchworm review {name} --sql"
        )
    if not promotion.recorded:
        raise UsageError(
            f"The SQL of {name} was not recorded: an earlier version carried it out.",
            next=f"Its bundle has the source: inchworm history {name}",
        )
    steps = [(step, of_step.get(step.number, ())) for step in promotion.draft.steps]
    click.echo(visible(steps_sql(steps)), nl=False)


def _show_one(promotion: Promotion, everything: bool) -> None:
    screen = console()
    draft = promotion.draft
    screen.print(
        Text.assemble(
            (f"{promotion.id}  {draft.bundle}", "bold"),
            " into ",
            (draft.environment, "bold"),
            f", the corner of {draft.corner}" if draft.corner else "",
            "  ",
            word(promotion.state.value),
        )
    )
    screen.print(
        f"drafted {shown_time(promotion.drafted_at)} UTC by {promotion.drafted_by}, "
        f"{promotion.state.value} {shown_time(promotion.changed_at)} UTC by "
        f"{promotion.changed_by}, commit {(promotion.commit or '-')[:7]}",
        style="dim",
    )
    if promotion.message:
        screen.print(promotion.message)
    _show_story(screen, promotion)
    screen.print()
    lines = []
    steps, rest = listed(draft.steps, promotion.report_of, everything=everything)
    for step in steps:
        report = promotion.report_of(step)
        lines.append(
            (
                str(step.number),
                step.action,
                f"{step.part} {step.item}".strip(),
                word(report.state.value),
                spell_seconds(report.seconds),
                report.message,
            )
        )
    screen.print(rows(("", "", "part", "state", "took", ""), lines, right=(0, 4)))
    if rest:
        screen.print(rest, style="dim")
    if promotion.recorded:
        screen.print(f"the SQL of its steps: inchworm history {promotion.id} --sql", style="dim")
    for step in draft.steps:
        report = promotion.report_of(step)
        if report.samples:
            screen.print()
            screen.print(f"step {step.number}, {step.part}: {report.message}")
            print_failing_rows(screen, step.part, report, draft.environment, draft.bundle)
