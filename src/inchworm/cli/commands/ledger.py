"""``inchworm ledger``."""

from __future__ import annotations

import sys
from typing import TextIO

import click

from inchworm.application.keeping import exported, imported, own_key, rebuild, verify
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, rows, say
from inchworm.core.counting import counted


@click.group("ledger")
def command() -> None:
    """Look after the record of everything, and the key with which one signs it."""


@command.command("key")
def key() -> None:
    """Show one's own public key; make the key first, where there is none.

    The private key stays in a file that only its owner can read: INCHWORM_KEY, or inchworm/key.pem
    in the configuration folder.
    """
    place = workplace()
    own = own_key(place)
    screen = console()
    say(screen, "made" if own.is_new else "found", f"the private key in {own.path}")
    for name, asked in own.asked.items():
        screen.print(f"{name} asks for {asked}.")
    if own.of:
        screen.print(f"people.toml has the public key, as that of {own.of}.")
        return
    screen.print("Put the public key into people.toml, and commit that:")
    screen.print()
    click.echo(f'[people."{place.user}"]\nkey = "{own.public}"')


@command.command("verify")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/verified/1.")
def verify_command(as_json: bool) -> None:
    """Follow the chain of entries, ask all databases about its end, check all signatures."""
    verified = verify(workplace())
    if as_json:
        print_json(
            {
                "format": "inchworm/verified/1",
                "entries": verified.entries,
                "anchored": list(verified.anchored),
                "unasked": dict(verified.unasked),
                "approvals": len(verified.approvals),
                "index_faults": list(verified.index_faults),
                "told_otherwise": list(verified.told_otherwise),
                "signed_heads": [
                    {"entry": each.number, "by": each.by, "problem": each.problem}
                    for each in verified.heads
                ],
                "wrong": [
                    {"promotion": str(id_), "by": each.approval.by, "problem": each.problem}
                    for id_, each in verified.wrong
                ],
            }
        )
        sys.exit(1 if verified.is_wrong else 0)
    screen = console()
    say(screen, "whole", f"{verified.entries:,} entries, each fits the one before")
    if verified.anchored:
        say(screen, "same", f"the databases of {', '.join(verified.anchored)} know its end")
    for name, why in verified.unasked:
        say(screen, "not asked", f"{name}: {why}")
    good = len(verified.approvals) - len(verified.wrong)
    if verified.approvals:
        signed = sum(each.is_signed for _, each in verified.approvals)
        text = f"{counted(good, 'approval')}, {signed} of them signed with a known key"
        say(screen, "checked", text)
    if verified.heads:
        latest = max((each.number for each in verified.heads if not each.problem), default=0)
        good_heads = len(verified.heads) - len(verified.wrong_heads)
        text = f"{counted(good_heads, 'signature')} of its end, the last at entry {latest:,}"
        say(screen, "checked", text)
    if verified.wrong_heads:
        head_lines = [(f"{e.number:,}", e.by, e.problem) for e in verified.wrong_heads]
        screen.print(rows(("end that does not count", "by", "why"), head_lines))
    if verified.wrong:
        lines = [(str(id_), each.approval.by, each.problem) for id_, each in verified.wrong]
        screen.print(rows(("does not count", "by", "why"), lines))
    if verified.index_faults:
        named = ", ".join(verified.index_faults[:5])
        say(screen, "differs", f"the index from the entries: {named}; the entries count")
        screen.print(
            "next   Delete the rows of its tables promotions and runs: they are made again."
        )
    for told in verified.told_otherwise:
        say(screen, "differs", told)
    if verified.is_wrong:
        sys.exit(1)


@command.command("rebuild")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/rebuilt/1.")
def rebuild_command(as_json: bool) -> None:
    """Begin a ledger in place of one that was lost.

    It records the bundles of the store again, and the completed promotions that the databases of
    environments tell of. What only the lost ledger knew (drafts, approvals, failures, the course of
    steps) is gone.
    """
    rebuilt = rebuild(workplace())
    if as_json:
        print_json(
            {
                "format": "inchworm/rebuilt/1",
                "promotions": dict(rebuilt.promotions),
                "bundles": rebuilt.bundles,
                "unreadable": dict(rebuilt.unreadable),
                "unasked": dict(rebuilt.unasked),
            }
        )
    else:
        screen = console()
        say(screen, "done", f"a new ledger, with {counted(rebuilt.bundles, 'bundle')}")
        for name, number in rebuilt.promotions.items():
            say(screen, "told", f"{name}: {counted(number, 'completed promotion')}")
        for name, why in rebuilt.unreadable:
            say(screen, "cannot be read", f"{name}: {why}")
        for name, why in rebuilt.unasked:
            say(screen, "not asked", f"{name}: {why}")
        screen.print(
            "Drafts, approvals, failures and the course of steps were only in the lost one."
        )
    sys.exit(1 if rebuilt.unreadable or rebuilt.unasked else 0)


@command.command("export")
def export() -> None:
    """Write every entry out, a line of JSON each."""
    for line in exported(workplace()):
        click.echo(line)


@command.command("import")
@click.argument("file", type=click.File("r", encoding="utf-8"))
def import_command(file: TextIO) -> None:
    """Read entries from FILE, as export wrote them, into a ledger that has none; - for a pipe."""
    count = imported(workplace(), (line for line in file if line.strip()))
    say(console(), "done", f"{count:,} entries, each fits the one before")
