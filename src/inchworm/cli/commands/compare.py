"""``inchworm compare``."""

from __future__ import annotations

from collections.abc import Sequence
from difflib import unified_diff
from pathlib import Path

import click
from rich.console import Console
from rich.text import Text

from inchworm.application.comparing import (
    TREE,
    SidesCompared,
    compare_places,
    compare_versions,
    names_environment,
)
from inchworm.cli.process import workplace
from inchworm.cli.terminal import console, print_json, rows, say, word
from inchworm.core.bundle.compare import Change, Weight, weight_of
from inchworm.core.bundle.sides import ComparedPart, PartState, Side, counts
from inchworm.core.counting import counted
from inchworm.report.compare_page import compare_page
from inchworm.report.documents import comparison_document, sides_document
from inchworm.safe_files import write_output

_STYLES = {Weight.MAJOR: "bold red", Weight.MINOR: "cyan", Weight.PATCH: "dim"}
_NAMED = 3
_SHOWN = 200


@click.command("compare")
@click.argument("before", metavar="A")
@click.argument("after", metavar="B", default=TREE)
@click.option("--part", metavar="PART", help="The difference of one part's text.")
@click.option("--html", type=click.Path(path_type=Path), help="Write it as one page.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable: inchworm/comparison/1.")
def command(before: str, after: str, part: str | None, html: Path | None, as_json: bool) -> None:
    """Compare two environments, bundles, commits, or the source tree (.).

    Of versions: per part, columns and tables that are added, gone or retyped, and what that
    affects; the last line says what that means for the version number.

    As soon as one side is an environment: per part whether it is the same, differs, or only its
    values do, is on hold, or was changed by hand; and schedules and rights. --part shows the
    difference of a part's text, with values of environments as the parameters that they are.
    """
    place = workplace()
    is_place = names_environment(place, before) or names_environment(place, after)
    if is_place or part is not None or html is not None:
        sides = compare_places(place, before, after, part, all_texts=html is not None)
        if html is not None:
            write_output(html, compare_page(sides, place.now()).encode())
            click.echo(f"{html}: {sides.a.name} and {sides.b.name}")
        elif as_json:
            print_json(sides_document(sides))
        else:
            _show_sides(console(), sides, of_part=part is not None)
        return
    changes = compare_versions(place, before, after)
    if as_json:
        print_json(comparison_document(before, after, changes))
        return
    screen = console()
    if not changes:
        say(screen, "nothing to do", f"{before} and {after} are the same.")
        return
    lines = [
        (
            change.what,
            "parameter" if change.part is None else str(change.part),
            f"{change.item}  {change.detail}".strip(),
            Text(change.weight.value, style=_STYLES[change.weight]),
            _affected(change),
        )
        for change in changes
    ]
    screen.print(rows(("", "part", "what", "weight", "affects"), lines))
    screen.print()
    weight = weight_of(changes)
    screen.print(f"{counted(len(changes), 'change')}, together {weight.value}.")


def _show_sides(screen: Console, sides: SidesCompared, *, of_part: bool) -> None:
    if of_part:
        _show_texts(screen, sides)
        return
    counted_states = ", ".join(f"{n} {state.value}" for state, n in counts(sides.parts).items())
    screen.print(f"A is {_called(sides.a)}, B is {_called(sides.b)}: {counted_states or 'nothing'}")
    screen.print()
    unlike = [compared for compared in sides.parts if compared.state is not PartState.SAME]
    if unlike:
        _show_unlike(screen, unlike[:_SHOWN], _versions_shown(sides))
        if len(unlike) > _SHOWN:
            screen.print(f"... and {len(unlike) - _SHOWN} more: --json", style="dim")
        screen.print()
    if sides.schedules:
        screen.print(rows(("schedule", "A", "B"), sides.schedules))
        screen.print()
    if sides.rights:
        screen.print(rows(("right on, to", "A", "B"), sides.rights[:_SHOWN]))
        if len(sides.rights) > _SHOWN:
            screen.print(f"... and {len(sides.rights) - _SHOWN} more: --json", style="dim")
        screen.print()
    screen.print("Definitions are compared, and no rows of tables.", style="dim")
    if any(c.state is PartState.DIFFERS for c in sides.parts):
        names = f"{sides.a.name} {sides.b.name}"
        screen.print(f"next   How a part differs: inchworm compare {names} --part PART")


def _called(side: Side) -> str:
    """A side's name, with the bundle that all of its parts are from, if that is one."""
    versions = {part.version for part in side.parts.values()}
    version = versions.pop() if len(versions) == 1 else ""
    return f"{side.name} ({version})" if version not in {"", side.name} else side.name


def _versions_shown(sides: SidesCompared) -> list[str]:
    """The sides whose parts are from several bundles, so that each part says from which."""
    by_letter = {"A": sides.a, "B": sides.b}
    return [
        name
        for name, side in by_letter.items()
        if len({part.version for part in side.parts.values()}) > 1
    ]


def _show_unlike(
    screen: Console, unlike: Sequence[ComparedPart], with_versions: Sequence[str]
) -> None:
    """A line for each part, with its bundle on the sides that have parts of several."""
    lines: list[list[str | Text]] = []
    for part in unlike:
        versions = {"A": part.a, "B": part.b}
        shown = [versions[side] for side in with_versions]
        lines.append([word(part.state.value), str(part.part), *shown, "\n".join(part.details)])
    screen.print(rows(("", "part", *with_versions, "A | B"), lines))


def _show_texts(screen: Console, sides: SidesCompared) -> None:
    for text in sides.texts:
        state = next(c.state for c in sides.parts if c.part == text.part)
        screen.print(Text.assemble((str(text.part), "bold"), "  ", word(state.value)))
        for path, (before, after) in text.files.items():
            old, new = (before or "").splitlines(), (after or "").splitlines()
            names = (f"{sides.a.name}: {path}", f"{sides.b.name}: {path}")
            for line in unified_diff(old, new, *names, lineterm="", n=3):
                style = {"+": "green", "-": "red"}.get(line[:1], "dim")
                screen.print(Text(line, style=style))


def _affected(change: Change) -> str:
    shown = ", ".join(change.affected[:_NAMED])
    more = len(change.affected) - _NAMED
    return f"{shown} and {more} more" if more > 0 else shown
