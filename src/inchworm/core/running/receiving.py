"""What a flow takes in: from a request of others to a row of ours."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from inchworm.core.running.sending import Operation


def row_of(
    body: Mapping[str, Any],
    placed: Mapping[str, str],
    fields: Mapping[str, str],
    operation: Operation,
) -> dict[str, Any]:
    """The values of a row, by column.

    Args:
        body: the body of the request, as the API's schema allows it.
        placed: the values of the operation's parameters, by name.
        fields: the field or parameter of the operation that each column comes from.
        operation: the operation.

    Returns:
        For each column its value; None for a field that the body does not have.
    """
    return {
        column: placed.get(name) if name in operation.places else body.get(name)
        for column, name in fields.items()
    }


def path_values(path: str, operation: Operation) -> dict[str, str] | None:
    """The parameters in a request's path, percent-decoded; None when it is not the operation's.

    Args:
        path: the path behind the address of the flow, without a query, still encoded.
        operation: the operation.
    """
    from urllib.parse import unquote

    asked, known = path.strip("/").split("/"), operation.path.strip("/").split("/")
    if len(asked) != len(known):
        return None
    values: dict[str, str] = {}
    for piece, wanted in zip(asked, known, strict=True):
        if wanted.startswith("{") and wanted.endswith("}"):
            values[wanted[1:-1]] = unquote(piece)
        elif unquote(piece) != wanted:
            return None
    return values
