"""The lineage graph: walks, ways and reach."""

from __future__ import annotations

import datetime as dt
from itertools import pairwise, permutations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.checks.project_rules import check_assembly
from inchworm.core.lineage.graph import (
    Direction,
    Edge,
    Graph,
    How,
    Node,
    Step,
    between_groups,
    between_owners,
    way_to,
)
from inchworm.kinds.project_reader import read_project

A, B, C, D = (Node(f"s.{name}", "x") for name in "abcd")
TABLE_B = Node("s.b")
READER = Node("consumer:r")


def edge(source: Node, target: Node, how: How = How.COPIED) -> Edge:
    return Edge(source, target, how)


def shown(step: Step) -> dict[str, object]:
    """A walk as nested mappings, so that a test can be read."""
    return {
        f"{following.how} {following.node}{' again' if following.repeated else ''}": shown(
            following
        )
        for following in step.next
    }


DIAMOND = Graph.of([edge(A, B), edge(A, C, How.COMPUTED), edge(B, D), edge(C, D, How.ROWS)])


def test_between_tables_the_closest_way_counts() -> None:
    """One edge for each pair, and none from a table to itself."""
    more = [edge(A, Node("s.b", "y"), How.ROWS), edge(B, Node("s.b", "z")), edge(C, D, How.WHOLE)]
    assert between_owners([*DIAMOND.edges, *more]) == [
        edge(Node("s.a"), Node("s.b")),
        edge(Node("s.a"), Node("s.c"), How.COMPUTED),
        edge(Node("s.b"), Node("s.d")),
        edge(Node("s.c"), Node("s.d"), How.ROWS),
    ]
    for hows in permutations((How.ROWS, How.COMPUTED, How.COPIED)):
        assert between_owners(edge(A, B, how) for how in hows) == [edge(Node("s.a"), TABLE_B)]


def test_from_afar_there_are_schemas_and_kinds_of_part() -> None:
    """A table without a schema stands for itself, also one named like a kind; so do places."""
    place = Node("place a:b")
    more = [edge(D, Node("flow:out")), edge(Node("flow:in"), A, How.ROWS), edge(Node("flow"), A)]
    assert between_groups([*DIAMOND.edges, *more, edge(place, A)]) == [
        edge(Node("flow"), Node("s.*")),
        edge(Node("flow:*"), Node("s.*"), How.ROWS),
        edge(place, Node("s.*")),
        edge(Node("s.*"), Node("flow:*")),
    ]
    assert between_groups(DIAMOND.edges) == [edge(Node("s.*"), Node("s.*"))]


def test_the_closest_neighbours_come_first_then_by_name() -> None:
    """And all that an edge touches is there, whatever is asked for first."""
    graph = Graph.of(
        [
            edge(A, Node("s.b", "z")),
            edge(A, Node("s.b", "y")),
            edge(A, TABLE_B),
            edge(A, C, How.ROWS),
            edge(A, Node("s.a", "w"), How.COMPUTED),
        ]
    )
    assert graph.of_owner("s.b") == {TABLE_B, Node("s.b", "y"), Node("s.b", "z")}
    assert graph.neighbours(A, Direction.DOWN) == [
        (TABLE_B, How.COPIED),
        (Node("s.b", "y"), How.COPIED),
        (Node("s.b", "z"), How.COPIED),
        (Node("s.a", "w"), How.COMPUTED),
        (C, How.ROWS),
    ]


def test_a_walk_unfolds_every_node_once() -> None:
    """The second time a leaf is just shown again."""
    assert shown(DIAMOND.walk(A, Direction.DOWN)) == {
        "copied s.b.x": {"copied s.d.x": {}},
        "computed s.c.x": {"rows s.d.x": {}},
    }


def test_a_walk_says_when_something_was_unfolded_elsewhere() -> None:
    """So that nobody thinks that nothing follows."""
    graph = Graph.of([*DIAMOND.edges, edge(D, READER)])
    assert shown(graph.walk(A, Direction.DOWN)) == {
        "copied s.b.x": {"copied s.d.x": {"copied consumer:r": {}}},
        "computed s.c.x": {"rows s.d.x again": {}},
    }


def test_a_walk_can_be_limited() -> None:
    """By depth and by how."""
    assert shown(DIAMOND.walk(A, Direction.DOWN, depth=1)) == {
        "copied s.b.x": {},
        "computed s.c.x": {},
    }
    assert shown(DIAMOND.walk(D, Direction.UP, hows=[How.COPIED])) == {
        "copied s.b.x": {"copied s.a.x": {}}
    }


def test_a_circle_ends() -> None:
    """Even one that lineage should never have."""
    graph = Graph.of([edge(A, B), edge(B, A)])
    assert shown(graph.walk(A, Direction.DOWN)) == {"copied s.b.x": {"copied s.a.x again": {}}}


def test_what_decides_rows_affects_all_that_read_the_table() -> None:
    """A row that comes or goes changes every column of it."""
    graph = Graph.of([edge(A, TABLE_B, How.ROWS), edge(B, READER)])
    assert READER in graph.reached([A], Direction.DOWN)
    assert A in graph.reached([READER], Direction.UP)


def test_values_are_carried_but_rows_are_not() -> None:
    """And not past where somebody ended it."""
    graph = Graph.of([edge(A, B), edge(A, TABLE_B, How.ROWS), edge(B, C, How.COMPUTED), edge(C, D)])
    assert set(graph.carried(A, ())) == {A, B, C, D}
    assert set(graph.carried(A, {C})) == {A, B}
    assert set(Graph.of([edge(A, TABLE_B, How.ROWS)]).carried(A, ())) == {A}


