"""Functions through which a query reads files, other servers, or runs a text as SQL."""

from __future__ import annotations

from collections.abc import Mapping

from sqlglot import exp

from inchworm.core.sql.constructs import function_name

_OF_FILES = """
    read_csv read_csv_auto sniff_csv read_parquet parquet_scan parquet_metadata parquet_schema
    parquet_file_metadata parquet_kv_metadata parquet_bloom_probe read_json read_json_auto
    read_ndjson read_ndjson_auto read_json_objects read_json_objects_auto read_ndjson_objects
    read_text read_blob read_xlsx read_avro glob st_read st_read_meta delta_scan iceberg_scan
    iceberg_metadata iceberg_snapshots read_duckdb sqlite_scan sqlite_attach postgres_scan
    postgres_scan_pushdown postgres_query postgres_attach mysql_scan mysql_query
    pg_read_file pg_read_binary_file pg_ls_dir pg_ls_logdir pg_ls_waldir pg_ls_tmpdir
    pg_ls_archive_statusdir pg_stat_file readfile fsdir load_file read_files
    openrowset openquery opendatasource external_query dblink dblink_open dblink_fetch
    dblink_get_result http_get http_post
"""
_OF_SQL = """
    query query_table query_to_xml query_to_xmlschema query_to_xml_and_xmlschema ts_stat crosstab
    crosstab2 crosstab3 crosstab4 connectby json_execute_serialized_sql
"""
READERS = frozenset(_OF_FILES.split())
"""Functions that read files or other servers, by their folded names."""
RUNNERS = frozenset(_OF_SQL.split())
"""Functions that run a text as SQL, so that nothing can be known of what they read."""
_OF_CLICKHOUSE = """
    url file s3 s3cluster hdfs remote remotesecure mysql mongodb postgresql sqlite odbc jdbc
    executable azureblobstorage gcs redis
"""
_READERS_IN_FROM: Mapping[str, frozenset[str]] = {"clickhouse": frozenset(_OF_CLICKHOUSE.split())}
"""Functions that mean something else outside of FROM, by dialect."""
_ENDINGS = (".csv", ".tsv", ".parquet", ".json", ".jsonl", ".ndjson", ".gz", ".zst", ".xlsx", ".db")


def reader_in(item: exp.Expr, dialect: str) -> bool:
    """Whether the function of a FROM item reads outside, though elsewhere it would not."""
    return function_name(item) in _READERS_IN_FROM.get(dialect, frozenset())


def looks_like_file(table: exp.Table, dialect: str) -> bool:
    """Whether a table reference of DuckDB is the path or address of a file."""
    name = table.this
    if dialect != "duckdb" or not isinstance(name, exp.Identifier) or table.args.get("db"):
        return False
    text = name.name.lower()
    return bool(name.args.get("quoted")) and (text.endswith(_ENDINGS) or "://" in text)


def place_of(call: exp.Expr) -> str | None:
    """The place that a function reads, parameters as ``${name}``; None if it cannot be told."""
    arguments = _arguments(call)
    return _text(arguments[0]) if arguments else None


def _arguments(call: exp.Expr) -> list[exp.Expr]:
    """The arguments by position; a function that the parser knows may have its first one apart."""
    first = call.this
    is_apart = isinstance(first, exp.Expr) and not isinstance(call, exp.Anonymous)
    return [first] if is_apart else call.expressions


def _text(node: exp.Expr) -> str | None:
    match node:
        case exp.Literal():
            return str(node.this)
        case exp.Placeholder() if isinstance(node.this, str):
            return f"${{{node.this}}}"
        case exp.Paren():
            return _text(node.this)
        case exp.DPipe():
            return _joined([node.this, node.expression])
        case exp.Concat():
            return _joined(node.expressions)
        case exp.Array() if len(node.expressions) == 1:
            return _text(node.expressions[0])
    return None


def _joined(nodes: list[exp.Expr]) -> str | None:
    texts = [_text(node) for node in nodes]
    return None if None in texts else "".join(text for text in texts if text is not None)


def places_of(call: exp.Expr) -> list[str | None]:
    """Every place that a function reads: several where it is given a list."""
    arguments = _arguments(call)
    if arguments and isinstance(arguments[0], exp.Array):
        return [_text(each) for each in arguments[0].expressions]
    return [place_of(call)]
