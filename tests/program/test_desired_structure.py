"""A schema that gets the structure that is wanted, through promotions, in each kind of database."""

from __future__ import annotations

import shutil

import pytest

from tests.driver import Program
from tests.once import Once

SETTINGS = 'about = "What staff keep"\nmanaged = "structure"\n'
TABLES = """\
CREATE TABLE staff.station (id INTEGER NOT NULL PRIMARY KEY, stream VARCHAR(20), note TEXT);
CREATE TABLE staff.visit (
  id INTEGER NOT NULL, station INTEGER NOT NULL REFERENCES staff.station (id), made_on DATE
);
CREATE INDEX visit_at ON staff.visit (made_on);
"""
LATER = """\
CREATE TABLE staff.gauge (id INTEGER NOT NULL PRIMARY KEY, river VARCHAR(40), height_cm INTEGER);
CREATE TABLE staff.visit (
  id INTEGER NOT NULL, station INTEGER NOT NULL REFERENCES staff.gauge (id), made_on DATE,
  by_whom TEXT DEFAULT 'unknown'
);
CREATE INDEX visit_at ON staff.visit (made_on, station);
"""
MAY_LOSE = '[databases.main]\nmay_lose = ["staff.station.note"]'
RENAMES = '[renames]\nstation = "gauge"\n"gauge.stream" = "river"\n'