def test_the_edges_between_two_are_those_on_some_way() -> None:
    """Side branches are left out."""
    graph = Graph.of([*DIAMOND.edges, edge(A, READER)])
    assert graph.between(A, D) == DIAMOND.edges
    assert graph.between(D, A) == []


def test_names_with_dots_are_quoted() -> None:
    """So that a column cannot be taken for a table's."""
    assert str(Node("s.t", "a.b")) == 's.t."a.b"'
    assert str(Node("s.t")) == "s.t"


nodes = st.sampled_from([A, B, C, D, READER])
graphs = st.lists(st.builds(Edge, nodes, nodes, st.sampled_from(How)), max_size=12).map(Graph.of)


@given(graphs, nodes, nodes)
def test_down_is_up_seen_from_the_other_end(graph: Graph[int], one: Node, other: Node) -> None:
    """What is downstream of a node has the node upstream."""
    down = other in graph.reached([one], Direction.DOWN)
    up = one in graph.reached([other], Direction.UP)
    assert down is up


@given(graphs, nodes)
def test_a_way_is_made_of_edges(graph: Graph[int], start: Node) -> None:
    """From the start to every node that is reached, step by step."""
    ends = {(e.source, e.target) for e in graph.edges}
    came_from = graph.reached([start], Direction.DOWN)
    for node in came_from:
        way = way_to(node, came_from)
        assert (way[0], way[-1]) == (start, node)
        assert set(pairwise(way)) <= ends


@given(graphs, nodes)
def test_a_walk_shows_all_that_is_reached(graph: Graph[int], start: Node) -> None:
    """No more and no less."""

    def met(step: Step) -> set[Node]:
        return {step.node}.union(*(met(following) for following in step.next))

    assert met(graph.walk(start, Direction.DOWN)) == set(graph.reached([start], Direction.DOWN))


def test_a_column_is_not_its_whole_table() -> None:
    """Who takes the table as a whole is affected by each column that has sources of its own."""
    whole, other = Node("s.e"), Node("s.f", "x")
    graph = Graph.of([edge(Node("s.a"), whole, How.WHOLE), edge(A, B), edge(whole, other)])
    assert set(graph.reached([A], Direction.DOWN)) - {A} == {B}
    assert Node("s.a") in graph.reached([Node("s.e", "y")], Direction.UP)


def test_a_whole_table_comes_from_what_its_columns_come_from() -> None:
    """And is affected by whatever they affect."""
    assert shown(DIAMOND.walk(Node("s.d"), Direction.UP)) == {
        "copied s.b.x": {"copied s.a.x": {}},
        "rows s.c.x": {"computed s.a.x": {}},
    }
    assert shown(DIAMOND.walk(Node("s.a"), Direction.DOWN)) == {
        "copied s.b.x": {"copied s.d.x": {}},
        "computed s.c.x": {"rows s.d.x": {}},
    }


# ---- views of schemas ----------------------------------------------------------------------------

PEOPLE = "CREATE TABLE ops.person (id INTEGER PRIMARY KEY, phone TEXT, home TEXT);\n"
SHOWN = "CREATE VIEW ops.shown (who, number) AS SELECT id, phone FROM ops.person;\n"
AGAIN = "CREATE VIEW ops.again AS SELECT max(number) AS number FROM ops.shown;\n"
CONSUMER = 'contact = "c"\n[reads]\n"m.a" = ["number"]\n'


def of_schema(managed: str, *scripts: str) -> dict[str, str]:
    """A schema with a personal column, and a consumer that reads it through views and a model."""
    settings = f'managed = "{managed}"\n[classes]\n"person.phone" = "personal"\n'
    files = {
        "schemas/ops/schema.toml": settings,
        "models/m/a.sql": "SELECT number FROM ops.again",
        "consumers/board.toml": CONSUMER,
    }
    if managed == "migrations":
        numbered = enumerate(scripts, start=1)
        return files | {f"schemas/ops/migrations/{n:04}_a.sql": sql for n, sql in numbered}
    return files | {"schemas/ops/tables.sql": "".join(scripts)}


MANAGED = [
    pytest.param("migrations", (PEOPLE, SHOWN, AGAIN), id="migrations"),
    pytest.param("structure", (PEOPLE, SHOWN, AGAIN), id="structure"),
    pytest.param("outside", (PEOPLE, SHOWN, AGAIN), id="outside"),
    pytest.param(
        "migrations",
        (PEOPLE, SHOWN, "CREATE TABLE ops.again AS SELECT number FROM ops.shown;"),
        id="rows of others",
    ),
    pytest.param(
        "migrations",
        (PEOPLE, SHOWN, AGAIN.replace("again", "first"), "ALTER VIEW ops.first RENAME TO again;"),
        id="renamed",
    ),
]


@pytest.mark.parametrize(("managed", "scripts"), MANAGED)
def test_a_class_goes_through_the_views_of_schemas(managed: str, scripts: tuple[str, ...]) -> None:
    encoded = {path: text.encode() for path, text in of_schema(managed, *scripts).items()}
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=encoded)
    found = check_assembly(reading.assembly, dt.date(2026, 1, 1))
    assert "lineage/not-cleared" in {finding.rule for finding in found}
    up = reading.assembly.graph.reached([Node("m.a", "number")], Direction.UP)
    assert Node("ops.person", "phone") in up
    assert Node("ops.person", "home") not in up


def test_a_view_that_is_gone_carries_nothing() -> None:
    dropped = "DROP VIEW ops.again; CREATE VIEW ops.again AS SELECT 1 AS number;"
    files = of_schema("migrations", PEOPLE, SHOWN, AGAIN, dropped)
    encoded = {path: text.encode() for path, text in files.items()}
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=encoded)
    up = reading.assembly.graph.reached([Node("m.a", "number")], Direction.UP)
    assert Node("ops.person", "phone") not in up
