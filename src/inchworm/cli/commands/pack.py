"""``inchworm pack``."""

from __future__ import annotations

import sys

import click

from inchworm.application.packing import pack_tree
from inchworm.cli.process import workplace
from inchworm.cli.terminal import MOST_FINDINGS, console, print_findings, print_json, rows, say
from inchworm.core.counting import counted
from inchworm.report.documents import bundle_document, findings_document


@click.command("pack")
@click.option("--release", "only_release", is_flag=True, help="Refuse what would be a snapshot.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/bundle/1.")
def command(only_release: bool, as_json: bool) -> None:
    """Make the immutable bundle of this commit.

    A clean tree whose commit is tagged with the version (v1.4.0), on the branch that releases come
    from where the project names one, gives a release; anything else gives a snapshot, which only
    environments with snapshots = true take. Errors found by check refuse the pack.
    """
    screen = console()
    result = pack_tree(workplace(), only_release=only_release)
    bundle, findings = result.bundle, result.checked.findings
    if bundle is None:
        if as_json:
            print_json(findings_document(findings))
        else:
            print_findings(screen, findings, MOST_FINDINGS, "All of them: inchworm check --all")
            say(screen, "failed", "nothing was packed: mend the errors first.")
        sys.exit(1)
    if as_json:
        print_json(bundle_document(bundle, result.file, result.wheels))
        return
    known = "was packed before, with the same digest" if result.is_known else "is packed"
    say(screen, "nothing to do" if result.is_known else "done", f"{bundle.name} {known}.")
    provenance = bundle.manifest["provenance"]
    short, when = (bundle.commit or "")[:7], provenance["committed_at"] or "-"
    lines = [
        ("kind", f"snapshot: {result.why_snapshot}" if result.why_snapshot else "release"),
        ("commit", f"{short} on {provenance['branch'] or 'no branch'}, {when}"),
        ("content", f"{counted(len(bundle.manifest['parts']), 'part')}, {bundle.digest}"),
        ("file", result.file),
    ]
    if result.equal_at is not None:
        lines.append(("equals", f"{result.equal_at[:7]}, which is checked out: same content"))
    lines += [("wheel", wheel) for wheel in result.wheels]
    if result.is_signed:
        lines.append(("signed", "with the key of whoever packed it, beside the bundle"))
    if result.unasked:
        lines.append(("not asked", f"{', '.join(result.unasked)}: the database does not answer"))
    screen.print(rows(("", ""), lines))
