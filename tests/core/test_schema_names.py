"""Statements of scripts in a database where the project's schemas have other names."""

from __future__ import annotations

import pytest
from sqlglot.dialects.dialect import Dialect

from inchworm.core.sql.parse import parse_query
from inchworm.core.sql.problems import NameFromParameter, SqlProblem, WritingQuery
from inchworm.core.sql.schema_names import with_physical_schemas

DIALECTS = ("duckdb", "postgres", "sqlite")


def renamed(statement: str, dialect: str = "postgres", *schemas: str) -> str:
    """The statement where ``ref``, ``ops`` and the given schemas begin with ``ada_``."""
    ours = {"ref", "ops", *schemas}
    return with_physical_schemas(
        statement, lambda name: f"ada_{name}" if name in ours else name, dialect, dialect
    )


@pytest.mark.parametrize("dialect", ["duckdb", "postgres"])
def test_an_index_has_the_order_that_sqlite_gives_it(dialect: str) -> None:
    """Which has no words for where the nulls go in an index."""
    statement = "CREATE INDEX i ON ops.t (a, b DESC)"
    made = with_physical_schemas(statement, lambda name: f"ada_{name}", dialect, "sqlite")
    assert made == 'CREATE INDEX "ada_ops".i ON t(a, b DESC)'


@pytest.mark.parametrize("dialect", DIALECTS)
def test_every_word_of_the_dialect_is_renamed_where_a_schema_stands(dialect: str) -> None:
    """A schema may be called as any word that the tokenizer takes for something else."""
    words = sorted(
        word.lower()
        for word in Dialect.get_or_raise(dialect).tokenizer_class.KEYWORDS
        if word.isidentifier()
    )
    assert {"ref", "map", "date", "settings", "index", "session"} & set(words)
    for word in words:
        for template in (
            "DELETE FROM {}.rate",
            "INSERT INTO {}.rate SELECT * FROM {}.other",
            "UPDATE {}.rate SET x = 1 WHERE {}.rate.y = 2",
            "CREATE TABLE {}.rate (x INTEGER)",
            "DROP TABLE IF EXISTS {}.rate",
            'DELETE FROM "{}" . "rate"',
        ):
            statement = template.replace("{}", word)
            wanted = template.replace('"{}"', "{}").replace("{}", f'"ada_{word}"')
            assert renamed(statement, dialect, word) == wanted


@pytest.mark.parametrize(
    ("dialect", "statement", "wanted"),
    [
        ("postgres", "CALL ref.f(1)", 'CALL "ada_ref".f(1)'),
        ("postgres", "VACUUM ref.rate", 'VACUUM "ada_ref".rate'),
        (
            "postgres",
            "GRANT USAGE ON SCHEMA ref, ops TO x",
            'GRANT USAGE ON SCHEMA "ada_ref", "ada_ops" TO x',
        ),
        ("postgres", "ALTER TABLE a.b SET SCHEMA ref", 'ALTER TABLE a.b SET SCHEMA "ada_ref"'),
        ("postgres", "SET search_path TO ref, public", 'SET search_path TO "ada_ref", public'),
        ("duckdb", "USE ref", 'USE "ada_ref"'),
        ("postgres", "SELECT nextval('ref.s')", "SELECT nextval('ada_ref.s')"),
        ("postgres", "SELECT nextval('\"ref\".s')", "SELECT nextval('\"ada_ref\".s')"),
        ("postgres", "CREATE SCHEMA IF NOT EXISTS ref", 'CREATE SCHEMA IF NOT EXISTS "ada_ref"'),
        ("duckdb", "DELETE FROM river.ref.rate", 'DELETE FROM river."ada_ref".rate'),
        ("sqlite", "DELETE FROM 'ref'.'rate'", "DELETE FROM \"ada_ref\".'rate'"),
        ("sqlite", "DELETE FROM [ref].rate", 'DELETE FROM "ada_ref".rate'),
        (
            "postgres",
            "SELECT nextval('ref.s'), 'ref.t'::regclass, regclass 'ref.t'",
            "SELECT nextval('ada_ref.s'), 'ada_ref.t'::regclass, regclass 'ada_ref.t'",
        ),
        (  # an alias or a table may have the name of a schema
            "postgres",
            "UPDATE ref.rate AS ref SET x = 1 WHERE ref.id = (SELECT max(id) FROM ref.y)",
            'UPDATE "ada_ref".rate AS ref SET x = 1 WHERE ref.id = '
            '(SELECT max(id) FROM "ada_ref".y)',
        ),
        ("postgres", "UPDATE ref.ref SET x = ref.id", 'UPDATE "ada_ref".ref SET x = ref.id'),
        ("postgres", 'DELETE FROM "Ref".rate', 'DELETE FROM "Ref".rate'),
        (  # data are data
            "postgres",
            "INSERT INTO ref.t VALUES ('ada@ops.example', $$ops.x$$)",
            "INSERT INTO \"ada_ref\".t VALUES ('ada@ops.example', $$ops.x$$)",
        ),
    ],
)
def test_wherever_a_schema_can_stand(dialect: str, statement: str, wanted: str) -> None:
    """And nowhere else."""
    assert renamed(statement, dialect) == wanted


