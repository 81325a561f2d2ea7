"""Ways in which data of somebody else could be lost, each tried through the built program."""

from __future__ import annotations

import hashlib
import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from inchworm.targets.databases import connect
from inchworm.targets.databases.bookkeeping.tables import COLUMNS_ADDED
from tests.driver import Program
from tests.forked import Started
from tests.once import Once, promoted
from tests.program.crash import die

URL = "duckdb:///.inchworm/dev.duckdb"
CORNER = '[databases.main]\nschema_pattern = "ada_{schema}"'
OTHER = """\
about = "Another environment, {address}"
snapshots = true
[databases.main]
url = "{url}"
[workspace]
url = "sim:other"
[gateway]
url = "sim:other"
"""


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    """A new project that is live in a database of each kind."""
    once(promoted, *anywhere)
    return anywhere


def clone(program: Program, folder: Path) -> Program:
    """A second checkout, with a ledger and bundles of its own, that reaches the same database."""
    other = Program(folder)
    shutil.copytree(
        program.folder, folder, ignore=shutil.ignore_patterns(".inchworm", "data", "*.lock")
    )
    return other


def count(program: Program, url: str, table: str) -> int:
    """How many rows a table has."""
    return int(program.ask(url, f"SELECT count(*) FROM {table}")[0][0])


# ---- names that are words of SQL -----------------------------------------------------------------


@pytest.mark.parametrize("schema", ["ref", "map", "settings", "date", "index", "file", "session"])
def test_a_corner_never_reaches_the_shared_schema(
    anywhere: tuple[Program, str], schema: str
) -> None:
    """A migration that empties a table empties that of the corner, whatever the schema's name."""
    program, url = anywhere
    shared = f'"{schema}".rate'
    if url.startswith("sqlite"):
        program.edit("environments/dev.toml", "[databases.main]", CORNER.replace("ada_", ""))
        program.write(f"schemas/{schema}/schema.toml", 'managed = "migrations"')
        first = f"CREATE TABLE {schema}.rate (x INTEGER); INSERT INTO {schema}.rate VALUES (1);"
        program.write(f"schemas/{schema}/migrations/0001_rate.sql", first)
        program.promote(program.pack(), "dev")
        program.edit("environments/dev.toml", '"{schema}"', '"ada_{schema}"\nbookkeeping = "ada"')
    else:
        program.ask(
            url,
            f'CREATE SCHEMA "{schema}"',
            f"CREATE TABLE {shared} (x INTEGER)",
            f"INSERT INTO {shared} VALUES (1)",
            "SELECT 1",
        )
        program.write(f"schemas/{schema}/schema.toml", 'managed = "migrations"')
        program.edit("environments/dev.toml", "[databases.main]", CORNER)
        program.write(
            f"schemas/{schema}/migrations/0001_rate.sql",
            f"CREATE TABLE {schema}.rate (x INTEGER); INSERT INTO {schema}.rate VALUES (1);",
        )
    program.write(
        f"schemas/{schema}/migrations/0002_empty.sql", f"DELETE FROM {schema}.rate WHERE x > 0;"
    )
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert count(program, url, shared) == 1
    assert count(program, url, f'"ada_{schema}".rate') == 0


