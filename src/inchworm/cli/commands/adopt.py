"""``inchworm adopt``."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.adopting import AdoptedSchema, adopt
from inchworm.application.adopting_items import AdoptedItem, adopt_item
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, rows, say, word
from inchworm.core.counting import counted
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.rendered import Managed
from inchworm.core.structure.left_out import LeftOut


@click.command("adopt")
@click.argument("environment", metavar="ENV")
@click.argument("schema", metavar="SCHEMA|PART")
@click.option(
    "--outside",
    "managed",
    flag_value="outside",
    help="Only know it: managed outside, and never changed by us.",
)
@click.option(
    "--structure",
    "managed",
    flag_value="structure",
    help="Manage it by its wanted structure, rather than by migrations.",
)
@click.option(
    "--without",
    multiple=True,
    metavar="WORD",
    type=click.Choice(
        ["partitions", "inheritance", "row-security", "functions", "types", "foreign-tables"]
    ),
    help="Leave out what the structure is another one without; may be given several times.",
)
def command(environment: str, schema: str, managed: str | None, without: tuple[str, ...]) -> None:
    """Take up a schema that ENV has, or what was changed in it by hand, into the source.

    A schema that the project does not have becomes a new part: its structure a baseline migration,
    which is proved and assumed where it is there already, and run in an empty database. Of a schema
    that the project has, what somebody changed in ENV by hand becomes a migration of the same kind,
    or is put into its tables.sql. The data stay where they are.

    Of a flow, connection or pipeline (flow:publish_warnings), what somebody changed in the gateway
    or workspace by hand is written into its file; values of ENV become parameters again.
    """
    place, screen = workplace(), console()
    named = _named(schema)
    if isinstance(named, PartId):
        _show_item(screen, adopt_item(place, environment, named))
        return
    schema = named
    adopted = adopt(place, environment, schema, Managed(managed) if managed else None, without)
    look = "Look at it, and run inchworm check."
    if isinstance(adopted, AdoptedSchema):
        tables = counted(adopted.tables, "table")
        what = f"{tables}, {counted(adopted.statements, 'statement')}"
        where = f"{adopted.schema} of {adopted.where}"
        _show_left_out(screen, adopted.left_out)
        say(screen, "done", f"{where}: {what}, in schemas/{adopted.schema}. {look}")
        return
    if adopted.file is None:
        nothing = f"nothing in {adopted.schema} was changed by hand in {adopted.where}."
        say(screen, "nothing to do", nothing)
        return
    what = f"{adopted.schema} of {adopted.where}"
    if adopted.changes is not None:
        what = f"{counted(len(adopted.changes.takes_up), 'change')} by hand in {adopted.where}"
        for old, new in adopted.changes.renames.items():
            screen.print(
                Text.assemble(word("renamed"), f"  {old} to {new}; see whether that is so")
            )
        for name in adopted.changes.loses:
            screen.print(Text.assemble(word("loses data"), f"  {name}, where it runs"))
    say(screen, "done", f"{what}, in {adopted.file}. {look}")


def _named(text: str) -> PartId | str:
    """The part of a service that a text names, or the name of a schema, with its kind or without.

    Raises:
        UsageError: when it names a part of another kind.
    """
    of_kind, colon, name = text.partition(":")
    kind = Kind.of(of_kind.lower()) if colon else None
    if kind is None:
        return text
    if kind is Kind.SCHEMA:
        return name
    if kind.is_service:
        return PartId(kind, name)
    raise UsageError(
        f"{text} is not taken up: schemas are, and the parts of services.",
        next="Write what was changed into its file. Where somebody's change is not wanted, a "
        "promotion with --overwrite replaces it.",
    )


def _show_item(screen: Console, adopted: AdoptedItem) -> None:
    where = f"{adopted.part} of {adopted.environment}"
    if adopted.is_empty:
        say(screen, "nothing to do", f"nothing in {where} was changed by hand.")
        return
    for name, why in adopted.left_out:
        screen.print(Text.assemble(word("left out"), f"  {name}: {why}"))
    for name, value in adopted.values.items():
        text = f"  {name} = {value} in {adopted.environment}"
        screen.print(Text.assemble(word("value"), text))
    if adopted.leaves:
        written = ", ".join(adopted.leaves)
        say(screen, "done", f"{where}: {written}, in {adopted.file}. Run inchworm check.")
    elif adopted.values:
        say(screen, "done", f"{where}: in the parameters. Run inchworm check.")


def _show_left_out(screen: Console, left_out: Sequence[LeftOut]) -> None:
    """What was there and is not taken up, by kind and name."""
    if not left_out:
        return
    counts = Counter(each.kind for each in left_out)
    by_kind = ", ".join(counted(count, kind) for kind, count in sorted(counts.items()))
    screen.print(f"not taken up: {by_kind}")
    screen.print(rows(("", ""), [(each.kind, each.name) for each in left_out]))
    screen.print()
