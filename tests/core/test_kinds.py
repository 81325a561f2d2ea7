"""Each part kind: which files are its own, and what it knows about them."""

from __future__ import annotations

import json

import pytest
from sqlglot.dialects.dialect import Dialect, Dialects

from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.lineage.graph import How
from inchworm.core.parameters.values import Type, Value
from inchworm.kinds.api_document import json_type
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.kinds.registry import part_of
from inchworm.project.dialects import known_dialects

GAUGES = {
    "schemas/raw/schema.toml": b'managed = "outside"\n',
    "schemas/raw/tables.sql": b"CREATE TABLE raw.gauge (id INTEGER, name VARCHAR, level DOUBLE);",
}


def read(files: dict[str, str]) -> Reading:
    """A project with the gauges and some more files."""
    more = {path: text.encode() for path, text in files.items()}
    return read_project(name="p", version="1.0.0", dialect="duckdb", files=GAUGES | more)


def facts_of(reading: Reading, part: str) -> Facts:
    return reading.assembly.facts[PartId.parse(part)]


def edges(facts: Facts) -> set[str]:
    return {f"{e.source} {e.how} {e.target}" for e in facts.edges}


def notebook(*cells: str) -> str:
    return json.dumps(
        {
            "nbformat": 4,
            "nbformat_minor": 5,
            "metadata": {},
            "cells": [
                {
                    "cell_type": "code",
                    "id": f"c{i}",
                    "metadata": {},
                    "execution_count": i,
                    "outputs": [{"output_type": "stream", "name": "stdout", "text": "secret"}],
                    "source": source,
                }
                for i, source in enumerate(cells)
            ],
        },
        indent=1,
    )


@pytest.mark.parametrize(
    ("path", "part"),
    [
        ("models/Hydro/LEVEL.sql", "model:hydro.level"),
        ("schemas/ops/migrations/0001_a.sql", "schema:ops"),
        ("models/hydro/level.sql", "model:hydro.level"),
        ("models/hydro/deep/level.sql", None),
        ("models/level.sql", None),
        ("checks/recent.sql", "check:recent"),
        ("notebooks/n.ipynb", "notebook:n"),
        ("pipelines/nightly.toml", "pipeline:nightly"),
        ("connections/c.toml", "connection:c"),
        ("flows/f.toml", "flow:f"),
        ("library/lib/a/b.py", "library:lib"),
        ("library/lib.py", None),
        ("consumers/map.toml", "consumer:map"),
        ("consumers/map.txt", None),
    ],
)
def test_a_path_belongs_to_one_part_at_most(path: str, part: str | None) -> None:
    """By its folder, its depth and its ending."""
    found = part_of(path)
    assert (None if found is None else str(found)) == part


def test_a_notebook_is_followed_as_far_as_it_is_constant() -> None:
    """Literals, names, f-strings and sums of them; the rest is a note."""
    reading = read(
        {
            "notebooks/n.ipynb": notebook(
                "%matplotlib inline\nfrom inchworm.notebook import env\nTABLE = 'raw.gauge'",
                "a = env.query(f'SELECT level FROM {TABLE}')",
                "b = env.query('SELECT name ' + 'FROM raw.gauge WHERE id > :first')",
                "c = env.table('RAW.gauge')",
                "for t in names: env.table(t)",
                "env.store('out.result', a, columns={'Level': 'varchar', 'n': 'INT8'})",
            )
        }
    )
    facts = facts_of(reading, "notebook:n")
    assert edges(facts) == {
        "raw.gauge.level computed notebook:n",
        "raw.gauge.name computed notebook:n",
        "raw.gauge.id computed notebook:n",
        "raw.gauge.id rows notebook:n",
        "notebook:n computed out.result.level",
        "notebook:n computed out.result.n",
        "notebook:n rows out.result",
    }
    (table,) = facts.provides
    assert [(c.name, c.type) for c in table.columns] == [("level", "TEXT"), ("n", "BIGINT")]
    assert [use.parameter for use in facts.uses] == ["first"]
    magic, note = reading.assembly.findings
    assert (note.rule, note.severity) == ("notebook/not-followed", "note")
    assert "'%matplotlib inline', which is no Python" in magic.message


LIBRARY = """
from inchworm.notebook import env
BASE = "SELECT id FROM raw.gauge"

def levels(over, where=" WHERE id > 1"):
    return env.query(f"SELECT level FROM {over}" + where)

def named(surroundings, column):
    rows = surroundings.query(f"SELECT {column} FROM raw.gauge")
    return inner(rows)

def inner(rows):
    return inner(rows) if rows else env.query(BASE)

def unclear(name):
    return env.table(name)
"""