def test_a_name_in_code_stops_the_draft(starter: Program, postgres_url: str) -> None:
    """In a corner; where schemas keep their names the same migration runs."""
    starter.edit("inchworm.toml", '"duckdb"', '"postgres"')
    starter.edit("environments/dev.toml", URL, postgres_url)
    starter.promote(starter.pack(), "dev")
    starter.write(
        "schemas/ops/migrations/0002_code.sql",
        "DO $$ BEGIN DELETE FROM ops.measurement WHERE amount = 3; END $$;",
    )
    text = (starter.folder / "environments/dev.toml").read_text()
    starter.edit("environments/dev.toml", "[databases.main]", CORNER + '\nbookkeeping = "of_ada"')
    refused = starter.promote(starter.pack(), "dev", code=1).json
    (finding,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert (finding["rule"], finding["file"]) == (
        "schema/name-left",
        "schemas/ops/migrations/0002_code.sql",
    )
    assert count(starter, postgres_url, "ops.measurement") == 3
    starter.write("environments/dev.toml", text)
    assert starter.promote(starter.pack(), "dev").json["state"] == "done"
    assert count(starter, postgres_url, "ops.measurement") == 2


def test_trying_a_migration_leaves_the_live_rows(anywhere: tuple[Program, str]) -> None:
    """What is tried before the first step, and then refused, has touched nothing."""
    program, url = anywhere
    program.write("schemas/ref/schema.toml", 'managed = "migrations"')
    program.write(
        "schemas/ref/migrations/0001_rate.sql",
        "CREATE TABLE ref.rate (x INTEGER); INSERT INTO ref.rate VALUES (1);",
    )
    program.promote(program.pack(), "dev")
    program.edit("environments/dev.toml", "[workspace]", 'may_lose = ["ref.rate"]\n[workspace]')
    program.write("schemas/ref/migrations/0002_less.sql", "DELETE FROM ref.rate WHERE x = 1;")
    program.write("models/report/wrong.sql", "SELECT no_such_function(1) AS one")
    refused = program.promote(program.pack(), "dev", code=1).json
    assert "database/does-not-bind" in {finding["rule"] for finding in refused["findings"]}
    assert count(program, url, "ref.rate") == 1


# ---- queries that write --------------------------------------------------------------------------

API = """\
openapi: 3.0.3
info: {title: Days, version: "1"}
paths:
  /days:
    post:
      operationId: post
      requestBody:
        content:
          application/json: {schema: {type: object, properties: {day: {type: string}}}}
      responses: {"200": {description: taken}}
"""
WRITING = "WITH gone AS (DELETE FROM ops.measurement RETURNING *) SELECT day FROM gone"


@pytest.mark.parametrize(
    ("file", "content"),
    [
        ("models/report/gone.sql", WRITING),
        ("checks/gone.sql", f"/*---\nseverity = 'error'\n---*/\n{WRITING}"),
        (
            "flows/gone.toml",
            f'direction = "out"\n[from]\nquery = "{WRITING}"\n[to]\nconnection = "c"\n'
            'api = "apis/a.yaml"\noperation = "post"\n[fields]\nday = "day"\n',
        ),
        (
            "notebooks/gone.ipynb",
            '{"nbformat": 4, "nbformat_minor": 5, "metadata": {}, "cells": [{"cell_type": "code", '
            '"id": "a", "metadata": {}, "outputs": [], "execution_count": null, "source": '
            f'"from inchworm.notebook import env\\nenv.query(\\"{WRITING}\\")"}}]}}',
        ),
    ],
    ids=["model", "check", "flow", "notebook"],
)
def test_what_only_reads_cannot_write(starter: Program, file: str, content: str) -> None:
    """It is an error at check, and nothing with it can be packed."""
    starter.edit("inchworm.toml", '"duckdb"', '"postgres"')
    starter.write("apis/a.yaml", API)
    starter.write(file, content)
    found = [f for f in starter.findings(code=1) if f["rule"] == "sql/writes"]
    assert [f["file"] for f in found] == [file]
    assert "has DELETE inside, which writes" in found[0]["message"]
    starter("pack", code=1)


# ---- another environment's database --------------------------------------------------------------


def test_a_copied_address_reaches_nothing(live: tuple[Program, str], tmp_path: Path) -> None:
    """Found at check; and where nobody checked, by the name that the database keeps."""
    program, url = live
    program.write("environments/test.toml", OTHER.format(address="really dev's", url=url))
    program.edit("parameters.toml", 'dev = "2026-01-01"', 'every = "2026-01-01"')
    (found,) = [f for f in program.findings(code=1) if f["rule"] == "environment/shared-target"]
    assert found["severity"] == "error"
    assert "has the database of dev" in found["message"]
    other = clone(program, tmp_path / "clone")
    (other.folder / "environments/dev.toml").unlink()
    if not url.startswith("postgresql"):
        shutil.copytree(program.folder / "data", other.folder / "data")
    before = program.ask(url, "SELECT * FROM report.daily_total ORDER BY 1")
    other.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
    bundle = other.pack()
    refused = other("promote", bundle, "--to", "test", "--yes", code=1)
    assert "the database of test (not protected) is dev of starter" in refused.err
    assert 'formerly = "dev"' in refused.err
    assert "is dev of starter" in other("status", code=1).text
    assert other.ask(url, "SELECT * FROM report.daily_total ORDER BY 1") == before
    other.edit("environments/test.toml", "snapshots", 'formerly = "dev"\nsnapshots')
    shutil.copy(program.folder / "environments/dev.toml", other.folder / "environments")
    answer = other("promote", bundle, "--to", "test", "--yes", code=1)
    assert "environments/test.toml:2: says that it was formerly dev, which is an" in answer.err
    (other.folder / "environments/dev.toml").unlink()
    assert other.promote(bundle, "test").json["state"] == "done"
    other.edit("environments/test.toml", 'formerly = "dev"\n', "")
    assert other.promote(bundle, "test").json["state"] == "nothing to do"


# ---- going on over somebody's newer promotion ----------------------------------------------------


def test_a_stopped_promotion_does_not_go_on_over_somebody_elses(
    live: tuple[Program, str], tmp_path: Path
) -> None:
    """Another checkout, with another ledger, was there meanwhile: exit code 4, nothing changed."""
    program, url = live
    if not url.startswith("postgresql"):  # one file for both checkouts
        program.edit("environments/dev.toml", url, url.replace("///", f"///{program.folder}/", 1))
    other = clone(program, tmp_path / "clone")
    program.edit("models/report/daily_total.sql", "sum(amount)", "10 * sum(amount)")
    drafted = program("promote", program.pack(), "--to", "dev", "--draft", "--json").json
    switch = next(s["number"] for s in drafted["steps"] if s["phase"] == "switch")
    die(program, drafted["id"], f"before:{switch}")
    other.edit("models/report/daily_total.sql", "sum(amount)", "20 * sum(amount)")
    assert other.promote(other.pack(), "dev").json["state"] == "done"
    totals = program.ask(url, "SELECT total FROM report.daily_total ORDER BY 1")
    assert {total % 20 for (total,) in totals} == {0}
    answer = program("promote", drafted["id"], "--yes", code=4)
    assert "P1 of another ledger went into dev after P2 stopped" in answer.err
    assert "Draft again" in answer.err
    assert program.ask(url, "SELECT total FROM report.daily_total ORDER BY 1") == totals
    again = program.promote(program.pack(), "dev").json
    assert again["state"] == "done"
    relations = program.ask(
        url, "SELECT count(*) FROM inchworm.aside WHERE purpose IN ('staging', 'reserved')"
    )
    assert relations == [(0,)]


# ---- drift that is forgotten ---------------------------------------------------------------------


def test_a_change_by_hand_is_remembered(live: tuple[Program, str]) -> None:
    """After promotions that have nothing to do with it, and until it is put back."""
    program, url = live
    program.ask(url, "ALTER TABLE ops.measurement ADD COLUMN by_hand INTEGER", "SELECT 1")
    for number in (1, 2):
        program.write(f"models/report/other_{number}.sql", f"SELECT {number} AS one")
        done = program.promote(program.pack(), "dev").json
        assert done["state"] == "done"
        told = {f["rule"] for f in done["findings"]} - {"environment/superuser"}
        assert told == {"promotion/drifted"}
        (drifted,) = program("drift", "dev", "--json", code=1).json["drifted"]
        assert drifted["part"] == "schema:ops"
    program.ask(url, "ALTER TABLE ops.measurement DROP COLUMN by_hand", "SELECT 1")
    assert program("drift", "dev", "--json").json["drifted"] == []


def test_a_missing_table_stops_every_promotion(live: tuple[Program, str]) -> None:
    """Until it is there again, or its removal is in the source."""
    program, url = live
    program.write("schemas/ops/migrations/0002_note.sql", "CREATE TABLE ops.note (text TEXT);")
    program.promote(program.pack(), "dev")
    program.ask(url, "DROP TABLE ops.note", "SELECT 1")
    program.write("models/report/other.sql", "SELECT 1 AS one")
    bundle = program.pack()
    for _ in range(2):
        refused = program.promote(bundle, "dev", code=1).json
        (finding,) = [f for f in refused["findings"] if f["severity"] == "error"]
        assert finding["message"] == "table ops.note is missing since the last promotion"
        assert "inchworm adopt dev ops" in finding["remedy"]
    program("promote", bundle, "--to", "dev", "--yes", "--overwrite", code=1)
    program("adopt", "dev", "ops")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program("drift", "dev", "--json").json["drifted"] == []


def test_a_schema_that_is_new_here_is_taken_as_it_is(live: tuple[Program, str]) -> None:
    """What was there before the project managed it is no change by hand; what comes later is."""
    program, url = live
    database = connect(url, root=program.folder)
    database.create_schema("desk")
    database.execute("CREATE TABLE desk.note (text VARCHAR(20))")
    database.close()
    program.write("schemas/desk/schema.toml", 'managed = "migrations"')
    program.write("schemas/desk/after/tidy.sql", "DELETE FROM desk.note WHERE text = 'old';")
    assert program.promote(program.pack(), "dev").json["state"] == "done"
    assert program("drift", "dev", "--json").json["drifted"] == []
    program.ask(url, "ALTER TABLE desk.note ADD COLUMN by_hand INTEGER", "SELECT 1")
    (drifted,) = program("drift", "dev", "--json", code=1).json["drifted"]
    assert drifted["part"] == "schema:desk"


# ---- CASCADE and suffixes ------------------------------------------------------------------------


@pytest.mark.parametrize("suffix", ["__kept", "__beside", "__stored"])
def test_a_table_that_ends_like_one_of_ours_is_its_owners(
    live: tuple[Program, str], suffix: str
) -> None:
    """However often the model beside it is built."""
    program, url = live
    mine = f"report.daily_total{suffix}"
    elsewhere = f"report.my{suffix}"
    for table in (mine, elsewhere):
        program.ask(url, f"CREATE TABLE {table} (x INTEGER)", "SELECT 1")
        program.ask(url, f"INSERT INTO {table} VALUES (7)", "SELECT 1")
    for factor in (2, 3, 4):
        sql = "/*---\nstore = 'table'\n---*/\nSELECT day, {} * amount AS total FROM ops.measurement"
        program.write("models/report/daily_total.sql", sql.format(factor))
        assert program.promote(program.pack(), "dev").json["state"] == "done"
        for table in (mine, elsewhere):
            assert program.ask(url, f"SELECT x FROM {table}") == [(7,)]
    (kept,) = program.ask(url, "SELECT name FROM inchworm.aside WHERE purpose = 'replaced'")[0]
    assert program.ask(url, f"SELECT min(total) FROM {kept}") == [(9,)]


def test_bookkeeping_of_a_former_version_is_carried_on(live: tuple[Program, str]) -> None:
    """What it lacks is added; the replaced table that it has recorded is not recorded twice."""
    program, url = live

    def promoted(factor: int) -> None:
        sql = f"/*---\nstore = 'table'\n---*/\nSELECT {factor} AS total"
        program.write("models/report/daily_total.sql", sql)
        assert program.promote(program.pack(), "dev").json["state"] == "done"

    promoted(1)
    promoted(2)
    for table, column, _ in COLUMNS_ADDED[2:]:  # the versions came in this order
        program.ask(url, f"ALTER TABLE inchworm.{table} DROP COLUMN {column}", "SELECT 1")
    for factor in (3, 4):
        promoted(factor)
        ((kept,),) = program.ask(url, "SELECT name FROM inchworm.aside")
        assert program.ask(url, f"SELECT total FROM {kept}") == [(factor - 1,)]


HANGING = {
    "trigger": (
        "CREATE FUNCTION theirs.audit() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN RETURN NEW; END'; "
        "CREATE TRIGGER audit BEFORE INSERT ON report.daily_total "
        "FOR EACH ROW EXECUTE FUNCTION theirs.audit()",
        "SELECT count(*) FROM pg_trigger WHERE tgname = 'audit' "
        "AND tgrelid = 'report.daily_total'::regclass",
    ),
    "index": (
        "CREATE INDEX by_total ON report.daily_total (total)",
        "SELECT count(*) FROM pg_index WHERE indrelid = 'report.daily_total'::regclass "
        "AND indexrelid = 'report.by_total'::regclass",
    ),
    "policy": (
        "ALTER TABLE report.daily_total ENABLE ROW LEVEL SECURITY; "
        "ALTER TABLE report.daily_total FORCE ROW LEVEL SECURITY; "
        "CREATE POLICY few ON report.daily_total AS RESTRICTIVE FOR SELECT TO PUBLIC "
        "USING (total < 5)",
        "SELECT count(*) FROM pg_policies p JOIN pg_class c ON c.oid = 'report.daily_total'::"
        "regclass WHERE p.policyname = 'few' AND p.tablename = 'daily_total' AND c.relrowsecurity "
        "AND c.relforcerowsecurity AND p.qual = '(total < 5)' AND p.permissive = 'RESTRICTIVE'",
    ),
    "publication": (
        "CREATE PUBLICATION theirs_pub FOR TABLE report.daily_total (day, total) "
        "WHERE (total > 0), ops.measurement",
        "SELECT count(*) FROM pg_publication_tables WHERE pubname = 'theirs_pub' "
        "AND schemaname || '.' || tablename = 'report.daily_total' AND attnames = '{day,total}' "
        "AND rowfilter LIKE '(total > %0%)'",
    ),
    "replica identity": (
        "ALTER TABLE report.daily_total REPLICA IDENTITY FULL",
        "SELECT count(*) FROM pg_class "
        "WHERE oid = 'report.daily_total'::regclass AND relreplident = 'f'",
    ),
    "column settings": (
        "ALTER TABLE report.daily_total ALTER total SET STATISTICS 500, "
        "ALTER total SET (n_distinct = 12)",
        "SELECT count(*) FROM pg_attribute a WHERE a.attrelid = 'report.daily_total'::regclass "
        "AND a.attname = 'total' AND a.attstattarget = 500 AND a.attoptions = '{n_distinct=12}'",
    ),
    "comment": (
        "COMMENT ON COLUMN report.daily_total.total IS 'in cm'",
        "SELECT count(*) FROM pg_description WHERE objoid = 'report.daily_total'::regclass "
        "AND description = 'in cm'",
    ),
    "trigger on a view upon it": (
        "CREATE VIEW theirs.seen AS SELECT day, total FROM report.daily_total; "
        "CREATE FUNCTION theirs.refuse() RETURNS trigger LANGUAGE plpgsql AS "
        "'BEGIN RETURN NULL; END'; "
        "CREATE TRIGGER refuse INSTEAD OF UPDATE ON theirs.seen "
        "FOR EACH ROW EXECUTE FUNCTION theirs.refuse()",
        "SELECT count(*) FROM pg_trigger WHERE tgname = 'refuse' "
        "AND tgrelid = 'theirs.seen'::regclass",
    ),
    "function upon a view upon it": (
        "CREATE VIEW theirs.seen AS SELECT day, total FROM report.daily_total; "
        "CREATE FUNCTION theirs.first() RETURNS SETOF theirs.seen LANGUAGE sql "
        "BEGIN ATOMIC SELECT * FROM theirs.seen LIMIT 1; END",
        "SELECT count(*) FROM theirs.first()",
    ),
    "options of a view upon it": (
        "CREATE VIEW theirs.seen WITH (security_barrier = true, security_invoker = true) AS "
        "SELECT day, total FROM report.daily_total",
        "SELECT count(*) FROM pg_class WHERE oid = 'theirs.seen'::regclass "
        "AND reloptions @> '{security_barrier=true,security_invoker=true}'",
    ),
}


SAID = {
    "trigger": "trigger audit, on report.daily_total",
    "index": "index by_total, on report.daily_total",
    "policy": "policy few, options, on report.daily_total",
    "publication": "publication theirs_pub, on report.daily_total",
    "trigger on a view upon it": "view theirs.seen of river, on report.daily_total",
}
"""How a draft tells of some of them."""


@pytest.fixture
def served(once: Once, starter: Program, postgres_url: str) -> tuple[Program, str]:
    """A new project that is live in PostgreSQL."""
    once(_serve, starter, postgres_url)
    return starter, postgres_url


def _serve(program: Program, url: str) -> None:
    program.edit("environments/dev.toml", URL, url)
    program.promote(program.pack(), "dev")
    program.ask(url, "CREATE SCHEMA theirs", "SELECT 1")


@pytest.mark.parametrize(
    ("file", "query", "said"),
    [
        (
            "models/report/daily_total.sql",
            "/*---\nstore = 'table'\n---*/\n"
            "SELECT CAST('2026-01-01' AS date) AS day, theirs.purge() AS total",
            "the query changed theirs.events, by a function that it calls",
        ),
        (
            "checks/quiet.sql",
            "SELECT day FROM report.daily_total WHERE theirs.purge() > 9",
            "in a read-only transaction",
        ),
        (
            "models/report/daily_total.sql",
            "/*---\nstore = 'view'\nkey = ['day']\n---*/\n"
            "SELECT CAST('2026-01-01' AS date) AS day, theirs.purge() AS total",
            "in a read-only transaction",
        ),
    ],
    ids=["model", "check", "view"],
)
@pytest.mark.parametrize("change", ["DELETE FROM", "TRUNCATE"])
def test_a_function_cannot_write_behind_a_query(
    served: tuple[Program, str], change: str, file: str, query: str, said: str
) -> None:
    """What it changed is taken back, and the promotion says what that was."""
    program, url = served
    program.ask(
        url,
        "CREATE TABLE theirs.events AS SELECT generate_series(1, 2000) AS n",
        "CREATE FUNCTION theirs.purge() RETURNS int LANGUAGE sql AS "
        f"'{change} theirs.events; SELECT 1'",
        "SELECT 1",
    )
    program.write(file, query)
    failed = program.promote(program.pack(), "dev", code=1).json
    messages = [step["message"] for step in failed["steps"] if step["state"] == "failed"]
    assert [said in message for message in messages] == [True]
    assert count(program, url, "theirs.events") == 2000


@pytest.mark.parametrize("what", HANGING)
def test_what_can_be_carried_along_is_carried_along(served: tuple[Program, str], what: str) -> None:
    """Twice, as what a promotion leaves has to bear the next one."""
    program, url = served
    make, ask = HANGING[what]
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(make.encode())
        for factor in (2, 3):
            sql = (program.folder / "models/report/daily_total.sql").read_text()
            program.write(
                "models/report/daily_total.sql",
                sql.replace("sum(amount)", f"{factor} * sum(amount)").replace(
                    f"{factor} * 2 *", f"{factor} *"
                ),
            )
            done = program.promote(program.pack(), "dev").json
            assert done["state"] == "done"
            assert owner.execute(ask.encode()).fetchone() == (1,)
            if (named := SAID.get(what)) is not None:
                (note,) = [f for f in done["findings"] if f["rule"] == "promotion/carries-along"]
                assert named in note["message"]


PUT_ON = {
    "trigger": (HANGING["trigger"][0], "trigger audit"),
    "publication": (HANGING["publication"][0], "publication theirs_pub"),
    "policy": (HANGING["policy"][0], "policy few"),
    "view": ("CREATE VIEW theirs.seen AS SELECT day FROM report.daily_total", "view theirs.seen"),
}
ENDINGS = {
    "which goes away": {"trigger", "publication", "view"},
    "which becomes report.total_of_day": {"trigger", "publication", "policy", "view"},
    "which becomes a view": {"trigger", "publication", "policy"},
}
"""How a table of a model can end, and what then stops the promotion."""


@pytest.mark.parametrize("how", ENDINGS)
@pytest.mark.parametrize("what", PUT_ON)
def test_what_a_table_has_when_it_ends(served: tuple[Program, str], what: str, how: str) -> None:
    """What nothing can be given stops the draft, before anything is built; the rest is told."""
    program, url = served
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(PUT_ON[what][0].encode())
    model = program.folder / "models/report/daily_total.sql"
    text = model.read_text()
    if how == "which becomes a view":
        model.write_text(text.replace('"table"', '"view"'))
    else:
        model.unlink()
        (program.folder / "pipelines/daily.toml").unlink()
    if "total_of_day" in how:
        moved = text.replace("store =", "moved_from = 'report.daily_total'\nstore =")
        program.write("models/report/total_of_day.sql", moved)
    stops = what in ENDINGS[how]
    answer = program.promote(program.pack(), "dev", code=1 if stops else 0).json
    said = [f for f in answer["findings"] if f["rule"] == "promotion/cannot-carry-along"]
    assert len(said) == stops
    assert answer["state"] == ("refused" if stops else "done")
    if stops:
        assert PUT_ON[what][1] in said[0]["message"]
        assert said[0]["message"].endswith(f"on report.daily_total, {how}")


IN_THE_WAY = {
    "foreign key": "ALTER TABLE report.daily_total ADD CONSTRAINT days UNIQUE (day); "
    "CREATE TABLE theirs.note (day date REFERENCES report.daily_total (day))",
    "function": "CREATE FUNCTION theirs.all_days() RETURNS bigint LANGUAGE sql "
    "BEGIN ATOMIC SELECT count(*) FROM report.daily_total; END",
    "rule": "CREATE RULE quiet AS ON DELETE TO report.daily_total DO INSTEAD NOTHING",
    "type": "CREATE TABLE theirs.box (inside report.daily_total)",
    "policy of another table": "CREATE TABLE theirs.secret (day date); "
    "CREATE POLICY known ON theirs.secret USING (day IN (SELECT day FROM report.daily_total))",
    "materialised view": "CREATE MATERIALIZED VIEW theirs.m AS SELECT day FROM report.daily_total",
    "materialised view upon a view": "CREATE VIEW theirs.w AS SELECT day FROM report.daily_total; "
    "CREATE MATERIALIZED VIEW theirs.m AS SELECT day FROM theirs.w",
    "child": "CREATE TABLE theirs.child () INHERITS (report.daily_total)",
}


@pytest.mark.parametrize("what", IN_THE_WAY)
def test_what_cannot_be_carried_along_stops_the_draft(
    served: tuple[Program, str], what: str
) -> None:
    """It is named, and still there and as it was."""
    program, url = served
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(IN_THE_WAY[what].encode())
        before = owner.execute(b"SELECT 'report.daily_total'::regclass::oid").fetchone()
        program.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
        refused = program.promote(program.pack(), "dev", code=1).json
        rules = {f["rule"] for f in refused["findings"] if f["severity"] == "error"}
        assert "promotion/cannot-carry-along" in rules
        assert owner.execute(b"SELECT 'report.daily_total'::regclass::oid").fetchone() == before
        (message,) = [
            f["message"] for f in refused["findings"] if f["rule"] == "promotion/cannot-carry-along"
        ]
        assert "on report.daily_total" in message
        assert " of river" in message


@pytest.fixture
def promoter(served: tuple[Program, str]) -> Iterator[tuple[Program, str, psycopg.Connection]]:
    """A project whose promotions run as a role that is no superuser, and a superuser beside it."""
    program, url = served
    mine = url.replace("river@", "promoter@")
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(b"DROP ROLE IF EXISTS promoter")
        owner.execute(b"CREATE ROLE promoter LOGIN")
        for schema in ("ops", "report", "inchworm"):
            owner.execute(f"ALTER SCHEMA {schema} OWNER TO promoter".encode())
        tables = "SELECT table_schema || '.' || table_name FROM information_schema.tables WHERE "
        ours = "table_schema IN ('ops', 'report', 'inchworm')"
        for (table,) in owner.execute((tables + ours).encode()).fetchall():
            owner.execute(f"ALTER TABLE {table} OWNER TO promoter".encode())
        program.edit("environments/dev.toml", url, mine)
        program.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
        yield program, mine, owner
        owner.execute(b"REASSIGN OWNED BY promoter TO river")
        owner.execute(b"DROP OWNED BY promoter")
        owner.execute(b"DROP ROLE promoter")


LACKING = {
    "making schemas": (
        "SELECT 1",
        "DO 'BEGIN EXECUTE format(''GRANT CREATE ON DATABASE %I TO promoter'', "
        "current_database()); END'",
        "may make no schemas",
    ),
    "a view upon it": (
        "CREATE VIEW theirs.seen AS SELECT day FROM report.daily_total",
        "ALTER VIEW theirs.seen OWNER TO promoter; GRANT ALL ON SCHEMA theirs TO promoter",
        "the view theirs.seen belongs to river, reads report.daily_total and would have to be",
    ),
    "the table": (
        "ALTER TABLE report.daily_total OWNER TO river",
        "ALTER TABLE report.daily_total OWNER TO promoter",
        "the table report.daily_total belongs to river and would have to be changed",
    ),
    "a table that a migration alters": (
        "ALTER TABLE ops.measurement OWNER TO river; GRANT SELECT ON ops.measurement TO promoter",
        "ALTER TABLE ops.measurement OWNER TO promoter",
        "the table ops.measurement belongs to river and would have to be changed",
    ),
    "the schema": (
        "ALTER SCHEMA report OWNER TO river; GRANT USAGE ON SCHEMA report TO promoter",
        "GRANT CREATE ON SCHEMA report TO promoter",
        "may make nothing in the schema report",
    ),
}


@pytest.mark.parametrize("what", LACKING)
def test_a_missing_right_is_known_at_the_draft(
    promoter: tuple[Program, str, psycopg.Connection], what: str
) -> None:
    """Whose it is; and once it was given, the promotion is carried out."""
    program, _, owner = promoter
    taken, given, said = LACKING[what]
    if "migration" in what:
        more = "ALTER TABLE ops.measurement ADD COLUMN more INTEGER;"
        program.write("schemas/ops/migrations/0002_more.sql", more)
    if what != "making schemas":
        owner.execute(LACKING["making schemas"][1].encode())
    owner.execute(taken.encode())
    refused = program.promote(program.pack(), "dev", code=1).json
    errors = [f for f in refused["findings"] if f["severity"] == "error"]
    assert "promotion/missing-right" in {f["rule"] for f in errors}
    assert any(said in f["message"] for f in errors), errors
    owner.execute(given.encode())
    done = program("promote", program.pack(), "--to", "dev", "--yes", "--overwrite", "--json").json
    assert done["state"] == "done"
    assert "environment/superuser" not in {f["rule"] for f in done["findings"]}


def test_promoting_as_a_superuser_is_warned_of(served: tuple[Program, str]) -> None:
    """In drafts and by the doctor."""
    program, _ = served
    program.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
    done = program.promote(program.pack(), "dev").json
    (warning,) = [f for f in done["findings"] if f["rule"] == "environment/superuser"]
    assert warning["message"].startswith("river at ")
    assert "is a superuser" in program("doctor", "dev", code=None).text


def test_a_right_that_was_taken_away_does_not_come_back(served: tuple[Program, str]) -> None:
    """Default privileges give it to every new table, so also to the one that takes the place."""
    program, url = served
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(b"ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO PUBLIC")
        owner.execute(b"GRANT SELECT (day) ON report.daily_total TO PUBLIC")
        program.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
        assert program.promote(program.pack(), "dev").json["state"] == "done"
        (rights,) = owner.execute(
            b"SELECT array_agg(a::text) FROM pg_class c, aclexplode(c.relacl) a "
            b"WHERE c.oid = 'report.daily_total'::regclass AND a.grantee = 0"
        ).fetchone() or (None,)
        assert rights is None
        ((column,),) = owner.execute(
            b"SELECT attname FROM pg_attribute WHERE attrelid = 'report.daily_total'::regclass "
            b"AND attacl IS NOT NULL"
        ).fetchall()
        assert column == "day"


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_indexes_and_triggers_of_others_stay(starter: Program, kind: str) -> None:
    """Of embedded databases too."""
    url = f"{kind}:///data/d.{kind}"
    starter.edit("environments/dev.toml", URL, url)
    starter.promote(starter.pack(), "dev")
    if kind == "sqlite":
        starter.ask(
            url,
            "CREATE INDEX report.by_total ON daily_total (total)",
            "CREATE TRIGGER report.audit AFTER INSERT ON daily_total BEGIN SELECT 1; END",
            "SELECT 1",
        )
        ask = "SELECT name FROM report.sqlite_master WHERE tbl_name = 'daily_total' ORDER BY 1"
        wanted = [("audit",), ("by_total",), ("daily_total",)]
    else:
        starter.ask(url, "CREATE INDEX by_total ON report.daily_total (total)", "SELECT 1")
        ask = "SELECT index_name FROM duckdb_indexes() WHERE table_name = 'daily_total'"
        wanted = [("by_total",)]
    for factor in (2, 3):
        sql = "/*---\nstore = 'table'\n---*/\nSELECT day, {} * amount AS total FROM ops.measurement"
        starter.write("models/report/daily_total.sql", sql.format(factor))
        assert starter.promote(starter.pack(), "dev").json["state"] == "done"
        assert starter.ask(url, ask) == wanted


# ---- env.store and the desk ----------------------------------------------------------------------

STORE = """\
import pandas as pd
from inchworm.notebook import env
env.store("{table}", pd.DataFrame({{"x": [1]}}), columns={{"x": "INTEGER"}})
"""
NOTEBOOK = (
    '{{"nbformat": 4, "nbformat_minor": 5, "metadata": {{}}, "cells": [{{"cell_type": "code", '
    '"id": "a", "metadata": {{}}, "outputs": [], "execution_count": null, "source": {}}}]}}'
)


def at_a_desk(program: Program, code: str, environment: str | None = None) -> str:
    """Run code in the project's folder; what went wrong, in one line."""
    environ = {k: v for k, v in program.environ.items() if k != "INCHWORM_ENV"}
    if environment is not None:
        environ["INCHWORM_ENV"] = environment
    process = Started(program.folder, environ, code)
    _, err = process.communicate(timeout=60)
    return err.strip().splitlines()[-1] if process.wait() else ""


REFUSED = {
    "ops.measurement": "ops.measurement is what schema:ops provides",
    "report.daily_total": "report.daily_total is what model:report.daily_total provides",
    "report.theirs": "no notebook of this project stores it",
}
TRY = """\
import pandas as pd
from inchworm.notebook import env
told = []
for table in {tables}:
    try:
        env.store(table, pd.DataFrame({{"x": [1]}}), columns={{"x": "INTEGER"}})
    except Exception as error:
        told.append(str(error))
raise SystemExit(" ".join(told))
"""


def test_a_desk_stores_nothing_that_others_rely_on(live: tuple[Program, str]) -> None:
    """Not in a protected environment, not in another part's table, and not in an unknown one."""
    program, url = live
    program.ask(url, "CREATE TABLE report.theirs (x INTEGER)", "SELECT 1")
    program.ask(url, "INSERT INTO report.theirs VALUES (1), (2)", "SELECT 1")
    told = at_a_desk(program, TRY.format(tables=list(REFUSED)))
    for says in REFUSED.values():
        assert says in told
    assert count(program, url, "ops.measurement") == 3
    assert count(program, url, "report.theirs") == 2
    code = STORE.format(table="report.forecast")
    program.write("notebooks/forecast.ipynb", NOTEBOOK.format(json.dumps(code)))
    for _ in range(2):
        assert at_a_desk(program, code) == ""
    assert count(program, url, "report.forecast") == 1
    if not url.startswith("duckdb"):
        return  # what follows is refused before any database is asked
    program.edit("environments/dev.toml", "snapshots = true", "protected = true\nsnapshots = true")
    assert "dev (protected) takes rows from no desk" in at_a_desk(program, code)
    look = "from inchworm.notebook import env\nprint(env.query('SELECT * FROM report.forecast'))"
    assert at_a_desk(program, look) == ""


def test_a_desk_has_no_environment_by_default_where_several_come_first(starter: Program) -> None:
    """Whoever means one says so."""
    url = "duckdb:///.inchworm/other.duckdb"
    starter.write("environments/other.toml", OTHER.format(address="beside dev", url=url))
    look = "from inchworm.notebook import env\nprint(env.query('SELECT 1 AS one'))"
    assert "Several environments come first: dev, other" in at_a_desk(starter, look)
    assert at_a_desk(starter, look, "dev") == ""


# ---- a baseline that is not there ----------------------------------------------------------------

BASELINE = """\
/*---
baseline = true
---*/
CREATE TABLE ops.river (id INTEGER NOT NULL PRIMARY KEY, name TEXT DEFAULT 'none');
CREATE TABLE ops.gauge (
  id INTEGER NOT NULL PRIMARY KEY, river_id INTEGER NOT NULL, UNIQUE (river_id, id), CHECK (id > 0)
);
CREATE INDEX gauge_river ON ops.gauge (river_id);
"""
FALSE = {
    "no keys": ("PRIMARY KEY", ""),
    "no unique": (", UNIQUE (river_id, id)", ""),
    "no check": (", CHECK (id > 0)", ""),
    "another default": ("'none'", "'other'"),
    "no default": ("DEFAULT 'none'", ""),
    "nullable": ("river_id INTEGER NOT NULL", "river_id INTEGER"),
    "another type": ("river_id INTEGER", "river_id TEXT"),
    "a column more": ("name TEXT", "extra INTEGER, name TEXT"),
    "no index": ("CREATE INDEX gauge_river ON ops.gauge (river_id);", ""),
    "another index": ("ops.gauge (river_id);", "ops.gauge (id);"),
}


@pytest.mark.parametrize("what", [None, *FALSE], ids=["the same", *FALSE])
def test_a_baseline_is_proved_by_all_that_it_makes(
    anywhere: tuple[Program, str], what: str | None
) -> None:
    """Also where the address is a parameter; what differs is named, and nothing is assumed."""
    program, url = anywhere
    program.write("schemas/ops/migrations/0001_baseline.sql", BASELINE)
    program.write("models/report/daily_total.sql", "SELECT 1 AS day")
    program.write(
        "parameters.toml", f'[place]\ntype = "text"\nabout = "Where it is"\ndev = "{url}"\n'
    )
    program.edit("environments/dev.toml", f'"{url}"', '"${place}"')
    old, new = FALSE[what] if what else ("", "")
    script = BASELINE.partition("---*/")[2].replace(old, new)
    if url.startswith("sqlite"):
        script = script.replace("INDEX gauge_river ON ops.gauge", "INDEX ops.gauge_river ON gauge")
    database = connect(url, root=program.folder)
    database.create_schema("ops")
    database.close()
    program.ask(url, *[s for s in script.split(";") if s.strip()], "SELECT 1")
    answer = program.promote(program.pack(), "dev", code=1 if what else 0).json
    found = [f["message"] for f in answer["findings"] if f["rule"] == "schema/baseline-differs"]
    assert bool(found) is (what is not None)
    steps = {s["item"]: s["action"] for s in answer["steps"]}
    assert steps["0001_baseline"] == "assume"
    assert answer["state"] == ("refused" if what else "done")


# ---- scratch schemas -----------------------------------------------------------------------------


def test_a_schema_that_is_called_like_a_scratch_schema_is_its_owners(starter: Program) -> None:
    """It is refused to try anything there, and the next promotion does not clear it away.

    Only carrying out tries where a draft cannot: here because the database has a macro.
    """
    url = "duckdb:///data/dev.duckdb"
    starter.edit("environments/dev.toml", URL, url)
    starter.promote(starter.pack(), "dev")
    ((ledger,),) = starter.ask(url, "SELECT ledger FROM inchworm.ledgers")
    suffix = hashlib.sha256(f"{ledger}:P2".encode()).hexdigest()[:8]
    theirs = f"report__try_{suffix}"
    table = f"CREATE TABLE {theirs}.t AS SELECT 7 AS x"
    starter.ask(url, "CREATE MACRO twice(x) AS 2 * x", "SELECT 1")
    starter.ask(url, f"CREATE SCHEMA {theirs}", table, "SELECT 1")
    starter.edit("models/report/daily_total.sql", "sum(amount)", "2 * sum(amount)")
    bundle = starter.pack()
    assert theirs in starter("promote", bundle, "--to", "dev", "--yes", code=1).text
    assert starter.promote(bundle, "dev").json["state"] == "done"
    assert starter.ask(url, f"SELECT x FROM {theirs}.t") == [(7,)]


THEIRS = """
CREATE ROLE neighbour LOGIN;
CREATE SCHEMA next_door AUTHORIZATION neighbour;
GRANT SELECT, TRIGGER, REFERENCES ON report.daily_total TO neighbour WITH GRANT OPTION;
GRANT USAGE ON SCHEMA report TO neighbour;
GRANT SELECT (day) ON report.daily_total TO PUBLIC;
ALTER TABLE report.daily_total ENABLE ROW LEVEL SECURITY;
CREATE POLICY few ON report.daily_total FOR SELECT TO neighbour USING (total < 100000);
CREATE INDEX theirs_by_total ON report.daily_total (total DESC) WHERE total > 1;
CREATE STATISTICS report.theirs_stats ON day, total FROM report.daily_total;
CREATE PUBLICATION next_door_pub FOR TABLE report.daily_total WHERE (total > 0);
COMMENT ON TABLE report.daily_total IS 'read next door';
SET ROLE neighbour;
CREATE VIEW next_door.seen WITH (security_barrier = true) AS
  SELECT day, total FROM report.daily_total WHERE total > 0 WITH LOCAL CHECK OPTION;
CREATE VIEW next_door.upon AS SELECT day FROM next_door.seen;
COMMENT ON COLUMN next_door.seen.day IS 'their day';
GRANT SELECT ON next_door.upon TO PUBLIC;
CREATE FUNCTION next_door.audit() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END';
CREATE TRIGGER audit AFTER INSERT ON report.daily_total
  FOR EACH ROW EXECUTE FUNCTION next_door.audit();
CREATE FUNCTION next_door.refuse() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END';
CREATE TRIGGER refuse INSTEAD OF DELETE ON next_door.upon
  FOR EACH ROW EXECUTE FUNCTION next_door.refuse();
RESET ROLE;
"""

ALL_THEIRS = """
SELECT 'view ' || c.oid::regclass || pg_get_viewdef(c.oid) || coalesce(c.reloptions::text, '')
       || c.relacl::text || pg_get_userbyid(c.relowner)
FROM pg_class c WHERE c.relkind = 'v' AND c.relnamespace = 'next_door'::regnamespace
UNION ALL SELECT 'trigger ' || pg_get_triggerdef(oid) FROM pg_trigger
  WHERE NOT tgisinternal AND tgrelid::regclass::text !~ '__kept'
UNION ALL SELECT 'policy ' || policyname || roles::text || qual FROM pg_policies
  WHERE tablename = 'daily_total'
UNION ALL SELECT 'index ' || indexdef FROM pg_indexes WHERE tablename = 'daily_total'
UNION ALL SELECT 'statistics ' || pg_get_statisticsobjdef(oid) FROM pg_statistic_ext
UNION ALL SELECT 'published ' || pubname || tablename || rowfilter FROM pg_publication_tables
UNION ALL SELECT 'right ' || g.table_name || g.grantee || g.privilege_type || g.is_grantable
  FROM information_schema.role_table_grants g
  WHERE g.grantee = 'neighbour' AND g.table_name !~ '__kept'
UNION ALL SELECT 'right ' || table_name || column_name || privilege_type
  FROM information_schema.column_privileges
  WHERE grantee = 'PUBLIC' AND table_name = 'daily_total'
UNION ALL SELECT 'comment ' || objoid::regclass || objsubid || description FROM pg_description
  WHERE objoid IN ('report.daily_total'::regclass, 'next_door.seen'::regclass)
UNION ALL SELECT 'secured ' || relrowsecurity FROM pg_class
  WHERE oid = 'report.daily_total'::regclass
ORDER BY 1
"""


@pytest.mark.long
def test_a_neighbour_keeps_everything_through_twenty_promotions(
    served: tuple[Program, str],
) -> None:
    """Views, triggers, rights, row security, indexes, statistics, publications and comments."""
    program, url = served
    model = "models/report/daily_total.sql"
    sql = (program.folder / model).read_text()
    with psycopg.connect(url, autocommit=True) as owner:
        owner.execute(b"DROP ROLE IF EXISTS neighbour")
        try:
            owner.execute(THEIRS.encode())
            before = owner.execute(ALL_THEIRS.encode()).fetchall()
            assert len(before) > 15
            for number in range(20):
                columns = f"{number} + sum(amount)"
                text = sql.replace("sum(amount)", columns)
                if number % 4 == 3:  # another shape: their views have to be made again
                    text = text.replace("SELECT day,", f"SELECT day, {number} AS more_{number},")
                program.write(model, text)
                done = program("promote", program.pack(), "--to", "dev", "--yes", "--json").json
                assert done["state"] == "done", done["findings"]
                assert owner.execute(ALL_THEIRS.encode()).fetchall() == before
        finally:
            owner.execute(b"DROP PUBLICATION IF EXISTS next_door_pub")
            owner.execute(b"DROP OWNED BY neighbour CASCADE")
            owner.execute(b"DROP ROLE neighbour")
