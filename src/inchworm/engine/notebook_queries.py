"""Queries of notebooks, as the database reads them."""

from __future__ import annotations

from collections.abc import Mapping

from sqlglot import exp

from inchworm.core.errors import ProjectError, did_you_mean
from inchworm.core.parameters.matrix import FILE
from inchworm.core.parameters.values import Value
from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import with_values


def query_with_values(sql: str, dialect: str, values: Mapping[str, Value]) -> exp.Query:
    """A query with logical names and ``:parameters``, parsed, with values in place of those.

    Raises:
        ProjectError: when the SQL does not parse, does more than read, or uses an unknown
            parameter.
    """
    try:
        return with_values(parse_query(sql, dialect), values)
    except SqlProblem as problem:
        raise ProjectError(f"the SQL {problem.reason}.", next="Correct the query.") from problem
    except KeyError as error:
        name = str(error.args[0])
        near = did_you_mean(name, values, f"Declare it in {FILE}.")
        raise ProjectError(f"there is no parameter {name}.", next=near) from error
