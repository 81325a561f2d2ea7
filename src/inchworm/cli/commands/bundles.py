"""``inchworm bundles``."""

from __future__ import annotations

import click

from inchworm.application.packing import ListedBundle, list_bundles
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, rows
from inchworm.report.documents import bundles_document


@click.command("bundles")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/bundles/1.")
def command(as_json: bool) -> None:
    """List bundles, and where each has been promoted."""
    listed = list_bundles(workplace())
    if as_json:
        print_json(bundles_document(listed))
        return
    if not listed:
        console().print("There are no bundles yet. Pack one: inchworm pack.")
        return
    headings = ("bundle", "commit", "parts", "content digest", "promoted to")
    console().print(rows(headings, [_line(each) for each in listed], right=(2,)))


def _line(listed: ListedBundle) -> tuple[str, ...]:
    bundle = listed.bundle
    if bundle is None:
        return (listed.name, "-", "-", listed.problem, "-")
    return (
        listed.name,
        (bundle.commit or "-")[:7],
        str(len(bundle.manifest["parts"])),
        bundle.digest[:19],
        ", ".join(listed.promoted_to) or "-",
    )
