"""What the resolver says a query's columns and rows come from."""

from __future__ import annotations

import pytest

from inchworm.core.lineage.graph import How, Node
from inchworm.core.sql.columns import Resolution, resolve
from inchworm.core.sql.declared import Declared
from inchworm.core.sql.parse import parse_query
from inchworm.core.structure.tables import Column, Table

TABLES = {
    table.name: table
    for table in (
        Table("raw.reading", tuple(Column(n) for n in ("gauge_id", "taken_at", "level_cm"))),
        Table("ref.gauge", tuple(Column(n) for n in ("gauge_id", "name", "river"))),
        Table("ext.feed", (), open=True),
    )
}


SOURCES = Declared(reads={"levels": "levels.csv"})


def resolved(sql: str, dialect: str = "duckdb") -> Resolution:
    return resolve(parse_query(sql, dialect), TABLES, dialect, lambda: SOURCES)


def spelled(resolution: Resolution) -> dict[str, set[str]]:
    """``{"peak": {"computed raw.reading.level_cm"}, "": {"rows ..."}}``; "" stands for the rows."""
    said = {
        column.name: {f"{how} {node}" for node, how in column.sources}
        for column in resolution.columns
    }
    return said | {"": {f"{how} {node}" for node, how in resolution.rows}}


LEVEL, GAUGE, TAKEN = "raw.reading.level_cm", "raw.reading.gauge_id", "raw.reading.taken_at"
NAME, REF = "ref.gauge.name", "ref.gauge.gauge_id"

