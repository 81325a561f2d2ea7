"""Writing values into the matrix."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from pathlib import Path
from typing import Any

from inchworm.core.errors import ProjectError, UsageError
from inchworm.core.parameters.matrix import Parameter, references
from inchworm.core.parameters.values import Type
from inchworm.safe_files import write_below


def set_value(root: Path, row: Parameter, environment: str, text: str, today: dt.date) -> None:
    """Write one value into the file that declares the parameter; all else there stays as it is.

    Args:
        root: the project's folder.
        row: the parameter.
        environment: whose value; ``every`` for that of all environments.
        text: the value as text; it may use other parameters.
        today: the day that ``today`` means in it.

    Raises:
        UsageError: when the text is no value of the parameter.
        ProjectError: when the file cannot be read or written.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    cell: Any = text
    try:
        if row.type is Type.SECRET or not references(text):
            cell = row.domain.cell_of(text)
            row.domain.convert(cell, today)
    except ValueError as error:
        raise UsageError(
            f"{row.name} for {environment}: {error}.",
            where=f"{row.file}:{row.line}",
            next=f"Give a value of type {row.type.value}.",
        ) from error
    path = root / row.file
    is_number = row.type is Type.NUMBER and cell != text
    if is_number and Decimal(str(float(cell))) != cell:
        raise UsageError(
            f"{row.name} for {environment}: {text} has more digits than a number of TOML keeps.",
            where=f"{row.file}:{row.line}",
            next=f"Give {float(cell)}, or make the parameter a text.",
        )
    try:
        document = tomlkit.parse(path.read_bytes().decode("utf-8"))  # line ends as they are
        table: Any = document
        for key in row.name.split("."):
            table = table[key]
        table[environment] = float(cell) if is_number else cell
        write_below(root, row.file, tomlkit.dumps(document).encode("utf-8"))
    except (OSError, TOMLKitError, KeyError) as error:
        raise ProjectError(
            f"cannot be changed: {error}", where=row.file, next="Change the value by hand."
        ) from error
