"""``inchworm history``."""

from __future__ import annotations

import click
from rich.text import Text

from inchworm.cli.app import App, shown_time
from inchworm.cli.terminal import console, print_json, rows, spell_seconds, word
from inchworm.core.promotion import Promotion, StepState
from inchworm.report.documents import history_document, promotion_document


@click.command("history")
@click.argument("promotion", required=False, metavar="[PROMOTION]")
@click.option("--to", "environment", metavar="ENV", help="Only promotions into one environment.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/history/1.")
def command(promotion: str | None, environment: str | None, as_json: bool) -> None:
    """List promotions, the latest first, or show one (P12) step by step.

    The ledger's chain is followed first, so an entry that was altered does not go unnoticed.
    """
    app = App.here()
    app.ledger.check()
    if promotion is not None:
        one = app.ledger.promotion(promotion)
        print_json(promotion_document(one)) if as_json else _show_one(one)
        return
    found = app.ledger.promotions()[::-1]
    if environment is not None:
        name = app.project.environment(environment).name
        found = [p for p in found if p.draft.environment == name]
    if as_json:
        print_json(history_document(found))
        return
    if not found:
        console().print("There are no promotions yet. Make one: inchworm promote BUNDLE --to ENV.")
        return
    console().print(
        rows(
            ("", "environment", "bundle", "state", "when, UTC", "by", "steps", "took"),
            [_line(one) for one in found],
            right=(6, 7),
        )
    )


def _line(promotion: Promotion) -> tuple[str | Text, ...]:
    reports = [promotion.report_of(step) for step in promotion.draft.steps]
    done = sum(r.state in {StepState.DONE, StepState.NOTHING_CHECKED} for r in reports)
    took = sum(report.seconds or 0 for report in reports)
    return (
        promotion.id,
        promotion.draft.environment,
        promotion.draft.bundle,
        word(promotion.state.value),
        shown_time(promotion.changed_at),
        promotion.changed_by,
        f"{done} of {len(reports)}",
        spell_seconds(took),
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
