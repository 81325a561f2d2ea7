"""``inchworm params``."""

from __future__ import annotations

import sys
from collections.abc import Mapping, Sequence

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.parameters import (
    Live,
    MatrixView,
    live_value,
    set_parameter,
    view_matrix,
)
from inchworm.cli.process import shown_time, workplace
from inchworm.cli.terminal import console, print_json, rows, say, word
from inchworm.core.counting import counted
from inchworm.core.parameters.matrix import Parameter
from inchworm.core.parameters.values import Type
from inchworm.report.documents import parameters_document


class _NameOrSet(click.Group):
    """``params set ...`` is a command of its own; anything else is the name of a parameter."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """As click does, but what is no command is explained."""
        if args and args[0] not in self.commands:
            return "explain", self.commands["explain"], args
        return super().resolve_command(ctx, args)


@click.group(
    "params", cls=_NameOrSet, invoke_without_command=True, subcommand_metavar="[NAME] | set ..."
)
@click.option("--env", "one", metavar="ENV", help="Only this environment's values.")
@click.option("--against", "other", metavar="ENV", help="Only what differs from this one.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/parameters/1.")
@click.pass_context
def command(ctx: click.Context, one: str | None, other: str | None, as_json: bool) -> None:
    """Show every parameter in every environment; explain one; or set a value.

    With NAME: each environment's value and where it is declared, which parts use it and where, and
    what is live with which value. Secrets are shown as where they are kept.
    """
    if ctx.invoked_subcommand is not None:
        return
    if other is not None and one is None:
        raise click.UsageError("--against goes with --env.")
    matrix = view_matrix(workplace())
    chosen = [matrix.environment(name) for name in (one, other) if name] or matrix.environments
    shown = [
        row
        for row in matrix.assembly.matrix.values()
        if other is None or matrix.differs(row, chosen)
    ]
    if as_json:
        print_json(parameters_document(matrix, shown, chosen))
    else:
        _show(matrix, shown, chosen, only_differing=other is not None)
    sys.exit(1 if any(matrix.values[name].problems for name in chosen) else 0)


@command.command("explain", hidden=True)
@click.argument("name")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/parameters/1.")
def explain(name: str, as_json: bool) -> None:
    """Explain one parameter."""
    place = workplace()
    matrix = view_matrix(place)
    row = matrix.parameter(name)
    live = {each: live_value(place, each, row) for each in matrix.environments}
    if as_json:
        print_json(parameters_document(matrix, [row], matrix.environments, live))
    else:
        _explain(matrix, row, live)


@command.command("set")
@click.argument("name")
@click.argument("environment", metavar="ENV|every")
@click.argument("value")
def set_(name: str, environment: str, value: str) -> None:
    """Write a value into the file that declares it; comments and order stay.

    Of a secret, only a reference can be given: env:NAME, file:PATH or secret:PATH#KEY.
    """
    row, where = set_parameter(workplace(), name, environment, value)
    say(console(), "done", f"{row.name} for {where} is {value}, in {row.file}.")


def _show(
    matrix: MatrixView, shown: list[Parameter], environments: Sequence[str], *, only_differing: bool
) -> None:
    screen = console()
    lines: list[tuple[str | Text, ...]] = []
    group = ""
    for row in sorted(shown, key=lambda row: (row.group != "", row.group)):
        if row.group != group:
            group = row.group
            lines.append((Text(f"{group}:", style="bold"), *("" for _ in environments), ""))
        name = f"  {row.name.rpartition('.')[2]}" if group else row.name
        unit = f" [{row.unit}]" if row.unit else ""
        values = [_cell(matrix, row, environment) for environment in environments]
        differs = "differs" if matrix.differs(row, environments) else "same"
        word_ = Text(differs, style="" if differs == "differs" else "dim")
        lines.append((f"{name}{unit}", word_, *values))
    if lines:
        screen.print(rows(("parameter", "", *environments), lines))
        screen.print()
    what = counted(len(shown), "parameter")
    many = sum(matrix.differs(row, environments) for row in shown)
    text = f"{what} differ." if only_differing else f"{what}, {many} of them differ."
    say(screen, "done" if shown else "nothing to do", text)
    for name in environments:
        for problem in matrix.values[name].problems:
            screen.print(Text.assemble(word("error"), f"  {problem.place}  {problem.message}"))


def _cell(matrix: MatrixView, row: Parameter, environment: str) -> Text:
    text = matrix.text(row, environment)
    if text is None:
        return Text("none" if row.optional else "missing", style="dim" if row.optional else "red")
    return Text(text, style="dim" if row.type is Type.SECRET else "")


def _explain(matrix: MatrixView, row: Parameter, live: Mapping[str, Live]) -> None:
    screen = console()
    about = f"  {row.about}" if row.about else ""
    unit = f", in {row.unit}" if row.unit else ""
    screen.print(Text.assemble((row.name, "bold"), f"  {row.type.value}{unit}", (about, "dim")))
    screen.print()
    lines = [
        (name, _cell(matrix, row, name), f"{row.file}:{row.line_for(name)}", _live_text(live[name]))
        for name in matrix.environments
    ]
    screen.print(rows(("environment", "declared", "at", "live"), lines))
    screen.print()
    _show_uses(screen, matrix.uses(row))


def _show_uses(screen: Console, uses: list[tuple[str, str]]) -> None:
    if not uses:
        screen.print("Nothing uses it.")
        return
    screen.print(rows(("used by", "at"), uses))


def _live_text(live: Live) -> str:
    if live is None:
        return "nothing uses it there"
    if isinstance(live, str):
        return f"cannot be read: {live}"
    return f"{live.value} since {live.bundle}, {shown_time(live.since)}"
