"""``inchworm history``."""

from __future__ import annotations

import click
from rich.text import Text

from inchworm.application.history import history
from inchworm.application.history import promotion as find_promotion
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.samples import print_failing_rows
from inchworm.cli.terminal import console, print_json, rows, spell_seconds, word
from inchworm.core.ledger.promotions import HeardPromotion, Summary
from inchworm.core.promotion.promotion import Promotion
from inchworm.report.documents import history_document, promotion_document


@click.command("history")
@click.argument("promotion", required=False, metavar="[PROMOTION]")
@click.option("--to", "environment", metavar="ENV", help="Only promotions into one environment.")
@click.option("--all", "everything", is_flag=True, help="All of them, not the latest 100.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/history/1.")
def command(
    promotion: str | None, environment: str | None, everything: bool, as_json: bool
) -> None:
    """List promotions, the latest first, or show one (P12) step by step.

    Promotions of other ledgers are listed as far as the databases told of them, when status or
    promote read them. The ledger's chain is followed first, so an entry that was altered does not
    go unnoticed.
    """
    place = workplace()
    if promotion is not None:
        one = find_promotion(place, promotion)
        print_json(promotion_document(one)) if as_json else _show_one(one)
        return
    recorded = history(place, environment)
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


def _show_one(promotion: Promotion) -> None:
    screen = console()
    draft = promotion.draft
    screen.print(
        Text.assemble(
            (f"{promotion.id}  {draft.bundle}", "bold"),
            " into ",
            (draft.environment, "bold"),
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
    screen.print()
    lines = []
    for step in draft.steps:
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
    for step in draft.steps:
        report = promotion.report_of(step)
        if report.samples:
            screen.print()
            screen.print(f"step {step.number}, {step.part}: {report.message}")
            print_failing_rows(screen, step, report, draft.environment, draft.bundle)
