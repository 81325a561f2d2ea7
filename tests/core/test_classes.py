"""Columns that show values of a class, wherever a query has them from."""

from __future__ import annotations

import pytest

from inchworm.core.lineage.classes import carried_classes, classed_columns
from inchworm.core.lineage.graph import Node
from inchworm.kinds.project_reader import read_project

FILES = {
    "models/m/person.sql": '/*---\n[columns.phone]\nclass = "personal"\n[columns.pay]\n'
    "class = \"secret\"\n---*/\nSELECT 1 AS id, '555' AS phone, 9 AS pay",
    "models/m/other.sql": "SELECT 2 AS id",
    "models/m/below.sql": "SELECT id, upper(phone) AS called FROM m.person",
}


@pytest.mark.parametrize(
    ("query", "columns", "classed"),
    [
        ("SELECT id, phone, pay FROM m.person", [], {"phone": "personal", "pay": "secret"}),
        ("SELECT id FROM m.person", ["id"], {}),
        ("SELECT phone AS Number FROM m.person", ["Number"], {"number": "personal"}),
        ("SELECT id AS phone FROM m.person", ["phone"], {}),
        ("SELECT pay + id AS sum FROM m.person", ["sum"], {"sum": "secret"}),
        ("SELECT called FROM m.below", ["called"], {"called": "personal"}),
        ("SELECT id FROM m.other", ["id", "unknown"], {}),
        ("SELECT id FROM m.person", ["unknown"], {"unknown": "personal"}),
    ],
)
def test_a_column_has_the_class_of_what_it_is_made_from(
    query: str, columns: list[str], classed: dict[str, str]
) -> None:
    """One about which the query says nothing has that of any column of the tables that it reads."""
    files = {path: text.encode() for path, text in FILES.items()}
    assembly = read_project(name="p", version="1.0.0", dialect="duckdb", files=files).assembly
    named = columns or ["id", "phone", "pay"]
    assert classed_columns(query, named, assembly) == classed


def test_a_class_ends_where_it_is_said_to_and_where_values_are_only_counted() -> None:
    files = {
        **FILES,
        "models/m/ended.sql": "/*---\n[columns.code]\ndeclassified = 'a hash'\n---*/\n"
        "SELECT md5(phone) AS code, phone FROM m.person",
        "models/m/counted.sql": "SELECT count(phone) AS phones, max(phone) AS last FROM m.person",
    }
    encoded = {path: text.encode() for path, text in files.items()}
    assembly = read_project(name="p", version="1.0.0", dialect="duckdb", files=encoded).assembly
    reached = {node for class_, nodes in carried_classes(assembly) for node in nodes}
    assert Node("m.ended", "phone") in reached
    assert Node("m.ended", "code") not in reached
    assert Node("m.counted", "last") in reached
    assert Node("m.counted", "phones") not in reached


def test_without_classes_no_query_is_read() -> None:
    files = {"models/m/other.sql": b"SELECT 2 AS id"}
    assembly = read_project(name="p", version="1.0.0", dialect="duckdb", files=files).assembly
    assert classed_columns("no query at all", ["id"], assembly) == {}
