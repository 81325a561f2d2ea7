"""``inchworm pack``."""

from __future__ import annotations

import sys

import click

from inchworm import __version__
from inchworm.cli.app import App
from inchworm.cli.commands.check import check_tree
from inchworm.cli.terminal import console, counted, print_findings, print_json, rows, say
from inchworm.core.bundle import Provenance, pack
from inchworm.core.findings import has_errors
from inchworm.project.tree import PART_FOLDERS
from inchworm.report.documents import bundle_document, findings_document


@click.command("pack")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/bundle/1.")
def command(as_json: bool) -> None:
    """Make the immutable bundle of this commit.

    A clean tree whose commit is tagged with the version (v1.4.0) gives a release; anything else
    gives a snapshot, which only environments with snapshots = true take. Errors found by check
    refuse the pack.
    """
    app = App.here()
    screen = console()
    reading, checked = check_tree(app)
    findings = checked.findings
    if has_errors(findings):
        if as_json:
            print_json(findings_document(findings))
        else:
            print_findings(screen, findings)
            say(screen, "failed", "nothing was packed: mend the errors first.")
        sys.exit(1)
    git = app.project.git
    wanted = app.project.settings.version
    tagged = bool({wanted, f"v{wanted}"}.intersection(git.tags))
    provenance = Provenance(
        commit=git.commit,
        committed_at=git.committed_at,
        branch=git.branch,
        clean=git.clean,
        tool=f"inchworm {__version__}",
    )
    release = git.clean and tagged
    bundle = pack(
        reading.assembly,
        dict(app.source.contents.below(PART_FOLDERS)),
        findings,
        provenance,
        snapshot=not release,
    )
    known = bundle.name in app.bundles.names()
    path = app.bundles.put(bundle)
    if not known:
        body = {"digest": bundle.digest, "commit": git.commit, "snapshot": bundle.snapshot}
        app.ledger.append("packed", bundle.name, body)
    file = path.relative_to(app.root) if path.is_relative_to(app.root) else path
    if as_json:
        print_json(bundle_document(bundle, str(file)))
        return
    why = "" if release else _why_snapshot(app, tagged)
    say(
        screen,
        "nothing to do" if known else "done",
        f"{bundle.name} {'was packed before, with the same digest' if known else 'is packed'}.",
    )
    kind = f"snapshot: {why}" if why else "release"
    screen.print(
        rows(
            ("", ""),
            [
                ("kind", kind),
                (
                    "commit",
                    f"{git.short} on {git.branch or 'no branch'}, {git.committed_at or '-'}",
                ),
                ("content", f"{counted(len(reading.assembly.parts), 'part')}, {bundle.digest}"),
                ("file", str(file)),
            ],
        )
    )


def _why_snapshot(app: App, tagged: bool) -> str:
    git = app.project.git
    if git.commit is None:
        return "there is no commit"
    if not git.clean:
        return "the tree has changes that are not committed"
    return "" if tagged else f"the commit has no tag v{app.project.settings.version}"
