"""``inchworm params``."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from inchworm.cli.app import App, now, shown_time
from inchworm.cli.terminal import console, counted, print_json, rows, say, word
from inchworm.core.errors import InchwormError, UsageError, did_you_mean
from inchworm.core.facts import Assembly
from inchworm.core.parameters import Parameter, Values, evaluate
from inchworm.core.promotion import State
from inchworm.core.values import Type
from inchworm.engine.connections import open_environment
from inchworm.project.parameters import set_value

_EVERY = "every"


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
    matrix = _Matrix.of(App.here())
    chosen = [matrix.environment(name) for name in (one, other) if name] or matrix.environments
    shown = [
        row
        for row in matrix.assembly.matrix.values()
        if other is None or matrix.differs(row, chosen)
    ]
    if as_json:
        print_json(matrix.document(shown, chosen))
    else:
        _show(matrix, shown, chosen, only_differing=other is not None)
    sys.exit(1 if any(matrix.values[name].problems for name in chosen) else 0)


@command.command("explain", hidden=True)
@click.argument("name")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/parameters/1.")
def explain(name: str, as_json: bool) -> None:
    """Explain one parameter."""
    app = App.here()
    matrix = _Matrix.of(app)
    row = matrix.row(name)
    live = {e.name: _live(app, e.name, row) for e in app.project.environments}
    if as_json:
        print_json(matrix.document([row], matrix.environments, live))
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
    app = App.here()
    matrix = _Matrix.of(app)
    row = matrix.row(name)
    where = environment if environment == _EVERY else matrix.environment(environment)
    set_value(app.root, row, where, value, app.today)
    say(console(), "done", f"{row.name} for {where} is {value}, in {row.file}.")


@dataclass(frozen=True)
class _Matrix:
    assembly: Assembly
    environments: list[str]
    values: Mapping[str, Values]

    @classmethod
    def of(cls, app: App) -> _Matrix:
        """The matrix of the source tree, with all its values."""
        reading, _ = app.read()
        app.remember(reading)
        names = [environment.name for environment in app.project.environments]
        values = {name: evaluate(reading.assembly.matrix, name, app.today) for name in names}
        return cls(reading.assembly, names, values)

    def environment(self, name: str) -> str:
        """An environment's own spelling of its name.

        Raises:
            UsageError: when there is none; with the nearest name.
        """
        for known in self.environments:
            if known.lower() == name.lower():
                return known
        near = did_you_mean(name, self.environments, f"Known: {', '.join(self.environments)}.")
        raise UsageError(f"There is no environment {name}.", next=near)

    def row(self, name: str) -> Parameter:
        """A parameter by name; case does not count.

        Raises:
            UsageError: when there is none; with the nearest name.
        """
        for known, row in self.assembly.matrix.items():
            if known.lower() == name.lower():
                return row
        near = did_you_mean(name, self.assembly.matrix, "See inchworm params.")
        raise UsageError(f"There is no parameter {name}.", next=near)

    def text(self, row: Parameter, environment: str) -> str | None:
        """A value as it is shown; None where there is none that could be."""
        value = self.values[environment].values.get(row.name)
        return None if value is None or value.plain is None else value.text

    def differs(self, row: Parameter, environments: list[str]) -> bool:
        """Whether a parameter has different values in some environments."""
        return len({self.text(row, environment) for environment in environments}) > 1

    def uses(self, row: Parameter) -> list[tuple[str, str]]:
        """The parts that use a parameter, and where."""
        used = [
            (str(part), f"{use.file}:{use.line}" if use.line else use.file)
            for part, outline in self.assembly.outlines.items()
            for use in outline.uses
            if use.parameter == row.name
        ]
        used += [
            ("environment", f"{use.file}:{use.line}")
            for use in self.assembly.environment_uses
            if use.parameter == row.name
        ]
        return used

    def document(
        self,
        shown: list[Parameter],
        environments: list[str],
        live: Mapping[str, _Live] | None = None,
    ) -> dict[str, Any]:
        """``inchworm/parameters/1``."""
        return {
            "format": "inchworm/parameters/1",
            "parameters": [
                {
                    "name": row.name,
                    "type": row.type.value,
                    "about": row.about,
                    "unit": row.unit,
                    "differs": self.differs(row, environments),
                    "values": {
                        name: {
                            "value": self.text(row, name),
                            "file": row.file,
                            "line": row.line_for(name),
                            **({"live": _live_document(live[name])} if live else {}),
                        }
                        for name in environments
                    },
                    "uses": [{"part": part, "at": at} for part, at in self.uses(row)],
                }
                for row in shown
            ],
        }


def _show(
    matrix: _Matrix, shown: list[Parameter], environments: list[str], *, only_differing: bool
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
    said = f"{what} differ." if only_differing else f"{what}, {many} of them differ."
    say(screen, "done" if shown else "nothing to do", said)
    for name in environments:
        for problem in matrix.values[name].problems:
            screen.print(Text.assemble(word("error"), f"  {problem.place}  {problem.message}"))


def _cell(matrix: _Matrix, row: Parameter, environment: str) -> Text:
    text = matrix.text(row, environment)
    if text is None:
        return Text("none" if row.optional else "missing", style="dim" if row.optional else "red")
    return Text(text, style="dim" if row.type is Type.SECRET else "")


def _explain(matrix: _Matrix, row: Parameter, live: Mapping[str, _Live]) -> None:
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


@dataclass(frozen=True)
class _LiveValue:
    value: str
    bundle: str
    since: str


_Live = _LiveValue | str | None
"""What is live; in words why that cannot be said; or nothing."""


def _live(app: App, environment: str, row: Parameter) -> _Live:
    """The value that parts are live with, and the bundle that brought it."""
    declared = app.project.environment(environment)
    name = app.project.settings.name
    try:
        values = app.values(declared)
        with open_environment(declared, name, app.root, values, read_only=True) as place:
            parts = place.composition(now()).parts.values()
    except InchwormError as error:
        return error.what
    using = [part for part in parts if row.name in part.values]
    if not using:
        return None
    value = using[0].values[row.name]
    bundle, since = using[0].bundle, using[0].put_at
    for promotion in app.ledger.promotions():
        draft = promotion.draft
        if draft.environment != declared.name or promotion.state is not State.DONE:
            continue
        if draft.values.get(row.name) != value:
            bundle = ""
        elif not bundle or promotion.changed_at < since:
            bundle, since = draft.bundle, promotion.changed_at
    return _LiveValue(value, bundle or using[0].bundle, since)


def _live_text(live: _Live) -> str:
    if live is None:
        return "nothing uses it there"
    if isinstance(live, str):
        return f"cannot be read: {live}"
    return f"{live.value} since {live.bundle}, {shown_time(live.since)}"


def _live_document(live: _Live) -> dict[str, Any] | None:
    if live is None:
        return None
    return {"problem": live} if isinstance(live, str) else asdict(live)
