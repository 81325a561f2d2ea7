"""``inchworm bundles``."""

from __future__ import annotations

from typing import Any

import click

from inchworm.cli.app import App
from inchworm.cli.terminal import console, print_json, rows
from inchworm.core.errors import BundleError
from inchworm.core.promotion import State
from inchworm.store.bundles import read_bundle


@click.command("bundles")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/bundles/1.")
def command(as_json: bool) -> None:
    """List bundles, and where each has been promoted."""
    app = App.here()
    went: dict[str, list[str]] = {}
    for promotion in app.ledger.promotions():
        if promotion.state is State.DONE:
            places = went.setdefault(promotion.draft.bundle_digest, [])
            if promotion.draft.environment not in places:
                places.append(promotion.draft.environment)
    found: list[dict[str, Any]] = []
    for name in app.bundles.names():
        try:
            bundle = read_bundle(app.bundles.folder / f"{name}.zip")
        except BundleError as error:
            found.append({"bundle": name, "problem": error.what})
            continue
        found.append(
            {
                "bundle": name,
                "digest": bundle.digest,
                "commit": bundle.commit,
                "committed_at": bundle.manifest["provenance"]["committed_at"],
                "snapshot": bundle.snapshot,
                "parts": len(bundle.manifest["parts"]),
                "promoted_to": went.get(bundle.digest, []),
            }
        )
    if as_json:
        print_json({"format": "inchworm/bundles/1", "bundles": found})
        return
    if not found:
        console().print("There are no bundles yet. Pack one: inchworm pack.")
        return
    lines = [
        (
            bundle["bundle"],
            (bundle["commit"] or "-")[:7],
            str(bundle["parts"]),
            bundle["digest"][:19],
            ", ".join(bundle["promoted_to"]) or "-",
        )
        if "problem" not in bundle
        else (bundle["bundle"], "-", "-", bundle["problem"], "-")
        for bundle in found
    ]
    headings = ("bundle", "commit", "parts", "content digest", "promoted to")
    console().print(rows(headings, lines, right=(2,)))
