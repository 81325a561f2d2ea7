"""``inchworm trace``."""

from __future__ import annotations

import json
from collections.abc import Iterator
from importlib.metadata import version

import click
from rich.text import Text
from rich.tree import Tree

from inchworm.cli.app import App, now
from inchworm.cli.screen import console, counted, print_json
from inchworm.core.errors import UsageError, did_you_mean
from inchworm.core.facts import Assembly
from inchworm.core.lineage import Direction, Edge, How, Node, Step, in_order
from inchworm.report.diagrams import dot_document, mermaid_document
from inchworm.report.documents import lineage_document
from inchworm.report.openlineage import openlineage_events

_STYLES = {How.COPIED: "green", How.COMPUTED: "cyan", How.ROWS: "yellow", How.WHOLE: "magenta"}


@click.command("trace")
@click.argument("name", required=False)
@click.option("--down", "direction", flag_value="down", help="Who feels it.")
@click.option("--up", "direction", flag_value="up", help="What it comes from.")
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
def command(
    name: str | None,
    direction: str | None,
    other: str | None,
    depth: int | None,
    hows: tuple[str, ...],
    everything: bool,
    format_: str,
    as_json: bool,
) -> None:
    """Show what a column, table or part comes from (--up), or who feels it (--down).

    NAME is a column (hydro.hourly_level.peak_cm), a table (hydro.hourly_level) or a part
    (flow:publish_warnings). Each line says how: copied, computed, rows (it decides which rows there
    are) or whole (only the table is known). Without a direction both are shown.
    """
    if bool(name) == everything:
        raise click.UsageError("Give one name, or --all.")
    if format_ == "openlineage" and not everything:
        raise click.UsageError("OpenLineage tells the whole project: --all --format openlineage.")
    app = App.here()
    assembly = app.project.read()[0].assembly
    kept = [How(how) for how in hows] or list(How)
    walks: dict[Direction, Step] = {}
    if everything:
        edges = [edge for edge in assembly.graph.edges if edge.how in kept]
    elif other is not None:
        between = assembly.graph.between(
            find_node(assembly, name or ""), find_node(assembly, other)
        )
        edges = [edge for edge in between if edge.how in kept]
    else:
        start = find_node(assembly, name or "")
        ways = [Direction(direction)] if direction else list(Direction)
        walks = {way: assembly.graph.walk(start, way, depth=depth, hows=kept) for way in ways}
        edges = in_order(edge for way, walk in walks.items() for edge in _edges(walk, way))
    match "json" if as_json else format_:
        case "json":
            print_json(lineage_document(edges))
        case "dot":
            click.echo(dot_document(edges))
        case "mermaid":
            click.echo(mermaid_document(edges))
        case "openlineage":
            at = app.project.git.committed_at or now()
            for event in openlineage_events(assembly, at, version("inchworm")):
                click.echo(json.dumps(event))
        case _ if walks:
            for way, walk in walks.items():
                _show(assembly, walk, way)
        case _:
            for edge in edges:
                click.echo(f"{edge.how.value:9} {edge.source} -> {edge.target}")
            if not edges:
                click.echo("There is no way." if other else "There are no edges.")


def find_node(assembly: Assembly, name: str) -> Node:
    """The column, table or part that a name means; case does not count.

    Raises:
        UsageError: when there is none; with the nearest name.
    """
    wanted = name.lower()
    known: dict[str, Node] = {}
    for table in assembly.tables.values():
        known[table.name.lower()] = Node(table.name)
        for column in table.columns:
            known[f"{table.name}.{column.name}".lower()] = Node(table.name, column.name)
    for part, facts in assembly.facts.items():
        node = Node(facts.provides[0].name) if len(facts.provides) == 1 else Node(str(part))
        known[str(part).lower()] = node if part.kind.value == "model" else Node(str(part))
        known.setdefault(part.name.lower(), known[str(part).lower()])
    for node in assembly.graph.nodes:
        known.setdefault(str(node).lower(), node)
    if wanted in known:
        return known[wanted]
    raise UsageError(
        f"There is no column, table or part {name}.",
        next=did_you_mean(wanted, known, "See inchworm trace --all."),
    )


def _show(assembly: Assembly, walk: Step, direction: Direction) -> None:
    screen = console()
    reached = _count(walk)
    said = "comes from" if direction is Direction.UP else "is felt by"
    if not reached:
        nothing = "nothing that is known" if direction is Direction.UP else "nobody that is known"
        screen.print(Text.assemble((str(walk.node), "bold"), f" {said} {nothing}."))
        return
    title = f" {said} {counted(reached, 'thing')}"
    tree = Tree(Text.assemble((str(walk.node), "bold"), title), guide_style="dim")
    _grow(tree, assembly, walk)
    screen.print(tree)


def _grow(tree: Tree, assembly: Assembly, step: Step) -> None:
    for following in step.next:
        assert following.how is not None  # only the start has none
        label = Text.assemble(
            (f"{following.how.value:9}", _STYLES[following.how]),
            (str(following.node), "bold" if following.node.is_part else ""),
            (_file(assembly, following.node), "dim"),
            ("  (shown above)" if following.repeated else "", "dim"),
        )
        _grow(tree.add(label), assembly, following)


def _file(assembly: Assembly, node: Node) -> str:
    """The file of a part, shown where the tree leaves the tables."""
    for part, found in assembly.parts.items():
        if str(part) == node.owner:
            return f"  {found.main.path}"
    return ""


def _count(step: Step) -> int:
    return sum(1 + _count(following) for following in step.next if not following.repeated)


def _edges(step: Step, direction: Direction) -> Iterator[Edge]:
    for following in step.next:
        assert following.how is not None  # only the start has none
        ends = (step.node, following.node)
        source, target = ends if direction is Direction.DOWN else ends[::-1]
        yield Edge(source, target, following.how)
        yield from _edges(following, direction)