@pytest.fixture
def place(anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project with a schema of wanted structure, and its development database."""
    starter, url = anywhere
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", TABLES)
    starter.write(
        "models/report/noted.sql",
        '/*---\nstore = "table"\n---*/\nSELECT id, note FROM staff.station',
    )
    return starter, url


def test_it_comes_about_and_changes_with_its_rows(place: tuple[Program, str]) -> None:
    """Renames keep values, additions need nothing, and what goes waits for the models."""
    program, url = place
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"
    program.ask(
        url,
        "INSERT INTO staff.station VALUES (1, 'Ash', 'high'), (2, 'Birch', NULL)",
        "INSERT INTO staff.visit VALUES (7, 2, '2026-03-01')",
        "SELECT 1",
    )
    program.write("schemas/staff/schema.toml", SETTINGS + RENAMES)
    program.write("schemas/staff/tables.sql", LATER)
    program.write("models/report/noted.sql", "SELECT id, river FROM staff.gauge")
    if url.startswith("sqlite"):  # a view there cannot read another schema
        program.edit("models/report/noted.sql", "SELECT", '/*---\nstore = "table"\n---*/\nSELECT')
    refused = program.promote(program.pack(), "dev", code=1).json
    lost = [f for f in refused["findings"] if f["rule"] == "schema/loses-data"]
    assert [f["message"].partition(" loses ")[2] for f in lost] == [
        "1 values of staff.station.note"
    ]
    program.edit("environments/dev.toml", "[databases.main]", MAY_LOSE)
    done = program.promote(program.pack(), "dev").json
    assert done["state"] == "done"
    assert program.ask(url, "SELECT id, river, height_cm FROM staff.gauge ORDER BY 1") == [
        (1, "Ash", None),
        (2, "Birch", None),
    ]
    assert program.ask(url, "SELECT station, by_whom FROM staff.visit") == [(2, "unknown")]
    assert program.ask(url, "SELECT river FROM report.noted ORDER BY 1")[0] == ("Ash",)
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"
    assert program("drift", "dev", "--json").json["drifted"] == []


def test_a_schema_that_nobody_chose_keeps_what_was_changed_by_hand(
    place: tuple[Program, str],
) -> None:
    program, url = place
    program.promote(program.pack(), "dev")
    program.ask(url, "ALTER TABLE staff.station ADD COLUMN mood TEXT", "SELECT 1")
    program.edit("models/report/noted.sql", "SELECT id", "SELECT 2 * id AS id")
    words = ["promote", program.pack(), "--to", "dev", "--only", "model:report.noted", "--yes"]
    assert program(*words, "--json").json["state"] == "done"
    assert program.ask(url, "SELECT mood FROM staff.station") == []
    assert program("drift", "dev", "--json", code=1).json["drifted"]


def test_what_is_empty_goes_unless_rows_come_after_the_draft(place: tuple[Program, str]) -> None:
    program, url = place
    program.promote(program.pack(), "dev")
    (program.folder / "models/report/noted.sql").unlink()
    program.write("schemas/staff/tables.sql", "CREATE TABLE staff.station (id INTEGER NOT NULL);")
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    program.ask(url, "INSERT INTO staff.station VALUES (1, 'Ash', NULL)", "SELECT 1")
    moved = program("promote", drafted["id"], "--yes", code=4).text
    assert "staff.station.stream goes with 1 values" in moved
    assert program.ask(url, "SELECT stream FROM staff.station") == [("Ash",)]
    program.ask(url, "DELETE FROM staff.station", "SELECT 1")
    assert program("promote", drafted["id"], "--yes", "--json").json["state"] == "done"


def test_a_type_that_took_every_value_is_not_given_to_one_that_came_since(
    starter: Program,
) -> None:
    program, url = starter, "duckdb:///.inchworm/dev.duckdb"
    program.write("schemas/staff/schema.toml", SETTINGS)
    program.write("schemas/staff/tables.sql", "CREATE TABLE staff.t (level DECIMAL(9, 2));")
    program.promote(program.pack(), "dev")
    program.ask(url, "INSERT INTO staff.t VALUES (1.5)", "SELECT 1")
    program.write("schemas/staff/tables.sql", "CREATE TABLE staff.t (level DECIMAL(9, 1));")
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    program.ask(url, "INSERT INTO staff.t VALUES (1.25)", "SELECT 1")
    program("promote", drafted["id"], "--yes", code=4)
    assert len(program.ask(url, "SELECT level FROM staff.t WHERE level = 1.25")) == 1


def test_rows_in_the_way_are_found_before_anything_runs(starter: Program) -> None:
    """A required column without a default, and empty values where one is to be required."""
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", "CREATE TABLE staff.note (id INTEGER, text TEXT);")
    starter.promote(starter.pack(), "dev")
    url = "duckdb:///.inchworm/dev.duckdb"
    starter.ask(url, "INSERT INTO staff.note VALUES (1, NULL), (2, 'x')", "SELECT 1")
    starter.write(
        "schemas/staff/tables.sql",
        "CREATE TABLE staff.note (id INTEGER, text TEXT NOT NULL, by_whom TEXT NOT NULL);",
    )
    refused = starter.promote(starter.pack(), "dev", code=1).json
    assert [f["message"] for f in refused["findings"]] == [
        "staff.note.by_whom is required and has no default, with 2 rows there",
        "staff.note.text is to be required, and is empty, with 1 row there",
    ]
    assert {f["rule"] for f in refused["findings"]} == {"schema/rows-in-the-way"}


def test_the_draft_shows_what_will_run(starter: Program) -> None:
    """Every statement, and what it does to those who work there."""
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", "CREATE TABLE staff.note (id INTEGER);")
    starter.promote(starter.pack(), "dev")
    starter.write(
        "schemas/staff/tables.sql",
        "CREATE TABLE staff.note (id BIGINT, text TEXT); CREATE VIEW staff.v AS SELECT 1 AS x;",
    )
    shown = starter("promote", starter.pack(), "--to", "dev", "--draft").text
    assert "change schema:staff wanted structure 2 safe, 1 slow" in shown
    assert "slow type INT to BIGINT staff.note.id" in shown
    assert "ALTER TABLE staff.note ALTER COLUMN id TYPE BIGINT" in shown
    assert "safe make view staff.v" in shown


def test_a_change_by_hand_after_the_draft_stops_it(starter: Program) -> None:
    """What was reviewed would not lead to what is wanted any more: nothing is changed."""
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", "CREATE TABLE staff.note (id INTEGER);")
    starter.promote(starter.pack(), "dev")
    starter.write("schemas/staff/tables.sql", "CREATE TABLE staff.note (id INTEGER, text TEXT);")
    drafted = starter("promote", starter.pack(), "--to", "dev", "--draft", "--json").json
    url = "duckdb:///.inchworm/dev.duckdb"
    starter.ask(url, "CREATE UNIQUE INDEX by_hand ON staff.note (id)", "SELECT 1")
    answer = starter("promote", drafted["id"], "--yes", code=4)
    assert "dev moved since" in answer.text
    assert starter.ask(url, "SELECT count(*) FROM duckdb_columns() WHERE table_name = 'note'") == [
        (1,)
    ]


@pytest.mark.parametrize(
    ("settings", "tables", "rule"),
    [
        (SETTINGS, "INSERT INTO staff.note VALUES (1);", "schema/not-a-definition"),
        (SETTINGS, "DROP TABLE staff.old;", "schema/not-a-definition"),
        (SETTINGS + '[renames]\nold = "new"\n', "", "schema/rename-unknown"),
        (SETTINGS + '[renames]\n"note.a" = "b"\n', "", "schema/rename-unknown"),
    ],
)
def test_what_is_wrong_with_a_wanted_structure(
    starter: Program, settings: str, tables: str, rule: str
) -> None:
    """Is found at check."""
    starter.write("schemas/staff/schema.toml", settings)
    starter.write("schemas/staff/tables.sql", f"CREATE TABLE staff.note (id INTEGER);\n{tables}")
    assert rule in {finding["rule"] for finding in starter.findings()}


def test_in_a_corner_of_ones_own(place: tuple[Program, str]) -> None:
    """Where schemas have other names, the structure comes about under those."""
    program, url = place
    program.edit(
        "environments/dev.toml",
        "[databases.main]",
        '[databases.main]\nschema_pattern = "{schema}__lena"',
    )
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    program.edit("schemas/staff/tables.sql", "note TEXT", "note TEXT, height_cm INTEGER")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT count(height_cm) FROM staff__lena.station") == [(0,)]
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"
    assert program("drift", "dev", "--json").json["drifted"] == []


def test_tables_of_other_projects_in_the_schema_are_left_alone(
    starter: Program, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Two projects manage tables in one schema of one database."""
    url = f"duckdb:///{tmp_path_factory.mktemp('shared') / 'd.duckdb'}"
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", "CREATE TABLE staff.note (id INTEGER);")
    other = Program(tmp_path_factory.mktemp("other") / "copy")
    shutil.copytree(starter.folder, other.folder)
    shutil.rmtree(other.folder / "schemas/ops/migrations")
    other.write("schemas/ops/schema.toml", 'managed = "outside"')
    other.write("schemas/ops/tables.sql", "CREATE TABLE ops.measurement (place TEXT);")
    shutil.rmtree(other.folder / "models")
    shutil.rmtree(other.folder / "pipelines")
    other.edit("inchworm.toml", 'name = "starter"', 'name = "other"')
    other.write("schemas/staff/tables.sql", "CREATE TABLE staff.badge (id INTEGER);")
    for program in (starter, other):
        assert program.promote(program.pack(), "dev").json["state"] == "done"
    starter.edit("schemas/staff/tables.sql", "id INTEGER", "id INTEGER, text TEXT")
    assert starter.promote(starter.pack(), "dev").json["state"] == "done"
    tables = "SELECT table_name FROM duckdb_tables() WHERE schema_name = 'staff' ORDER BY 1"
    assert starter.ask(url, tables) == [("badge",), ("note",)]
    assert other("drift", "dev", "--json").json["drifted"] == []
    starter.ask(url, "ALTER TABLE ops.measurement ADD COLUMN by_hand INTEGER", "SELECT 1")
    (drifted,) = starter("drift", "dev", "--json", code=1).json["drifted"]
    assert drifted["part"] == "schema:ops"  # which the other one knows, but does not manage


# ---- what the rows have to say, in PostgreSQL ----------------------------------------------------

OWNED = """\
CREATE TABLE staff.station (
  id INTEGER NOT NULL PRIMARY KEY, code TEXT, name VARCHAR(20), amount BIGINT, note TEXT
);
CREATE TABLE staff.visit (
  id INTEGER NOT NULL PRIMARY KEY, station INTEGER REFERENCES staff.station (id), depth INTEGER
);
"""


@pytest.fixture
def kept(once: Once, starter: Program, postgres_url: str) -> tuple[Program, str]:
    """A schema of wanted structure that is live in PostgreSQL, with rows, and a view upon it."""
    once(_make_kept, starter, postgres_url)
    return starter, postgres_url


def _make_kept(starter: Program, postgres_url: str) -> None:
    starter.edit("inchworm.toml", '"duckdb"', '"postgres"')
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", postgres_url)
    starter.write("schemas/staff/schema.toml", SETTINGS)
    starter.write("schemas/staff/tables.sql", OWNED)
    starter.write("models/report/coded.sql", "SELECT id, code, name FROM staff.station")
    starter.promote(starter.pack(), "dev")
    starter.ask(
        postgres_url,
        "INSERT INTO staff.station VALUES (1, '12', 'Ash', 5, NULL), (2, ' 7 ', 'Elm', 6, 'x')",
        "INSERT INTO staff.visit VALUES (1, 1, -3), (2, 9 - 7, -3)",
        "SELECT 1",
    )


def test_a_type_that_all_values_fit_loses_nothing(kept: tuple[Program, str]) -> None:
    """Under a view of our own; and no foreign key that has nothing to do with it is touched."""
    program, url = kept
    key = "SELECT oid FROM pg_constraint WHERE conname = 'visit_station_fkey'"
    before = program.ask(url, key)
    program.edit(
        "schemas/staff/tables.sql",
        "code TEXT, name VARCHAR(20), amount BIGINT",
        "code INTEGER, name VARCHAR(5), amount INTEGER",
    )
    done = program.promote(program.pack(), "dev").json
    assert done["state"] == "done"
    assert "schema/loses-data" not in {f["rule"] for f in done["findings"]}
    assert program.ask(url, "SELECT code, name FROM report.coded ORDER BY id") == [
        (12, "Ash"),
        (7, "Elm"),
    ]
    assert program.ask(url, key) == before
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"


@pytest.mark.parametrize(
    ("statement", "old", "new"),
    [
        ("UPDATE staff.station SET code = '1x' WHERE id = 1", "code TEXT", "code INTEGER"),
        ("UPDATE staff.station SET code = '99999999999'", "code TEXT", "code INTEGER"),
        ("UPDATE staff.station SET name = 'Hornbeam'", "name VARCHAR(20)", "name VARCHAR(5)"),
        ("UPDATE staff.station SET amount = 3000000000", "amount BIGINT", "amount INTEGER"),
    ],
)
def test_one_value_that_does_not_fit_is_a_loss(
    kept: tuple[Program, str], statement: str, old: str, new: str
) -> None:
    """As before."""
    program, url = kept
    program.ask(url, statement, "SELECT 1")
    program.edit("schemas/staff/tables.sql", old, new)
    refused = program.promote(program.pack(), "dev", code=1).json
    assert "schema/loses-data" in {f["rule"] for f in refused["findings"]}


VIOLATED = {
    "a check": ("depth INTEGER", "depth INTEGER CHECK (depth > 0)", "CHECK ((depth > 0))", 2),
    "a unique column": ("depth INTEGER", "depth INTEGER UNIQUE", "UNIQUE (depth)", 2),
    "a foreign key": (
        "depth INTEGER",
        "depth INTEGER REFERENCES staff.station (id)",
        "FOREIGN KEY (depth) REFERENCES staff.station(id)",
        2,
    ),
}


@pytest.mark.parametrize(("old", "new", "named", "rows"), VIOLATED.values(), ids=VIOLATED.keys())
def test_rows_that_break_a_new_constraint_are_counted_first(
    kept: tuple[Program, str], old: str, new: str, named: str, rows: int
) -> None:
    """Before anything runs; once they are put right, it is added."""
    program, url = kept
    program.edit("schemas/staff/tables.sql", old, new)
    refused = program.promote(program.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["rule"] == "schema/rows-in-the-way"]
    assert finding["message"] == f"staff.visit breaks {named}, with {rows} rows there"
    program.ask(url, "UPDATE staff.visit SET depth = id", "SELECT 1")
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_a_column_that_is_to_be_required_is_filled_first(kept: tuple[Program, str]) -> None:
    """The statement that is offered works when it is followed literally."""
    program, url = kept
    program.edit("schemas/staff/tables.sql", "note TEXT", "note TEXT NOT NULL")
    refused = program.promote(program.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["rule"] == "schema/rows-in-the-way"]
    assert finding["message"].endswith("is to be required, and is empty, with 1 row there")
    offered = finding["remedy"].partition("right: ")[2]
    assert offered == "UPDATE staff.station SET note = '' WHERE note IS NULL;"
    program.ask(url, offered, "SELECT 1")
    assert program.promote(program.pack(), "dev").json["state"] == "done"


def test_columns_change_places(kept: tuple[Program, str]) -> None:
    """With their values, and once."""
    program, url = kept
    swap = '[renames]\n"station.note" = "amount"\n"station.amount" = "note"\n'
    program.write("schemas/staff/schema.toml", SETTINGS + swap)
    program.edit("schemas/staff/tables.sql", "amount BIGINT, note TEXT", "note BIGINT, amount TEXT")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT note, amount FROM staff.station ORDER BY id") == [
        (5, None),
        (6, "x"),
    ]
    assert program.promote(program.pack(), "dev").json["state"] == "nothing to do"