CASES = {
    "a plain column is copied": (
        "SELECT level_cm FROM raw.reading",
        {"level_cm": {f"copied {LEVEL}"}, "": set()},
    ),
    "an alias and parentheses keep a copy": (
        "SELECT (r.level_cm) AS x FROM raw.reading r",
        {"x": {f"copied {LEVEL}"}, "": set()},
    ),
    "a cast computes": (
        "SELECT level_cm::INT AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}"}, "": set()},
    ),
    "CASE takes its conditions too": (
        "SELECT CASE WHEN level_cm > 0 THEN gauge_id END AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}", f"computed {GAUGE}"}, "": set()},
    ),
    "group keys decide rows, by ordinal and alias": (
        "SELECT date_trunc('hour', taken_at) AS h, max(level_cm) AS m FROM raw.reading GROUP BY h",
        {"h": {f"computed {TAKEN}"}, "m": {f"computed {LEVEL}"}, "": {f"rows {TAKEN}"}},
    ),
    "GROUP BY ALL means what is not aggregated": (
        "SELECT gauge_id, count(*) AS n FROM raw.reading GROUP BY ALL",
        {"gauge_id": {f"copied {GAUGE}"}, "n": set(), "": {f"rows {GAUGE}"}},
    ),
    "WHERE and HAVING decide rows": (
        "SELECT gauge_id FROM raw.reading WHERE level_cm > 0 GROUP BY 1 HAVING max(taken_at) > 0",
        {
            "gauge_id": {f"copied {GAUGE}"},
            "": {f"rows {LEVEL}", f"rows {GAUGE}", f"rows {TAKEN}"},
        },
    ),
    "USING merges both sides": (
        "SELECT gauge_id, name FROM raw.reading JOIN ref.gauge USING (gauge_id)",
        {
            "gauge_id": {f"copied {GAUGE}", f"copied {REF}"},
            "name": {f"copied {NAME}"},
            "": {f"rows {GAUGE}", f"rows {REF}"},
        },
    ),
    "NATURAL joins by what both have": (
        "SELECT name, level_cm FROM raw.reading NATURAL JOIN ref.gauge",
        {
            "name": {f"copied {NAME}"},
            "level_cm": {f"copied {LEVEL}"},
            "": {f"rows {GAUGE}", f"rows {REF}"},
        },
    ),
    "a star leaves out and replaces": (
        "SELECT * EXCLUDE (taken_at) REPLACE (level_cm + 1 AS level_cm) FROM raw.reading",
        {"gauge_id": {f"copied {GAUGE}"}, "level_cm": {f"computed {LEVEL}"}, "": set()},
    ),
    "a CTE hides a table of its name": (
        "WITH reading AS (SELECT name AS level_cm FROM ref.gauge) SELECT level_cm FROM reading",
        {"level_cm": {f"copied {NAME}"}, "": set()},
    ),
    "a CTE that is not used adds nothing": (
        "WITH spare AS (SELECT * FROM raw.reading WHERE level_cm > 0) SELECT name FROM ref.gauge",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "a recursive CTE reaches its fixed point": (
        "WITH RECURSIVE c(n, m) AS (SELECT gauge_id, 0 FROM ref.gauge UNION ALL "
        "SELECT m, n FROM c WHERE n < 9) SELECT m FROM c",
        {"m": {f"copied {REF}"}, "": {f"rows {REF}"}},
    ),
    "set operations go by position": (
        "SELECT name FROM ref.gauge UNION ALL SELECT river FROM ref.gauge",
        {"name": {f"copied {NAME}", "copied ref.gauge.river"}, "": set()},
    ),
    "a distinct set operation compares all columns": (
        "SELECT name FROM ref.gauge UNION SELECT river FROM ref.gauge",
        {
            "name": {f"copied {NAME}", "copied ref.gauge.river"},
            "": {f"rows {NAME}", "rows ref.gauge.river"},
        },
    ),
    "EXCEPT takes values from the left only": (
        "SELECT name FROM ref.gauge EXCEPT SELECT river FROM ref.gauge",
        {"name": {f"copied {NAME}"}, "": {f"rows {NAME}", "rows ref.gauge.river"}},
    ),
    "a window's partition and order compute": (
        "SELECT row_number() OVER (PARTITION BY gauge_id ORDER BY taken_at) AS n FROM raw.reading",
        {"n": {f"computed {GAUGE}", f"computed {TAKEN}"}, "": set()},
    ),
    "a named window is looked up": (
        "SELECT sum(level_cm) OVER w AS s FROM raw.reading WINDOW w AS (ORDER BY taken_at)",
        {"s": {f"computed {LEVEL}", f"computed {TAKEN}"}, "": set()},
    ),
    "QUALIFY decides rows": (
        "SELECT name FROM ref.gauge QUALIFY row_number() OVER (ORDER BY river) = 1",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river"}},
    ),
    "a scalar subquery computes, its conditions too": (
        "SELECT (SELECT max(level_cm) FROM raw.reading r WHERE r.gauge_id = g.gauge_id) AS top "
        "FROM ref.gauge g",
        {"top": {f"computed {LEVEL}", f"computed {GAUGE}", f"computed {REF}"}, "": set()},
    ),
    "EXISTS decides rows, its select list does not": (
        "SELECT name FROM ref.gauge g WHERE EXISTS "
        "(SELECT level_cm FROM raw.reading r WHERE r.gauge_id = g.gauge_id)",
        {"name": {f"copied {NAME}"}, "": {f"rows {GAUGE}", f"rows {REF}"}},
    ),
    "an order alone is no edge": (
        "SELECT name FROM ref.gauge ORDER BY river",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "an order under a limit is": (
        "SELECT name FROM ref.gauge ORDER BY river LIMIT 3",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river"}},
    ),
    "DISTINCT ON and its order decide rows": (
        "SELECT DISTINCT ON (river) name FROM ref.gauge ORDER BY gauge_id",
        {"name": {f"copied {NAME}"}, "": {"rows ref.gauge.river", f"rows {REF}"}},
    ),
    "an own alias can be used again": (
        "SELECT level_cm + 1 AS a, a * 2 AS b FROM raw.reading",
        {"a": {f"computed {LEVEL}"}, "b": {f"computed {LEVEL}"}, "": set()},
    ),
    "a lambda's variable is no column": (
        "SELECT list_transform([level_cm], name -> name + gauge_id) AS x FROM raw.reading",
        {"x": {f"computed {LEVEL}", f"computed {GAUGE}"}, "": set()},
    ),
    "a derived table's columns can be renamed": (
        "SELECT b FROM (SELECT name, river FROM ref.gauge) AS d(a, b)",
        {"b": {"copied ref.gauge.river"}, "": set()},
    ),
    "VALUES come from nowhere": (
        "SELECT v.n, name FROM ref.gauge JOIN (VALUES (1)) AS v(n) ON v.n = gauge_id",
        {"n": set(), "name": {f"copied {NAME}"}, "": {f"rows {REF}"}},
    ),
    "an unnested list multiplies rows": (
        "SELECT gauge_id, unnest([name]) AS u FROM ref.gauge",
        {"gauge_id": {f"copied {REF}"}, "u": {f"computed {NAME}"}, "": {f"rows {NAME}"}},
    ),
    "a lateral join reads what stands before it": (
        "SELECT l.x FROM ref.gauge g, LATERAL (SELECT g.name AS x) l",
        {"x": {f"copied {NAME}"}, "": set()},
    ),
    "a pivot computes its columns and groups by the others": (
        "SELECT * FROM raw.reading PIVOT (max(level_cm) FOR gauge_id IN (1 AS one, 2 AS two))",
        {
            "taken_at": {f"copied {TAKEN}"},
            "one": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "two": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "": {f"rows {TAKEN}"},
        },
    ),
    "a pivot statement groups as it says": (
        "PIVOT raw.reading ON gauge_id IN (1) USING max(level_cm) GROUP BY taken_at",
        {
            "taken_at": {f"copied {TAKEN}"},
            "1": {f"computed {LEVEL}", f"computed {GAUGE}"},
            "": {f"rows {TAKEN}"},
        },
    ),
    "an unpivot copies into its value and leaves nulls out": (
        "SELECT * FROM ref.gauge UNPIVOT (word FOR what IN (name, river))",
        {
            "gauge_id": {f"copied {REF}"},
            "what": set(),
            "word": {f"copied {NAME}", "copied ref.gauge.river"},
            "": {f"rows {NAME}", "rows ref.gauge.river"},
        },
    ),
    "a join in parentheses has the columns of both under its alias": (
        "SELECT j.p, j.name FROM (raw.reading JOIN ref.gauge USING (gauge_id)) AS j(p)",
        {
            "p": {f"copied {GAUGE}", f"copied {REF}"},
            "name": {f"copied {NAME}"},
            "": {f"rows {GAUGE}", f"rows {REF}"},
        },
    ),
    "a table in parentheses": (
        "SELECT x.name FROM (ref.gauge) AS x",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "a count of rows has a name of its own": (
        'SELECT "count_star()" AS n FROM (SELECT count(*) FROM raw.reading) AS q',
        {"n": set(), "": set()},
    ),
    "a lambda in a lambda has the names of both": (
        "SELECT list_transform([1], x -> list_transform([2], y -> x + y + gauge_id)) AS l "
        "FROM raw.reading",
        {"l": {f"computed {GAUGE}"}, "": set()},
    ),
    "a condition of a comprehension computes": (
        "SELECT [x + 1 for x in [1, 2] if x > gauge_id] AS l FROM raw.reading",
        {"l": {f"computed {GAUGE}"}, "": set()},
    ),
    "a table's name as a text": (
        "SELECT name FROM 'ref.gauge'",
        {"name": {f"copied {NAME}"}, "": set()},
    ),
    "a series is called as its function": (
        "SELECT range AS n, generate_series AS m FROM range(3), generate_series(1, 3)",
        {"n": set(), "m": set(), "": set()},
    ),
    "an open table gives any column": (
        "SELECT anything FROM ext.feed",
        {"anything": {"copied ext.feed.anything"}, "": set()},
    ),
}


@pytest.mark.parametrize(("sql", "expected"), CASES.values(), ids=CASES.keys())
def test_sources(sql: str, expected: dict[str, set[str]]) -> None:
    """Each construct has exactly the sources that the conventions give it."""
    found = resolved(sql)
    assert spelled(found) == expected
    assert found.problems == ()


@pytest.mark.parametrize(
    ("dialect", "sql"),
    [
        ("postgres", "SELECT generate_series FROM generate_series(1, 3)"),
        ("postgres", "SELECT g FROM generate_series(1, 3) AS g"),
        ("postgres", "SELECT t.n FROM generate_series(1, 3) AS t(n)"),
        ("postgres", "SELECT u FROM unnest(ARRAY[1, 2]) AS u"),
        ("duckdb", "SELECT g.range FROM range(3) AS g"),
        ("sqlite", "SELECT value FROM generate_series(1, 3)"),
    ],
)
def test_rows_of_functions_are_known(dialect: str, sql: str) -> None:
    """A function of one column gives it its own name, or that which it has here."""
    assert resolved(sql, dialect).problems == ()


def test_a_function_that_is_not_understood_is_called_as_it_is_written() -> None:
    sql = "SELECT * FROM json_table('[]', '$[*]' COLUMNS (id int PATH '$.a')) AS t"
    (problem,) = resolved(sql, "postgres").problems
    assert problem.name == "table function json_table"


@pytest.mark.parametrize(
    ("sql", "kind", "name", "line", "suggestion"),
    [
        ("SELECT nme FROM ref.gauge", "unknown-column", "nme", 1, "name"),
        ("SELECT 1\nFROM ref.gage", "unknown-table", "ref.gage", 2, "ref.gauge"),
        (
            "SELECT gauge_id\nFROM raw.reading, ref.gauge",
            "ambiguous-column",
            "gauge_id",
            1,
            None,
        ),
        ("SELECT q.name FROM ref.gauge g", "unknown-table", "q", 1, None),
        (
            "SELECT level_cm FROM raw.reading\nJOIN ref.gauge USING (river)",
            "unknown-column",
            "river",
            2,
            None,
        ),
        (
            "SELECT level_cm FROM ref.gauge JOIN raw.reading USING (name)",
            "unknown-column",
            "name",
            1,
            None,
        ),
        ("SELECT 1 AS a,\nq.* FROM ref.gauge g", "unknown-table", "q", 2, None),
    ],
    ids=[
        *("unknown column", "unknown table", "ambiguous column", "unknown alias"),
        *("a key that is not on the left", "a key that is not on the right"),
        "unknown alias of a star",
    ],
)
def test_problems(sql: str, kind: str, name: str, line: int, suggestion: str | None) -> None:
    """What is wrong is reported with its line, and with the nearest name if one is near."""
    (problem,) = resolved(sql).problems
    assert (problem.kind, problem.name, problem.line) == (kind, name, line)
    assert problem.suggestion == suggestion


def test_a_column_that_does_not_exist_still_counts_as_read() -> None:
    """Its readers further down must be known, so the edge from it stays."""
    found = spelled(resolved("SELECT r.depth AS d FROM raw.reading r"))
    assert found["d"] == {"copied raw.reading.depth"}


@pytest.mark.parametrize("path", ["'levels.csv'", "('levels.csv')", "('levels' || ('.csv'))"])
def test_a_path_is_that_of_a_declared_place_however_it_is_written(path: str) -> None:
    found = resolved(f"SELECT x FROM read_csv({path})")
    assert {str(node) for node, _ in found.rows} == {"place levels"}
    assert [problem.kind for problem in found.problems] == ["not-understood"]
    other = resolved(f"SELECT x FROM read_csv({path})".replace("levels", "others"))
    assert {problem.kind for problem in other.problems} == {"reaches-outside", "not-understood"}


def test_a_pivot_over_the_data_depends_on_everything_and_says_so() -> None:
    """What is not followed is never dropped."""
    found = resolved("PIVOT raw.reading ON gauge_id USING max(level_cm)")
    assert [problem.kind for problem in found.problems] == ["not-understood"]
    assert {str(node) for node, _ in found.rows} == {LEVEL, GAUGE, TAKEN}
    assert found.open


@pytest.mark.parametrize("dialect", ["duckdb", "postgres", "sqlite", "mysql", "spark"])
def test_dialects_agree_on_plain_sql(dialect: str) -> None:
    """The same plain query has the same sources in every dialect."""
    sql = (
        "WITH r AS (SELECT gauge_id, level_cm FROM raw.reading WHERE taken_at > 0) "
        "SELECT g.name, max(r.level_cm) AS top FROM r JOIN ref.gauge g ON g.gauge_id = r.gauge_id "
        "GROUP BY g.name"
    )
    assert spelled(resolved(sql, dialect)) == {
        "name": {f"copied {NAME}"},
        "top": {f"computed {LEVEL}"},
        "": {f"rows {TAKEN}", f"rows {GAUGE}", f"rows {REF}", f"rows {NAME}"},
    }


@pytest.mark.parametrize(
    ("dialect", "sql", "same"),
    [
        ("duckdb", 'SELECT "Name" FROM ref.gauge', True),
        ("postgres", 'SELECT "Name" FROM ref.gauge', False),
        ("postgres", "SELECT NAME FROM REF.Gauge", True),
        ("snowflake", 'SELECT "NAME" FROM ref.gauge', True),
        ("mysql", "SELECT `Name`, NAME FROM `ref`.`Gauge`", True),
        ("clickhouse", "SELECT `Name` FROM ref.gauge WHERE River = ''", True),
    ],
)
def test_case_of_names(dialect: str, sql: str, same: bool) -> None:
    """Quotes make case count where the dialect says so."""
    assert (resolved(sql, dialect).problems == ()) is same


# ---- nothing is left out -------------------------------------------------------------------------

READS_ONLY = {
    "an order that decides no rows": (
        "SELECT name FROM ref.gauge ORDER BY river",
        {NAME, "ref.gauge.river"},
    ),
    "the list of an EXISTS": (
        "SELECT 1 AS x WHERE EXISTS (SELECT river FROM ref.gauge)",
        {"ref.gauge.river"},
    ),
    "a column of a CTE that nobody reads": (
        "WITH q AS (SELECT name, river FROM ref.gauge) SELECT name FROM q",
        {NAME, "ref.gauge.river"},
    ),
    "a window that nobody uses": (
        "SELECT name FROM ref.gauge WINDOW w AS (ORDER BY river)",
        {NAME, "ref.gauge.river"},
    ),
    "an order behind a union": (
        "(SELECT name FROM ref.gauge UNION ALL SELECT river FROM ref.gauge) ORDER BY name",
        {NAME, "ref.gauge.river"},
    ),
}


@pytest.mark.parametrize(("sql", "used"), READS_ONLY.values(), ids=READS_ONLY.keys())
def test_a_named_column_is_read(sql: str, used: set[str]) -> None:
    """Also where its value reaches no column, and decides no rows."""
    found = resolved(sql)
    assert set(map(str, found.used)) == used
    assert found.rows == frozenset()
    assert [p.name for p in resolved(sql.replace("river", "rver")).problems] == ["rver"]


@pytest.mark.parametrize(
    ("key", "decides"),
    [
        ("1", {"ref.gauge.name"}),
        ("2", {"ref.gauge.river"}),
        ("(2)", {"ref.gauge.river"}),
        ("(1, 2)", {"ref.gauge.name", "ref.gauge.river"}),
        ("0", set()),
        ("3", set()),
        ("'2'", set()),
        ("2.0", set()),
        ("river", {"ref.gauge.river"}),
    ],
)
def test_a_whole_number_is_the_place_of_a_column(key: str, decides: set[str]) -> None:
    """Where there is one at that place; a text or a fraction is a value as any other."""
    found = resolved(f"SELECT DISTINCT ON ({key}) name, river FROM ref.gauge")
    assert {str(node) for node, _ in found.rows} == decides


DECIDING = {
    "LIMIT": ("duckdb", "SELECT name FROM ref.gauge LIMIT (SELECT max(level_cm) FROM raw.reading)"),
    "OFFSET": (
        "duckdb",
        "SELECT name FROM ref.gauge OFFSET (SELECT max(level_cm) FROM raw.reading)",
    ),
    "FETCH": (
        "postgres",
        "SELECT name FROM ref.gauge FETCH FIRST (SELECT max(level_cm) FROM raw.reading) ROWS ONLY",
    ),
    "TOP": ("tsql", "SELECT TOP (SELECT max(level_cm) FROM raw.reading) name FROM ref.gauge"),
    "LIMIT BY": ("clickhouse", "SELECT gauge_id FROM raw.reading LIMIT 2 BY level_cm"),
    "PREWHERE": ("clickhouse", "SELECT gauge_id FROM raw.reading FINAL PREWHERE level_cm > 1"),
    "CONNECT BY": (
        "oracle",
        "SELECT gauge_id FROM raw.reading START WITH 1 = 1 CONNECT BY PRIOR level_cm = 2",
    ),
}


@pytest.mark.parametrize(("dialect", "sql"), DECIDING.values(), ids=DECIDING.keys())
def test_every_clause_that_decides_rows(dialect: str, sql: str) -> None:
    """Including those that only one engine has, and subqueries in them."""
    found = resolved(sql, dialect)
    assert {f"{how} {node}" for node, how in found.rows} == {f"rows {LEVEL}"}
    assert "raw.reading" in found.tables
    assert found.problems == ()


NOTED = {
    "MATCH_RECOGNIZE": (
        "snowflake",
        "SELECT m FROM raw.reading MATCH_RECOGNIZE (PARTITION BY gauge_id ORDER BY taken_at "
        "MEASURES level_cm AS m PATTERN (x+) DEFINE x AS level_cm > 1)",
    ),
    "table as an argument": ("snowflake", "SELECT m FROM TABLE(f(TABLE(raw.reading)))"),
    "table function predict": (
        "bigquery",
        "SELECT m FROM ML.PREDICT(MODEL forecast.level, TABLE raw.reading)",
    ),
    "DESCRIBE": ("duckdb", "SELECT m FROM (DESCRIBE raw.reading)"),
    "COLUMNS with a condition": ("duckdb", "SELECT COLUMNS(c -> c LIKE 'l%') FROM raw.reading"),
    "table function f": ("postgres", "SELECT x.m FROM raw.reading r, f(r) AS x"),
    "table function read_csv": (
        "duckdb",
        "SELECT m, r.level_cm FROM raw.reading r, read_csv('levels.csv', header = true)",
    ),
}


@pytest.mark.parametrize(
    ("note", "dialect", "sql"),
    [(note, *given) for note, given in NOTED.items()],
    ids=NOTED.keys(),
)
def test_what_is_not_followed_is_noted(note: str, dialect: str, sql: str) -> None:
    """With its line; the table counts as read, and columns of unknown origin are believed."""
    found = resolved(f"\n{sql}", dialect)
    notes = [problem for problem in found.problems if problem.name == note]
    assert {(problem.kind, problem.line) for problem in notes} <= {("not-understood", 2)}
    assert notes
    assert {problem.kind for problem in found.problems} == {"not-understood"}
    assert "raw.reading" in found.tables
    sources = {n for c in found.columns for n, _ in c.sources} | {n for n, _ in found.rows}
    assert Node("raw.reading", "level_cm") in sources or Node("raw.reading") in sources


BELIEVED = {
    "a table function": ("postgres", "SELECT x, f.y FROM f(1)", {"x": set(), "y": set()}),
    "the fields of a struct": (
        "duckdb",
        "SELECT x FROM (SELECT level_cm.* FROM raw.reading)",
        {"x": {f"computed {LEVEL}"}},
    ),
    "unnested structs": (
        "duckdb",
        "SELECT x FROM (SELECT unnest(level_cm) FROM raw.reading)",
        {"x": {f"computed {LEVEL}"}},
    ),
    "a table of every database": (
        "postgres",
        "SELECT table_name FROM information_schema.tables",
        {"table_name": set()},
    ),
    "a system table without its schema": (
        "postgres",
        "SELECT relname FROM pg_class",
        {"relname": set()},
    ),
    "dual": ("oracle", "SELECT 1 AS one FROM dual", {"one": set()}),
    "columns by a pattern": (
        "duckdb",
        "SELECT COLUMNS('.*_id') FROM raw.reading",
        {"gauge_id": {f"copied {GAUGE}"}},
    ),
    "a walk over rows": (
        "postgres",
        "WITH RECURSIVE t(a) AS (SELECT level_cm FROM raw.reading UNION ALL SELECT a FROM t) "
        "SEARCH DEPTH FIRST BY a SET seq CYCLE a SET again USING path "
        "SELECT again, path, seq FROM t",
        {name: {f"computed {LEVEL}"} for name in ("again", "path", "seq")},
    ),
    "by position": ("snowflake", "SELECT t.$1 AS x FROM raw.reading t", None),
}


@pytest.mark.parametrize(("dialect", "sql", "expected"), BELIEVED.values(), ids=BELIEVED.keys())
def test_columns_that_only_the_database_knows(
    dialect: str, sql: str, expected: dict[str, set[str]] | None
) -> None:
    """They are believed, and come from whatever their relation comes from."""
    found = resolved(sql, dialect)
    assert {p.kind for p in found.problems} <= {"not-understood"}
    if expected is not None:
        said = spelled(found)
        assert {name: said[name] for name in expected} == expected


@pytest.mark.parametrize(
    ("dialect", "hidden", "unknown"),
    [
        ("duckdb", "rowid", "level oid ctid rownum"),
        ("sqlite", "rowid _rowid_ oid", "level ctid rownum"),
        ("postgres", "ctid xmin xmax cmin cmax tableoid", "level oid rowid"),
        ("oracle", "rowid rownum level", "oid ctid"),
    ],
)
def test_columns_that_no_declaration_names(dialect: str, hidden: str, unknown: str) -> None:
    """What is hidden in one product is plain in another, and has to be there."""
    for name in hidden.split():
        assert not resolved(f"SELECT {name}, r.{name} FROM raw.reading r", dialect).problems
    for name in unknown.split():
        (problem,) = resolved(f"SELECT {name} FROM raw.reading", dialect).problems
        assert (problem.kind, problem.name) == ("unknown-column", name)


JOINED = {
    "LEFT": {f"copied {GAUGE}"},
    "SEMI": {f"copied {GAUGE}"},
    "ANTI": {f"copied {GAUGE}"},
    "RIGHT": {f"copied {REF}"},
    "FULL": {f"computed {GAUGE}", f"computed {REF}"},
    "INNER": {f"copied {GAUGE}", f"copied {REF}"},
}


@pytest.mark.parametrize(("side", "key"), JOINED.items())
def test_the_key_of_a_join(side: str, key: set[str]) -> None:
    """It comes from the side that has it in every row; SEMI and ANTI show that side alone."""
    for sql in (
        "SELECT * FROM raw.reading {} JOIN ref.gauge USING (gauge_id)",
        "SELECT * FROM raw.reading NATURAL {} JOIN ref.gauge",
    ):
        found = spelled(resolved(sql.format(side)))
        assert found["gauge_id"] == key
        assert ("name" in found) is (side not in {"SEMI", "ANTI"})
        assert found[""] == {f"rows {GAUGE}", f"rows {REF}"}


COUNTS = {
    "count(river)": True,
    "count(DISTINCT river)": True,
    "CAST(count(*) AS INT)": True,
    "count(river) * 100 / count(*)": True,
    "coalesce(count(river), 0)": True,
    "max(river)": False,
    "count(river) || max(river)": False,
    "1": False,
}


@pytest.mark.parametrize(("value", "is_count"), COUNTS.items())
def test_a_count_shows_nothing_of_what_it_counts(value: str, is_count: bool) -> None:
    """Neither here nor further on; it depends on it all the same."""
    inner = f"SELECT {value} AS n FROM ref.gauge"
    for sql in (inner, f"WITH q AS ({inner}) SELECT n FROM q", f"SELECT n + 1 AS n FROM ({inner})"):
        (column,) = resolved(sql).columns
        assert column.is_count is is_count
        sources = {str(node) for node, _ in column.sources}
        assert ("ref.gauge.river" in sources) is ("river" in value)


def test_a_query_that_the_resolver_fails_on(monkeypatch: pytest.MonkeyPatch) -> None:
    """It counts with whole tables, and says so."""

    def fails(*_: object) -> None:
        raise KeyError("odd")

    monkeypatch.setattr("inchworm.core.sql.columns._Resolver._select", fails)
    found = resolved("SELECT name FROM ref.gauge")
    assert found.rows == {(Node("ref.gauge"), How.WHOLE)}
    assert [(p.kind, p.name) for p in found.problems] == [("not-taken", "KeyError: 'odd'")]
    assert found.open