@pytest.mark.parametrize(
    ("code", "columns", "notes"),
    [
        ("from lib.read import levels\nlevels('raw.gauge')", {"level", "id"}, 0),
        ("from lib import read as r\nr.levels('raw.gauge', where='')", {"level"}, 0),
        ("import lib.read\nlib.read.named(env, column='name')", {"name", "id"}, 0),
        ("from lib.read import unclear\nunclear('raw.gauge')", {"id", "name", "level"}, 0),
        ("from lib.read import unclear\nfor t in ts:\n    unclear(t)", set(), 1),
        ("def f(t):\n    return env.query('SELECT id FROM ' + t)\nf('raw.gauge')", {"id"}, 0),
        ("def f(t):\n    return env.query('SELECT id FROM ' + t)", set(), 1),
        ("Q = 'SELECT id FROM raw.gauge'\nif x:\n    Q = y\nenv.query(Q)", set(), 1),
        ("with x as y:\n    Q = 'SELECT id FROM raw.gauge'\n    env.query(Q)", {"id"}, 0),
    ],
    ids=[
        "a function",
        "through the module, with a keyword",
        "given the helper",
        "a table",
        "in a loop",
        "of the notebook",
        "never called",
        "assigned in a branch",
        "inside with",
    ],
)
def test_functions_are_followed_where_they_are_called(
    code: str, columns: set[str], notes: int
) -> None:
    """Those of the project's libraries too, with the constants that they are given."""
    reading = read(
        {
            "library/lib/read.py": LIBRARY,
            "notebooks/n.ipynb": notebook("from inchworm.notebook import env\n" + code),
        }
    )
    sources = {edge.source for edge in facts_of(reading, "notebook:n").edges}
    assert {node.field for node in sources if node.owner == "raw.gauge"} == columns
    assert [f.rule for f in reading.assembly.findings] == ["notebook/not-followed"] * notes


def test_a_table_of_another_database_is_named_with_its_line() -> None:
    """Unless the database is declared; nothing is said about its columns."""
    model = {"models/m/a.sql": "SELECT 1 AS n\nUNION ALL\nSELECT b.n FROM far.m.b"}
    (finding,) = read(model).assembly.findings
    assert (finding.rule, finding.line) == ("sql/unknown-catalogue", 3)
    assert finding.message == "reads far.m.b, in a database that is not declared"
    declared = {"sources.toml": '[catalogues]\nothers = ["Far"]\n'}
    assert read(model | declared).assembly.findings == ()


def test_running_a_notebook_is_no_change() -> None:
    """Outputs and counts do not count, and are not delivered."""
    one = read({"notebooks/n.ipynb": notebook("x = 1")})
    other = read({"notebooks/n.ipynb": notebook("x = 1").replace("secret", "other")})
    part = PartId(Kind.NOTEBOOK, "n")
    assert one.render(part, {}).digest == other.render(part, {}).digest
    assert "secret" not in json.dumps(one.render(part, {}).document)


API = """
openapi: 3.1.0
info: {title: t, version: "1"}
paths:
  /n:
    post:
      operationId: send
      requestBody:
        content:
          application/json:
            schema:
              type: object
              required: [who]
              properties: {who: {type: string}, level: {type: number}}
      responses: {"200": {description: ok}}
"""
FLOW = """
direction = "out"
[from]
query = "SELECT upper(name) AS n, level FROM raw.gauge WHERE id > :first"
[to]
connection = "c"
api = "apis/a.yaml"
operation = "send"
[fields]
who = "n"
level = "level"
"""


def test_values_are_put_into_the_api_document_as_it_was_parsed() -> None:
    """So that none can change its structure; each use has its line, and a null stays one."""
    api = API.replace("paths:", 'servers: [{url: "${host}/v1", x-note: null}]\npaths:')
    reading = read({"flows/f.toml": FLOW, "apis/a.yaml": api})
    used = {(u.parameter, u.file, u.line) for u in facts_of(reading, "flow:f").uses}
    assert ("host", "apis/a.yaml", 4) in used
    values = {
        "host": Value(type=Type.TEXT, plain='x"}], paths: {}'),
        "first": Value(type=Type.INTEGER, plain=1),
    }
    rendered = reading.render(PartId.parse("flow:f"), values).document["openapi"]
    assert rendered["servers"] == [{"url": 'x"}], paths: {}/v1', "x-note": None}]
    assert "/n" in rendered["paths"]


