"""``inchworm trace``."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from inchworm import __version__
from inchworm.application.tracing import Answer, Question, trace
from inchworm.cli.process import clock, source_tree, workplace
from inchworm.core.counting import counted
from inchworm.core.lineage.graph import (
    Direction,
    Edge,
    How,
    Step,
    between_groups,
    between_owners,
)
from inchworm.core.lineage.reach import Reach, nearest, reach_of

if TYPE_CHECKING:
    from inchworm.core.lineage.facts import Assembly

_STYLES = {How.COPIED: "green", How.COMPUTED: "cyan", How.ROWS: "yellow", How.WHOLE: "magenta"}
_PICTURES = (".svg", ".png")


@click.command("trace")
@click.argument("name", required=False)
@click.option("--down", "direction", flag_value="down", help="What it affects.")
@click.option("--up", "direction", flag_value="up", help="What it depends on.")
@click.option("--to", "other", metavar="NAME", help="Only what lies on the way down to NAME.")
@click.option("--depth", type=click.IntRange(min=1), help="How many edges to follow at most.")
@click.option(
    "--how",
    "hows",
    multiple=True,
    type=click.Choice([how.value for how in How]),
    help="Follow only such edges; can be repeated.",
)
@click.option("--all", "everything", is_flag=True, help="All edges, instead of one name.")
@click.option(
    "--format",
    "format_",
    type=click.Choice(["text", "json", "dot", "mermaid", "openlineage"]),
    default="text",
    show_default=True,
    help="For people, or for other programs; openlineage, an event per line, goes with --all.",
)
@click.option("--json", "as_json", is_flag=True, help="The same as --format json.")
@click.option(
    "--picture",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE.svg|png",
    help="Draw it, from left to right, instead of printing it: tables and parts; of more than "
    "300, their schemas and kinds.",
)
@click.option("--columns", is_flag=True, help="Draw every column, too.")
@click.option("--tables", is_flag=True, help="Draw every table and part, however many there are.")
def command(
    name: str | None,
    direction: str | None,
    other: str | None,
    depth: int | None,
    hows: tuple[str, ...],
    everything: bool,
    format_: str,
    as_json: bool,
    picture: Path | None,
    columns: bool,
    tables: bool,
) -> None:
    """Show what a column, table or part depends on (--up), or what it affects (--down).

    NAME is a column (hydro.hourly_level.peak_cm), a table (hydro.hourly_level) or a part
    (flow:publish_warnings). Each line says how: copied, computed, rows (it decides which rows there
    are) or whole (only the table is known). Without a direction both are shown.
    """
    if bool(name) == everything:
        raise click.UsageError("Give one name, or --all.")
    if format_ == "openlineage" and not everything:
        raise click.UsageError("OpenLineage tells the whole project: --all --format openlineage.")
    if (columns or tables) and picture is None:
        raise click.UsageError("--columns and --tables tell what is drawn: they go with --picture.")
    if picture is not None and picture.suffix.lower() not in _PICTURES:
        raise click.UsageError(f"A picture is an .svg or a .png, not {picture.name}.")
    question = Question(
        name=name,
        ways=(Direction(direction),) if direction else tuple(Direction),
        other=other,
        depth=depth,
        hows=tuple(How(how) for how in hows) or tuple(How),
    )
    tree = source_tree()
    answer = trace(tree, lambda: workplace(tree).read_remembered().assembly, question)
    if picture is not None:
        _draw(answer.edges, picture, columns=columns, tables=tables)
    elif format_ == "text" and not as_json:
        _show(answer, question)
    else:
        _print(answer, "json" if as_json else format_, tree.root)


def _print(answer: Answer, format_: str, root: Path) -> None:
    import json

    edges = answer.edges

    match format_:
        case "json":
            from inchworm.report.documents import lineage_document

            click.echo(json.dumps(lineage_document(edges), indent=2, ensure_ascii=False))
        case "dot":
            from inchworm.report.diagrams import dot_document

            click.echo(dot_document(edges))
        case "mermaid":
            from inchworm.report.diagrams import mermaid_document

            click.echo(mermaid_document(edges))
        case "openlineage":
            from inchworm.project.git import committed_at
            from inchworm.report.openlineage import openlineage_events

            at = committed_at(root) or clock().isoformat(timespec="seconds")
            for event in openlineage_events(answer.assembly, at, __version__):
                click.echo(json.dumps(event))


def _draw(edges: list[Edge], file: Path, *, columns: bool, tables: bool) -> None:
    from inchworm.report.pictures import MOST_BOXES, draw_lineage, owners_in

    if not edges:
        click.echo("There is nothing to draw.")
        return
    drawn = edges if columns else between_owners(edges)
    owners = len(owners_in(drawn))
    if owners <= MOST_BOXES or columns or tables:
        draw_lineage(drawn, file)
        click.echo(f"{file} shows {len(drawn):,} edges.")
        return
    drawn = between_groups(drawn)
    draw_lineage(drawn, file)
    click.echo(
        f"{file} shows {len(drawn):,} edges between schemas and kinds of part, as there are "
        f"{owners:,} tables and parts.\nAll of them: --tables. "
        "Those near one: inchworm trace NAME --depth 2 --picture FILE"
    )


def _show(answer: Answer, question: Question) -> None:
    if not answer.walks:
        lines = [f"{edge.how.value:9} {edge.source} -> {edge.target}" for edge in answer.edges]
        nothing = "There is no way." if question.other else "There are no edges."
        click.echo("\n".join(lines) or nothing)
        return
    for way, walk in answer.walks.items():
        click.echo("\n".join(_tree(answer.assembly, walk, way)))


def _tree(assembly: Assembly, walk: Step, direction: Direction) -> Iterator[str]:
    reach = reach_of(walk, assembly)
    relation = "depends on" if direction is Direction.UP else "affects"
    start = click.style(str(walk.node), bold=True)
    if not reach.things:
        yield f"{start} {relation} nothing that is known."
        return
    yield f"{start} {relation} {counted(reach.things, 'thing')}"
    left_out = reach.lines - _MOST_LINES if sys.stdout.isatty() else 0
    if left_out > 0:
        yield from _counts(reach)
        yield f"The nearest {_MOST_LINES} lines of {reach.lines:,}:"
        walk = nearest(walk, _MOST_LINES)
    files = {str(part): outline.file for part, outline in assembly.outlines.items()}
    waiting = [(following, "") for following in reversed(walk.next)]
    last = {id(walk.next[-1])}
    while waiting:  # not by recursion: a chain may be thousands of steps long
        step, lead = waiting.pop()
        is_last = id(step) in last
        yield lead + click.style("└── " if is_last else "├── ", dim=True) + _label(step, files)
        below = lead + click.style("    " if is_last else "│   ", dim=True)
        waiting.extend((following, below) for following in reversed(step.next))
        if step.next:
            last.add(id(step.next[-1]))
    if left_out > 0:
        yield f"... and {left_out:,} lines more. All of them: in a pipe (| less), or --json."
        yield "Fewer: --depth 2, or the way to one thing: --to NAME."


_MOST_LINES = 100
"""Lines of a walk that are shown to somebody at a terminal."""
_MOST_NAMES = 8


def _counts(reach: Reach) -> Iterator[str]:
    """What is reached, by kind, schema and owner, the most first."""
    for title, counts in (
        ("by kind", reach.kinds),
        ("by schema", reach.schemas),
        ("by owner", reach.owners),
    ):
        most = sorted(counts.items(), key=lambda each: (-each[1], each[0]))
        if most:
            listed = ", ".join(f"{name} {count:,}" for name, count in most[:_MOST_NAMES])
            more = f" and {len(most) - _MOST_NAMES} more" if len(most) > _MOST_NAMES else ""
            yield f"  {title:10} {listed}{more}"


def _label(step: Step, files: dict[str, str]) -> str:
    assert step.how is not None  # only the start has none
    how = click.style(f"{step.how.value:9}", fg=_STYLES[step.how])
    file = files.get(step.node.owner) if step.node.is_part else None
    return (
        how
        + click.style(str(step.node), bold=step.node.is_part)
        + (click.style(f"  {file}", dim=True) if file else "")
        + (click.style("  (shown above)", dim=True) if step.repeated else "")
    )