# ---- what the rows have to say, in every database ------------------------------------------------


def test_values_that_fit_another_type_are_no_loss_anywhere(place: tuple[Program, str]) -> None:
    """And one that does not fit is, where a column has a type at all."""
    program, url = place
    program.promote(program.pack(), "dev")
    program.ask(url, "INSERT INTO staff.station VALUES (1, '12', 'x'), (2, '7', NULL)", "SELECT 1")
    program.edit("schemas/staff/tables.sql", "stream VARCHAR(20)", "stream INTEGER")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program.ask(url, "SELECT stream FROM staff.station ORDER BY id") == [(12,), (7,)]
    program.edit("schemas/staff/tables.sql", "note TEXT", "note INTEGER")
    code = 0 if url.startswith("sqlite") else 1
    answer = program.promote(program.pack(), "dev", code=code).json
    loses = "schema/loses-data" in {f["rule"] for f in answer["findings"]}
    assert loses is not url.startswith("sqlite")


@pytest.mark.parametrize(
    ("old", "new", "named"),
    [
        ("note TEXT", "note TEXT, CHECK (id > 1)", "CHECK"),
        ("note TEXT", "note TEXT, UNIQUE (stream)", "UNIQUE"),
    ],
)
def test_rows_that_break_a_constraint_are_counted_first_anywhere(
    place: tuple[Program, str], old: str, new: str, named: str
) -> None:
    """Nothing has run when it is told."""
    program, url = place
    program.promote(program.pack(), "dev")
    rows = "(1, 'Ash', NULL), (2, 'Elm', NULL), (3, 'Elm', NULL)"
    program.ask(url, f"INSERT INTO staff.station VALUES {rows}", "SELECT 1")
    program.edit("schemas/staff/tables.sql", old, new)
    refused = program.promote(program.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["rule"] == "schema/rows-in-the-way"]
    assert finding["message"].startswith(f"staff.station breaks {named}")
    count = 1 if named == "CHECK" else 2
    assert finding["message"].endswith(f"with {count} {'row' if count == 1 else 'rows'} there")