def test_a_flow_follows_its_query_into_the_fields() -> None:
    """Copied stays copied; conditions decide rows; the API document is part of it."""
    reading = read({"flows/f.toml": FLOW, "apis/a.yaml": API})
    facts = facts_of(reading, "flow:f")
    assert edges(facts) == {
        "raw.gauge.name computed flow:f.who",
        "raw.gauge.level copied flow:f.level",
        "raw.gauge.id rows flow:f",
    }
    assert [str(need.wanted) for need in facts.needs] == ["connection:c"]
    part = reading.assembly.parts[PartId(Kind.FLOW, "f")]
    assert [file.path for file in part.files] == ["flows/f.toml", "apis/a.yaml"]
    value = Value(type=Type.INTEGER, plain=7)
    document = reading.render(part.id, {"first": value}).document
    assert "id > 7" in document["from"]["query"]
    assert document["openapi"]["info"]["title"] == "t"


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('who = "n"', 'who = "m"', "the field who takes m, which the query does not show"),
        ('who = "n"\n', "", "send requires the field who, which is not mapped"),
        ('level = "level"', 'depth = "level"', "send has no field depth"),
        ("apis/a.yaml", "apis/b.yaml", "there is no apis/b.yaml"),
        ('"send"', '"sent"', "apis/a.yaml has no operation sent"),
        ("SELECT upper", "SELEC upper", "query: "),
        ('connection = "c"\n', "", "[to] needs connection"),
        ('direction = "out"', 'direction = "up"', "direction is 'up'"),
    ],
)
def test_a_flow_must_fit_its_api_and_its_query(old: str, new: str, says: str) -> None:
    """Each misfit is one finding."""
    reading = read({"flows/f.toml": FLOW.replace(old, new), "apis/a.yaml": API})
    assert any(says in finding.message for finding in reading.assembly.findings)


def test_a_models_render_changes_only_with_what_matters() -> None:
    """Not with comments, layout or descriptions; with values, SQL, storage and checks."""

    def digest(text: str, first: int = 1) -> str:
        reading = read({"models/m/a.sql": text})
        value = Value(type=Type.INTEGER, plain=first)
        return str(reading.render(PartId(Kind.MODEL, "m.a"), {"first": value}).digest)

    sql = "SELECT id, level FROM raw.gauge WHERE id > :first"
    base = digest(sql)
    assert digest(f"/*--- about = 'x' ---*/\n-- why\n{sql.lower()}") == base
    for other in (
        sql.replace("level", "name"),
        f"/*--- store = 'table' ---*/ {sql}",
        f"/*--- key = ['id'] ---*/ {sql}",
        f"/*---\n[columns.id]\nrequired = true\n---*/ {sql}",
    ):
        assert digest(other) != base
    assert digest(sql, first=2) != base


def test_a_consumer_names_what_it_reads() -> None:
    """Tables and columns in any case."""
    text = 'contact = "c@c.example"\n[reads]\n"RAW.Gauge" = ["ID", "name"]\n'
    facts = facts_of(read({"consumers/c.toml": text}), "consumer:c")
    assert edges(facts) == {
        "raw.gauge.id copied consumer:c",
        "raw.gauge.name copied consumer:c",
    }
    assert {edge.how for edge in facts.edges} == {How.COPIED}


def test_stars_follow_the_models_below() -> None:
    """In whatever order the files are read."""
    reading = read(
        {
            "models/a/one.sql": "SELECT * FROM b.two",
            "models/b/two.sql": "SELECT *, level * 2 AS twice FROM c.three",
            "models/c/three.sql": "SELECT * EXCLUDE (name) FROM raw.gauge",
        }
    )
    assert [part.name for part in reading.assembly.model_order] == ["c.three", "b.two", "a.one"]
    columns = [(c.name, c.type) for c in reading.assembly.tables["a.one"].columns]
    assert columns == [("id", "INT"), ("level", "DOUBLE"), ("twice", "unknown")]
    assert reading.assembly.findings == ()


def test_files_that_explain_parts_may_stand_beside_them() -> None:
    """They are no parts, and nothing is said of them; a misspelt ending is."""
    beside = {"models/README.md": "x", "models/m/notes.md": "x", "flows/.gitkeep": ""}
    assert read(beside).assembly.findings == ()
    (stray,) = read(beside | {"models/m/a.sq": "SELECT 1"}).assembly.findings
    assert (stray.rule, stray.file) == ("part/stray-file", "models/m/a.sq")


