"""``inchworm adopt``."""

from __future__ import annotations

import click
from rich.text import Text

from inchworm.application.adopting import AdoptedSchema, adopt
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, say, word
from inchworm.core.counting import counted
from inchworm.core.rendered import Managed


@click.command("adopt")
@click.argument("environment", metavar="ENV")
@click.argument("schema")
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
def command(environment: str, schema: str, managed: str | None) -> None:
    """Take up a schema that ENV has, or what was changed in it by hand, into the source.

    A schema that the project does not have becomes a new part: its structure a baseline migration,
    which is proved and assumed where it is there already, and run in an empty database. Of a schema
    that the project has, what somebody changed in ENV by hand becomes a migration of the same kind,
    or is put into its tables.sql. The data stay where they are.
    """
    adopted = adopt(workplace(), environment, schema, Managed(managed) if managed else None)
    screen = console()
    look = "Look at it, and run inchworm check."
    if isinstance(adopted, AdoptedSchema):
        tables = counted(adopted.tables, "table")
        what = f"{tables}, {counted(adopted.statements, 'statement')}"
        where = f"{adopted.schema} of {adopted.where}"
        say(screen, "done", f"{where}: {what}, in schemas/{adopted.schema}. {look}")
        return
    if adopted.file is None:
        nothing = f"nothing in {adopted.schema} was changed by hand in {adopted.where}."
        say(screen, "nothing to do", nothing)
        return
    what = f"{adopted.schema} of {adopted.where}"
    if adopted.changes is not None:
        what = f"{counted(len(adopted.changes.takes_up), 'change')} by hand in {adopted.where}"
        for name in adopted.changes.loses:
            screen.print(Text.assemble(word("loses data"), f"  {name}, where it runs"))
    say(screen, "done", f"{what}, in {adopted.file}. {look}")
