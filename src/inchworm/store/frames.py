"""pandas frames as Parquet files: how rows go from one process to another."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import duckdb

from inchworm.core.errors import UsageError

if TYPE_CHECKING:
    import pandas as pd


def write_frame(frame: pd.DataFrame, file: Path) -> None:
    """Write a frame; its index is left out.

    Raises:
        UsageError: when a column holds what no table can.
    """
    rows = frame.reset_index(drop=True)
    try:
        with duckdb.connect() as connection:
            connection.register("frame", rows)
            connection.execute(f"COPY frame TO '{_quoted(file)}' (FORMAT parquet)")
    except duckdb.Error as error:
        raise UsageError(
            f"the rows cannot be stored: {error}", next="Store numbers, texts, dates and times."
        ) from error


def read_frame(file: Path) -> pd.DataFrame:
    """Read a frame.

    Raises:
        UsageError: when the file holds none.
    """
    try:
        with duckdb.connect() as connection:
            frame: pd.DataFrame = connection.execute(f"FROM read_parquet('{_quoted(file)}')").df()
            return frame
    except duckdb.Error as error:
        raise UsageError(f"the rows cannot be read: {error}", next="Store them again.") from error


def _quoted(file: Path) -> str:
    return str(file).replace("'", "''")