def test_case_of_files_does_not_count() -> None:
    """A folder in capitals makes the same tables."""
    reading = read(
        {
            "schemas/Ops/schema.toml": 'managed = "migrations"',
            "schemas/Ops/migrations/0001_a.sql": "CREATE TABLE OPS.Thing (ID INTEGER PRIMARY KEY);",
            "models/Hydro/Level.sql": "SELECT id FROM ops.THING",
            "pipelines/p.toml": '[[steps]]\nname = "x"\nbuild = ["HYDRO.level"]\n',
        }
    )
    assert reading.assembly.findings == ()
    (need,) = facts_of(reading, "pipeline:p").needs
    assert need.wanted in reading.assembly.parts
    assert edges(facts_of(reading, "model:hydro.level")) == {"ops.thing.id copied hydro.level.id"}


FOLLOWED = {
    "another name": "helper = env\nhelper.query('SELECT id FROM raw.gauge')",
    "the module": "import inchworm.notebook as inb\ninb.env.query('SELECT id FROM raw.gauge')",
    "a method": "q = env.query\nq('SELECT id FROM raw.gauge')",
    "an object of the class": "from inchworm.notebook import Surroundings\n"
    "here = Surroundings(environment='dev')\nhere.query('SELECT id FROM raw.gauge')",
    "a dictionary": "T = {'a': 'raw.gauge'}\nenv.query('SELECT id FROM ' + T['a'])",
    "format": "env.query('SELECT {} FROM raw.gauge'.format('id'))",
    "percent": "env.query('SELECT id FROM %s' % 'raw.gauge')",
    "added to": "q = 'SELECT id'\nq += ' FROM raw.gauge'\nenv.query(q)",
    "a conditional": "env.query('SELECT id FROM raw.gauge' if x else 'SELECT 1 AS one')",
    "branches": "if x:\n    q = 'SELECT id FROM raw.gauge'\nelse:\n    q = 'SELECT 1'\n"
    "env.query(q)",
    "a loop": "for c in ('id', 'id'):\n    env.query(f'SELECT {c} FROM raw.gauge')",
    "a loop over pairs": "for t, c in {'raw.gauge': 'id'}.items():\n"
    "    env.query(f'SELECT {c} FROM {t}')",
    "a function in another name": "def f(t):\n    env.query(f'SELECT id FROM {t}')\n"
    "g = f\ng('raw.gauge')",
    "pandas": "import pandas as pd\npd.read_sql('SELECT id FROM raw.gauge', con)",
    "a connection": "import duckdb\ncon = duckdb.connect('x.duckdb')\n"
    "con.execute('SELECT id FROM raw.gauge').df()",
    "a block with a connection": "import sqlalchemy as sa\nengine = sa.create_engine(url)\n"
    "with engine.connect() as c:\n    c.execute(sa.text('SELECT id FROM raw.gauge'))",
    "Spark": "spark.sql('SELECT id FROM raw.gauge')",
    "code behind a magic": "%time rows = env.query('SELECT id FROM raw.gauge')",
    "code below a magic": "%%time\nrows = env.query('SELECT id FROM raw.gauge')",
    "after a command": "!pip list\nfiles = !ls\nenv?\nenv.query('SELECT id FROM raw.gauge')",
    "a text that looks like commands": "env.query('''SELECT id\n FROM raw.gauge WHERE id "
    "\n%2 = 1''')",
}


@pytest.mark.parametrize("code", FOLLOWED.values(), ids=FOLLOWED.keys())
def test_other_ways_to_write_it_are_followed(code: str) -> None:
    """To the columns that they read."""
    reading = read({"notebooks/n.ipynb": notebook(f"from inchworm.notebook import env\n{code}")})
    sources = {edge.source for edge in facts_of(reading, "notebook:n").edges}
    assert {node.field for node in sources if node.owner == "raw.gauge"} == {"id"}
    assert {f.severity for f in reading.assembly.findings} <= {"note"}


NOTED_ONLY = {
    "SQL that nobody sees": "import pandas as pd\npd.read_sql(make(), con)",
    "SQL that writes": "import duckdb\nduckdb.sql('DROP TABLE raw.gauge')",
    "a table of another database": "import pandas as pd\npd.read_sql('SELECT * FROM far.off', con)",
    "a table that is written": "frame.to_sql('gauge', con, schema='raw')",
    "a command": "!ls",
    "a magic": "%matplotlib inline",
    "another language's cell": "%%sql\nSELECT 1",
    "a question": "env.query?",
}


@pytest.mark.parametrize("code", NOTED_ONLY.values(), ids=NOTED_ONLY.keys())
def test_what_a_notebook_does_otherwise_is_noted(code: str) -> None:
    """One note, with the line, and no error."""
    reading = read({"notebooks/n.ipynb": notebook(f"from inchworm.notebook import env\n{code}")})
    if code.startswith("%%"):
        reading = read({"notebooks/n.ipynb": notebook(code)})
    (note,) = reading.assembly.findings
    assert (note.rule, note.severity) == ("notebook/not-followed", "note")
    assert note.line is not None


