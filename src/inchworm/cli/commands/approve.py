"""``inchworm approve``."""

from __future__ import annotations

import click

from inchworm.application.entry import entry_of, say
from inchworm.cli.process import workplace
from inchworm.cli.promotions import print_entry
from inchworm.cli.terminal import console, print_json
from inchworm.cli.terminal import say as say_state
from inchworm.core.entry.approvals import Identity, Verdict
from inchworm.report.documents import entry_document, promotion_document


@click.command("approve")
@click.argument("promotion")
@click.option("--because", default="", metavar="TEXT", help="The reason, for the record.")
@click.option("--reject", is_flag=True, help="Say no: the draft is dropped.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/promotion/1.")
def command(promotion: str, because: str, reject: bool, as_json: bool) -> None:
    """Say yes or no to a draft (P12), for the record.

    It is said of just this draft: another one has to be approved again. It is signed where there
    is a key (inchworm ledger key); else it counts as what git or the operating system says of who
    is at work.
    """
    place = workplace()
    verdict = Verdict.REJECTED if reject else Verdict.APPROVED
    judged = say(place, promotion, verdict, because)
    approval = judged.approvals[-1]
    if as_json:
        entry = entry_document(entry_of(place, judged)) if not reject else []
        print_json(promotion_document(judged) | {"entry": entry})
        return
    screen = console()
    draft = judged.draft
    how = (
        "signed"
        if approval.identity is Identity.KEY
        else f"not signed: as {approval.identity} says"
    )
    text = f"{judged.id}, {draft.bundle} into {draft.environment}, by {approval.by} ({how})"
    say_state(screen, verdict.value, text)
    if reject:
        return
    screen.print()
    entry_now = entry_of(place, judged)
    print_entry(screen, entry_now)
    if entry_now.is_open:
        screen.print(f"next   Carry it out: inchworm promote {judged.id}")
