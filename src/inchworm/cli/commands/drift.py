"""``inchworm drift``."""

from __future__ import annotations

import sys
from collections.abc import Iterable
from dataclasses import dataclass
from difflib import unified_diff

import click
from rich.padding import Padding
from rich.text import Text

from inchworm.cli.app import App, now, shown_time
from inchworm.cli.terminal import console, counted, print_json, say, word
from inchworm.core.composition import Composition, LivePart
from inchworm.core.environments import Environment
from inchworm.core.errors import TargetError
from inchworm.core.facts import Assembly
from inchworm.core.lineage import Direction, Node
from inchworm.core.structure.definitions import Difference, Thing
from inchworm.engine.status import read_status


@dataclass(frozen=True, kw_only=True)
class _Drifted:
    """One part that is not as it was put."""

    part: LivePart
    differences: tuple[Difference, ...]
    affected: tuple[str, ...]

    @property
    def remedy(self) -> str:
        """What a promotion would do about it."""
        kind = self.part.part.partition(":")[0]
        if kind == "schema":
            if any(d.what == "missing" and d.thing is Thing.TABLE for d in self.differences):
                return (
                    "every promotion stops until the table is there again, or inchworm adopt has "
                    "taken its removal into the source"
                )
            return (
                "a promotion that changes the schema stops; inchworm adopt takes it into the source"
            )
        if kind == "model":
            if any(difference.what == "missing" for difference in self.differences):
                return "the next promotion builds it again"
            return "a promotion that touches it stops, unless it is told to --overwrite"
        return "the next promotion puts it there again"


@click.command("drift")
@click.argument("environment", metavar="ENV")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/drift/1.")
def command(environment: str, as_json: bool) -> None:
    """Show what somebody changed in ENV by hand since the last promotion there.

    Structure of tables, texts of views, and the items of workspace and gateway, each with what
    it affects through the lineage, and what a promotion would do about it. Exit code 1 when there
    is any.
    """
    app = App.here()
    declared = app.project.environment(environment)
    read_at = now()
    name = app.project.settings.name
    status = read_status(declared, name, app.root, app.values(declared), read_at)
    if status.live is None:
        raise TargetError(status.problem or "it cannot be read.", where=declared.name)
    reading, _ = app.read()
    app.remember(reading)
    found = [_drifted(status.live, declared, part, reading.assembly) for part in status.drifted]
    since = status.live.last.at if status.live.last else None
    if as_json:
        print_json(_document(declared, read_at, since, found))
    else:
        _show(declared, status.live, read_at, since, found)
    sys.exit(1 if found else 0)


def _drifted(
    live: Composition, environment: Environment, name: str, assembly: Assembly
) -> _Drifted:
    part = live.parts[name]
    different = tuple(live.differing(part, environment.database))
    missing = [
        Difference(key=f"table {table}", name=table, what="missing")
        for table in part.tables
        if environment.database.real_table(table) not in live.tables
        and name.startswith("model:")
        and not any(d.what == "missing" for d in different)
    ]
    real = {difference.name for difference in (*different, *missing)}
    tables = [t for t in part.tables if {t, environment.database.real_table(t)} & real]
    reached = assembly.graph.reached([Node(owner) for owner in tables or [name]], Direction.DOWN)
    affected = {node.owner for node in reached} - {*tables, name}
    return _Drifted(
        part=part, differences=(*different, *missing), affected=tuple(_parts(affected, assembly))
    )


def _parts(owners: Iterable[str], assembly: Assembly) -> list[str]:
    return sorted({str(assembly.provider.get(owner, owner)) for owner in owners})


def _document(
    environment: Environment, read_at: str, since: str | None, found: list[_Drifted]
) -> dict[str, object]:
    return {
        "format": "inchworm/drift/1",
        "environment": environment.name,
        "read_at": read_at,
        "since": since,
        "drifted": [
            {
                "part": each.part.part,
                "differences": [
                    {"what": d.what, "item": d.key, "was": d.was, "now": d.now}
                    for d in each.differences
                ],
                "affected": list(each.affected),
                "felt_by": list(each.affected),
                "remedy": each.remedy,
            }
            for each in found
        ],
    }


def _show(
    environment: Environment,
    live: Composition,
    read_at: str,
    since: str | None,
    found: list[_Drifted],
) -> None:
    screen = console()
    screen.print(
        Text.assemble(
            (environment.name, "bold"),
            " (",
            word(environment.protection),
            ")",
            (f"  as {live.identity}, read {shown_time(read_at)} UTC", "dim"),
        )
    )
    screen.print()
    for each in found:
        screen.print(Text(each.part.part, style="bold"))
        for difference in each.differences:
            screen.print(Text.assemble("  ", word(difference.what), f"  {difference.key}"))
            for line in _lines(difference):
                screen.print(Padding(Text(line), (0, 0, 0, 6)))
        if not each.differences:
            screen.print("  is not there as it was put")
        if each.affected:
            affected = Text(f"affects {', '.join(each.affected)}", style="dim")
            screen.print(Padding(affected, (0, 0, 0, 2)))
        screen.print(Text(f"  {each.remedy}", style="dim"))
        screen.print()
    when = f" since {shown_time(since)} UTC at the earliest" if since else ""
    outcome = "failed" if found else "done"
    said = f"{counted(len(found), 'part')} changed by hand{when}." if found else "nothing drifted."
    if since is None:
        outcome, said = "nothing checked", "nothing was promoted here yet."
    say(screen, outcome, said)


def _lines(difference: Difference) -> list[str]:
    """The lines that differ, with - for what was put and + for what is there."""
    was, now_ = _laid_out(difference.was), _laid_out(difference.now)
    return [
        line
        for line in unified_diff(was, now_, lineterm="", n=0)
        if line and not line.startswith(("---", "+++", "@@"))
    ][:20]


def _laid_out(sql: str) -> list[str]:
    """A statement on lines of its own for each column, so that one can be seen to differ."""
    lines: list[str] = []
    depth = 0
    line = ""
    for letter in sql:
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if letter == "\n" or (letter == "," and depth == 1):
            lines.append((line + letter).rstrip())
            line = ""
        else:
            line += letter
    return [line.strip() for line in [*lines, line] if line.strip()]