def test_a_notebook_of_another_language_is_noted() -> None:
    """Its cells are not read as Python."""
    document = json.loads(notebook("library(dplyr)\nx <- 1"))
    document["metadata"] = {"kernelspec": {"name": "ir", "display_name": "R", "language": "R"}}
    reading = read({"notebooks/n.ipynb": json.dumps(document)})
    (note,) = reading.assembly.findings
    assert (note.rule, note.message) == ("notebook/not-followed", "is in the language r")


@pytest.mark.parametrize(
    ("code", "missing"),
    [
        ("from lib.nothing import levels", "lib.nothing.levels"),
        ("from lib.read import level", "lib.read.level"),
        ("import lib.reed", "lib.reed"),
        ("from lib import read, reed", "lib.reed"),
        ("from lib.read import levels, BASE\nfrom other import anything\nimport json", None),
    ],
)
def test_an_import_that_a_library_does_not_have(code: str, missing: str | None) -> None:
    """Is an error, with its line; other packages are not ours to know."""
    reading = read({"library/lib/read.py": LIBRARY, "notebooks/n.ipynb": notebook(code)})
    errors = [f for f in reading.assembly.findings if f.severity == "error"]
    assert [f.message.split()[1].rstrip(",") for f in errors] == ([missing] if missing else [])
    assert {f.rule for f in errors} <= {"notebook/missing-import"}


def test_a_function_of_a_library_knows_its_notebooks() -> None:
    """Function by function, through others of the library too."""
    code = "from lib.read import named\nfrom inchworm.notebook import env\nnamed(env, 'name')"
    reading = read({"library/lib/read.py": LIBRARY, "notebooks/n.ipynb": notebook(code)})
    assert 'library:lib."read.named" computed notebook:n' in edges(facts_of(reading, "notebook:n"))


@pytest.mark.parametrize(
    ("column", "asked", "fits"),
    [
        ("id", "integer", True),
        ("id", "number", True),
        ("id", "string", False),
        ("name", "string", True),
        ("name", "number", False),
        ("level", "integer", False),
        ("level", "[number, 'null']", True),
    ],
)
def test_types_of_columns_and_fields_must_fit(column: str, asked: str, fits: bool) -> None:
    """A whole number fits a number, but not the other way; what is not certain is let pass."""
    flow = FLOW.replace(
        'query = "SELECT upper(name) AS n, level FROM raw.gauge WHERE id > :first"',
        'table = "raw.gauge"',
    )
    flow = flow.replace('who = "n"', 'who = "name"').replace(
        'level = "level"', f'level = "{column}"'
    )
    api = API.replace("level: {type: number}", f"level: {{type: {asked}}}")
    reading = read({"flows/f.toml": flow, "apis/a.yaml": api})
    said = [f.message for f in reading.assembly.findings]
    assert bool(said) is not fits
    assert all(message.startswith("the field level is") for message in said)


def test_every_dialect_that_is_offered_can_be_had() -> None:
    """And none of the parser's is missing."""
    names = known_dialects()
    assert {dialect.value for dialect in Dialects if dialect.value} <= set(names)
    for name in names:
        assert Dialect.get_or_raise(name)


@pytest.mark.parametrize(
    ("sql", "json"),
    [
        ("INT", "integer"),
        ("BIGINT", "integer"),
        ("DECIMAL(8, 2)", "number"),
        ("DOUBLE", "number"),
        ("BOOLEAN", "boolean"),
        ("TIMESTAMPTZ", "string"),
        ("INTERVAL", None),
        ("INT[]", None),
        ("DATERANGE", None),
        ("unknown", None),
    ],
)
def test_a_column_has_a_json_type_only_where_it_is_certain(sql: str, json: str | None) -> None:
    """A type that only begins like another one is none."""
    assert json_type(sql) == json


@pytest.mark.parametrize(
    "path",
    ["notebooks/a#b.ipynb", "flows/a?b.toml", "models/m/a%2fb.sql", "checks/a\x1b[2J.sql"],
)
def test_a_name_that_means_something_in_addresses_is_no_parts_name(path: str) -> None:
    """It is said with the letter; nothing else of the project suffers."""
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files={path: b"SELECT 1"})
    assert not reading.assembly.parts
    (finding,) = reading.assembly.findings
    assert finding.rule == "part/stray-file"
    assert "no name has" in finding.message
