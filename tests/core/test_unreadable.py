"""What cannot be read, although the libraries that read it go on or give up without a word."""

from __future__ import annotations

import json
from typing import Any

import pytest

from inchworm.core.checks.findings import Finding
from inchworm.core.identifiers import PartId
from inchworm.core.parts import Contents, Part, SourceFile
from inchworm.core.sql.parse import parse_query, parse_statements
from inchworm.core.sql.problems import SqlProblem
from inchworm.kinds.notebook_document import read_document_of


@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite"])
@pytest.mark.parametrize(
    "sql",
    [
        "SELECT a\nFROM ..x",
        "SELECT a\nFROM b JOIN.. ops.x AS z USING (a)",
        "SELECT a\nFROM s. .x",
    ],
)
def test_a_name_has_no_empty_part(sql: str, dialect: str) -> None:
    with pytest.raises(SqlProblem, match="nothing between two dots, near x") as refused:
        parse_query(sql, dialect)
    assert refused.value.line == 2


def test_dots_in_texts_and_comments_are_none_of_a_name() -> None:
    assert parse_statements("SELECT '..', a FROM b.c -- and so on ..", "duckdb")


CELL: dict[str, Any] = {
    "id": "a",
    "cell_type": "code",
    "source": "1",
    "metadata": {},
    "outputs": [],
    "execution_count": None,
}


@pytest.mark.filterwarnings("ignore:Cell is missing an id")
@pytest.mark.parametrize(
    ("changed", "fault"),
    [
        ({"cells": None}, "it has no list of cells"),
        ({"cells": "x"}, "it has no list of cells"),
        ({"cells": [1]}, "what stands for a cell is none"),
        ({"cells": [{**CELL, "cell_type": []}]}, "what stands for a cell is none"),
        ({"nbformat_minor": "5"}, "its nbformat_minor is no whole number"),
        ({"nbformat_minor": 2.5}, "its nbformat_minor is no whole number"),
        ({"nbformat": 3}, "it does not say nbformat 4"),
        ({"cells": [{**CELL, "source": 1}]}, "1 is not valid under any of the given schemas"),
        ({"cells": [{**CELL, "id": None}]}, "None is not of type 'string'"),
        ({"cells": [{name: CELL[name] for name in CELL if name != "id"}]}, None),
        ({}, None),
    ],
)
def test_what_is_no_notebook_is_a_finding(changed: dict[str, Any], fault: str | None) -> None:
    document = {"nbformat": 4, "nbformat_minor": 5, "metadata": {}, "cells": [CELL], **changed}
    path = "notebooks/n.ipynb"
    contents = Contents({path: json.dumps(document).encode()})
    part = Part(id=PartId.parse("notebook:n"), files=(SourceFile(path, contents),))
    found: list[Finding] = []
    read = read_document_of(part, found.append)
    assert (read is None) == (fault is not None)
    expected = [] if fault is None else [f"is not a notebook (nbformat 4): {fault}"]
    assert [finding.message for finding in found] == expected