def test_rows_of_migrations_are_told_when_a_schema_gets_a_wanted_structure(
    starter: Program,
) -> None:
    """Until a script puts them in: a new environment would not have them."""
    starter.promote(starter.pack(), "dev")
    (starter.folder / "schemas/ops/migrations/0001_baseline.sql").unlink()
    starter.write("schemas/ops/schema.toml", 'managed = "structure"\n')
    table = "CREATE TABLE ops.measurement (place TEXT NOT NULL, day DATE NOT NULL, "
    starter.write("schemas/ops/tables.sql", f"{table}amount INTEGER NOT NULL);\n")
    drafted = starter("promote", starter.pack(), "--to", "dev", "--draft", "--json").json
    (told,) = [f for f in drafted["findings"] if f["rule"] == "schema/rows-of-migrations"]
    assert "migrations put rows into ops.measurement" in told["message"]
    starter.write(
        "schemas/ops/after/rows.sql",
        "INSERT INTO ops.measurement SELECT 'north', DATE '2026-02-01', 3 "
        "WHERE NOT EXISTS (SELECT 1 FROM ops.measurement);\n",
    )
    done = starter.promote(starter.pack(), "dev").json
    assert done["state"] == "done"
    assert "schema/rows-of-migrations" not in {f["rule"] for f in done["findings"]}