@pytest.mark.parametrize(
    ("dialect", "statement"),
    [
        ("postgres", "DO $$ BEGIN DELETE FROM ref.rate; END $$"),
        ("postgres", "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS 'DELETE FROM ref.rate'"),
        ("postgres", "DO $$ BEGIN EXECUTE format('DELETE FROM %I.rate', 'ref'); END $$"),
        ("postgres", "SELECT run('DELETE FROM ref.rate')"),
        ("postgres", "SELECT 'ref.f(int)'::regprocedure"),
        ("duckdb", "SELECT * FROM query('SELECT * FROM ref.rate')"),
    ],
)
def test_a_name_inside_a_text_that_may_run_is_refused(dialect: str, statement: str) -> None:
    """It would reach the schema of that very name; elsewhere the same statement is as it was."""
    with pytest.raises(SqlProblem, match="names the schema ref inside a text"):
        renamed(statement, dialect)
    assert with_physical_schemas(statement, lambda name: name, dialect, dialect) == statement


@pytest.mark.parametrize(
    "query",
    [
        "WITH gone AS (DELETE FROM ops.rate RETURNING *) SELECT * FROM gone",
        "WITH a AS (SELECT 1), b AS (UPDATE ops.rate SET x = 1 RETURNING x) SELECT * FROM a, b",
        "SELECT * FROM (WITH n AS (INSERT INTO ops.rate VALUES (1) RETURNING x) SELECT * FROM n) t",
        "SELECT x INTO ops.copy FROM ops.rate",
        "SELECT 1 UNION ALL SELECT x FROM (SELECT x INTO ops.copy FROM ops.rate) t",
    ],
)
def test_a_query_only_reads(query: str) -> None:
    """A statement that writes is found wherever it stands."""
    with pytest.raises(WritingQuery, match="which writes"):
        parse_query(query, "postgres")


@pytest.mark.parametrize(
    ("query", "dialect", "says"),
    [
        ("SELECT x FROM ops.rate FOR UPDATE", "postgres", "FOR UPDATE, which locks rows"),
        ("SELECT x FROM (SELECT x FROM a.b FOR SHARE) t", "postgres", "FOR SHARE"),
        ("SELECT x FROM a.b LOCK IN SHARE MODE", "mysql", "FOR SHARE, which locks rows"),
        ("SELECT x FROM a.b WITH (UPDLOCK)", "tsql", "the hint UPDLOCK, which locks"),
        ("SELECT nextval('a.s') AS id", "duckdb", "calls nextval, which does more than read"),
        (
            "SELECT * FROM (SELECT Set_Config('a', 'b', false)) c",
            "postgres",
            "set_config",
        ),
        ("SELECT 1 WHERE pg_advisory_lock(1) IS NULL", "postgres", "pg_advisory_lock"),
    ],
)
def test_a_query_neither_locks_nor_calls_what_writes(query: str, dialect: str, says: str) -> None:
    """Wherever in the tree it stands."""
    with pytest.raises(WritingQuery, match=says):
        parse_query(query, dialect)


@pytest.mark.parametrize(
    "query",
    [
        "SELECT x FROM :there",
        "SELECT x FROM ops.:there",
        "SELECT t.:there FROM ops.t AS t",
        "SELECT 1 FROM a.b JOIN :there USING (x)",
    ],
)
@pytest.mark.parametrize("dialect", ["postgres", "duckdb", "sqlite"])
def test_no_name_comes_from_a_parameter(query: str, dialect: str) -> None:
    """It is a value; elsewhere the same parameter is fine."""
    with pytest.raises(NameFromParameter, match="from the parameter there"):
        parse_query(query, dialect)
    assert parse_query("SELECT x FROM a.b WHERE x = :there ORDER BY :there", dialect)


@pytest.mark.parametrize(
    "query",
    [
        "SELECT 'DELETE FROM x' AS text, replace(a, 'b', 'c') AS r FROM ops.rate",
        'SELECT "update", updated_at AS "into" FROM ops.rate',
    ],
)
def test_words_alone_do_not_write(query: str) -> None:
    """In texts, functions and names of columns."""
    assert parse_query(query, "postgres").sql(dialect="postgres")
