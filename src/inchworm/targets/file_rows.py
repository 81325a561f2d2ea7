"""The rows of a file, little by little, as the columns of a table take them."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Generator, Iterator, Mapping, Sequence
from contextlib import closing
from itertools import islice
from pathlib import Path
from typing import Any

from inchworm.core.running.copying import FileFormat
from inchworm.core.running.taking_in import value_for
from inchworm.core.strict_json import read_json
from inchworm.core.structure.tables import Column
from inchworm.targets.file_places import UnreadableFile

_BATCH = 10_000
"""Rows at a time."""

Row = tuple[int, Mapping[str, Any]]
"""The line at which a row stands (in a Parquet file, its number), and its values by column."""


def file_rows(
    file: Path, format_: FileFormat, fields: Mapping[str, str], columns: Sequence[Column]
) -> Generator[list[list[object]], None, None]:
    """The rows of a file, a batch at a time, their values in the order of the fields.

    Args:
        file: the file, on this machine.
        format_: how its rows stand in it.
        fields: the column of the file that each column of the table comes from.
        columns: the columns of the table, in the same order.

    Raises:
        UnreadableFile: when it is cut off or malformed, or a value is none of its column's type;
            with the line.
    """
    reader = {
        FileFormat.CSV: _csv_rows,
        FileFormat.JSON_LINES: _json_rows,
        FileFormat.PARQUET: _parquet_rows,
    }[format_]
    names = list(fields.values())
    rows = _converted(reader(file, names), names, [column.type for column in columns])
    with closing(rows):
        while batch := list(islice(rows, _BATCH)):
            yield batch


def _converted(
    rows: Iterator[Row], names: Sequence[str], types: Sequence[str]
) -> Generator[list[object], None, None]:
    for line, row in rows:
        values = []
        for name, type_ in zip(names, types, strict=True):
            try:
                values.append(value_for(row.get(name), type_))
            except ValueError as error:
                raise UnreadableFile(f"line {line}: {name} is not as expected: {error}") from error
        yield values


def _csv_rows(file: Path, names: Sequence[str]) -> Iterator[Row]:
    """Rows below a header; each has as many values as the header, or the file is not whole."""
    try:
        with file.open(encoding="utf-8-sig", newline="") as text:
            reader = csv.reader(text, strict=True)
            header = next(reader, None)
            if header is None:
                raise UnreadableFile("it is empty, without even a header")
            _check_names(names, header)
            for values in reader:
                if len(values) != len(header):
                    raise UnreadableFile(
                        f"line {reader.line_num} has {len(values)} values, and the header "
                        f"{len(header)}: it may be cut off"
                    )
                yield reader.line_num, {n: v or None for n, v in zip(header, values, strict=True)}
    except UnicodeDecodeError as error:
        raise UnreadableFile(f"it is not UTF-8 ({error.reason} at byte {error.start})") from error
    except csv.Error as error:
        raise UnreadableFile(f"line {reader.line_num}: {error}: it may be cut off") from error


def _json_rows(file: Path, names: Sequence[str]) -> Iterator[Row]:
    """An object per line; a field that a line does not have is null."""
    try:
        with file.open(encoding="utf-8") as text:
            for line, content in enumerate(text, start=1):
                if not content.strip():
                    continue
                try:
                    row = read_json(content)
                except (ValueError, RecursionError) as error:
                    raise UnreadableFile(
                        f"line {line} is no JSON ({error}): it may be cut off"
                    ) from error
                if not isinstance(row, dict):
                    raise UnreadableFile(f"line {line} is no JSON object")
                yield line, row
    except UnicodeDecodeError as error:
        raise UnreadableFile(f"it is not UTF-8 ({error.reason} at byte {error.start})") from error


def _parquet_rows(file: Path, names: Sequence[str]) -> Iterator[Row]:
    """Rows of a Parquet file, read by DuckDB."""
    import duckdb

    with duckdb.connect(":memory:") as connection:
        try:
            result = connection.execute("SELECT * FROM read_parquet(?)", [str(file)])
            header = [column[0] for column in result.description]
            _check_names(names, header)
            number = 0
            while rows := result.fetchmany(_BATCH):
                for row in rows:
                    number += 1
                    yield number, dict(zip(header, row, strict=True))
        except duckdb.Error as error:
            raise UnreadableFile(f"it is no whole Parquet file: {error}".splitlines()[0]) from error


def check_parquet(file: Path, names: Sequence[str]) -> None:
    """Look whether a Parquet file is whole, and has some columns.

    Raises:
        UnreadableFile: when it is not, or has not.
    """
    from pyarrow import ArrowException, parquet

    try:
        _check_names(names, parquet.read_schema(file).names)
    except ArrowException as error:
        raise UnreadableFile(f"it is no whole Parquet file: {error}".splitlines()[0]) from error


def _check_names(names: Sequence[str], header: Sequence[str]) -> None:
    twice = [name for name, count in Counter(header).items() if count > 1]
    if twice:
        raise UnreadableFile(f"it has several columns of the name {twice[0]}")
    missing = [name for name in names if name not in header]
    if missing:
        raise UnreadableFile(f"it has no column {missing[0]}; its columns: {', '.join(header)}")
