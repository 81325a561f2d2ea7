"""``inchworm params``, values for once, and ``inchworm doctor``."""

from __future__ import annotations

import pytest

from tests.driver import Program


def test_the_matrix_shows_environments_beside_each_other(river: Program) -> None:
    """Differing rows are marked in words; of secrets only where they are kept."""
    said = river("params").text
    assert "rise_warning_cm differs 20 30 30" in said
    assert "trend_hours same 3 3 3" in said
    assert "11 parameters" in said
    document = river("params", "--json").json
    assert document["format"] == "inchworm/parameters/1"
    (row,) = [p for p in document["parameters"] if p["name"] == "notice_token"]
    assert row["values"]["test"]["value"] == "file:.secrets/notice_token.test"
    assert row["values"]["test"]["line"]


def test_only_what_differs_between_two(river: Program) -> None:
    """Names are matched without case."""
    document = river("params", "--env", "TEST", "--against", "prod", "--json").json
    assert {p["name"] for p in document["parameters"]} == {
        "readings_from",
        "forecast_memory",
        "notice_url",
        "notice_token",
        "portal_url",
    }
    assert "Did you mean prod?" in river("params", "--env", "prd", code=2).text


def test_one_parameter_is_explained(released: Program) -> None:
    """Each value with its line, the parts that use it, and what is live since which bundle."""
    released.edit("parameters.toml", 'dev = "2026-10-24"', 'dev = "2026-10-20"')
    document = released("params", "Readings_From", "--json").json["parameters"][0]
    dev, test, prod = (document["values"][name] for name in ("dev", "test", "prod"))
    assert dev["value"] == "2026-10-20"
    assert (dev["live"]["value"], dev["live"]["bundle"]) == ("2026-10-24", "riverwatch-1.4.0")
    assert test["live"]["value"] == test["value"] == "2026-08-01"
    assert prod["live"] is None
    assert document["uses"][0]["part"] == "model:hydro.reading_clean"
    assert "nothing uses it there" in released("params", "readings_from").text


def test_a_value_since_the_bundle_that_brought_it(released: Program) -> None:
    """Not since the latest promotion, which left it as it was."""
    released.edit("models/hydro/level_trend.sql", "mean_cm - lag", "1.0 * mean_cm - lag")
    released.promote(released.release("1.4.1"), "dev")
    row = released("params", "trend_hours", "--json").json["parameters"][0]
    assert row["values"]["dev"]["live"]["bundle"] == "riverwatch-1.4.0"


@pytest.mark.parametrize(
    ("arguments", "line", "says"),
    [
        (("forecast_hours", "dev", "24"), "dev = 24", ""),
        (("readings_from", "test", "today - 60d"), 'test = "today - 60d"', ""),
        (("notice_token", "dev", "secret:river/x#y"), 'dev = "secret:river/x#y"', ""),
        (("forecast_hours", "dev", "many"), "", "is not a whole number"),
        (("notice_token", "dev", "hunter2"), "", "a secret is only a reference"),
        (("forecast_hour", "dev", "24"), "", "Did you mean forecast_hours?"),
        (("forecast_hours", "tset", "24"), "", "Did you mean test?"),
    ],
)
def test_a_value_is_set_where_it_stands(
    river: Program, arguments: tuple[str, ...], line: str, says: str
) -> None:
    """Nothing else in the file changes; a value of the wrong type is refused."""
    file = river.folder / "parameters.toml"
    before = file.read_text().splitlines()
    answer = river("params", "set", *arguments, code=2 if says else 0)
    changed = [
        new for old, new in zip(before, file.read_text().splitlines(), strict=True) if old != new
    ]
    assert changed == ([line] if line else [])
    assert says in answer.text
    assert "hunter2" not in answer.text


def test_a_value_for_once(released: Program) -> None:
    """Where the environment takes one: recorded, shown, and gone with the next promotion."""
    name = released.pack()
    refused = released("promote", name, "--to", "dev", "--value", "trend_hours=6", "--yes", code=2)
    assert "dev (not protected) takes no values for once" in refused.text
    released.edit("environments/dev.toml", "snapshots = true", "snapshots = true\noverrides = true")
    answer = released(
        "promote", name, "--to", "dev", "--value", "trend_hours=6", "--yes", "--json"
    ).json
    assert answer["overrides"] == {"trend_hours": "6"}
    assert ("trend_hours", "6", "3") in {
        (v["name"], v["here"], v["before"]) for v in answer["values"]
    }
    assert "given for once dev: trend_hours = 6" in released("status").text
    back = released.promote(name, "dev").json
    assert {s["part"] for s in back["steps"]} >= {"model:hydro.level_trend"}
    assert "given for once" not in released("status").text
    for given, says in (
        ("trend_hours", "is not NAME=TEXT"),
        ("trend=1", "Did you mean trend_hours?"),
        ("trend_hours=x", "is not a whole number"),
    ):
        wrong = released("promote", name, "--to", "dev", "--value", given, "--yes", code=None)
        assert wrong.code in {1, 2}
        assert says in wrong.text


def test_a_draft_shows_the_secrets_that_it_uses(released: Program) -> None:
    """Only where they are kept."""
    released.edit("parameters.toml", "dev = 20", "dev = 25")
    name = released.release("1.4.1")
    said = released("promote", name, "--to", "dev", "--draft").text
    assert "rise_warning_cm 25" in said
    assert "at the last promotion" in said
    assert "notice_token file:.secrets/notice_token.dev" in said


def test_the_doctor_finds_nothing_wrong(released: Program) -> None:
    """One line per probe, in every environment; and nothing stays changed."""
    before = released.query("dev", "SELECT count(*) FROM information_schema.tables")
    document = released("doctor", "--json").json
    assert document["format"] == "inchworm/probes/1"
    assert {probe["state"] for probe in document["probes"]} == {"fine"}
    found = {(probe["where"], probe["what"]) for probe in document["probes"]}
    assert {
        ("project", "ledger"),
        ("dev", "secrets"),
        ("prod", "rights"),
        ("test", "gateway"),
    } <= found
    assert released.query("dev", "SELECT count(*) FROM information_schema.tables") == before


@pytest.mark.parametrize(
    ("fault", "what", "says"),
    [
        ("secret", "secrets", "cannot be read"),
        ("database", "database", "cannot be opened"),
        ("service", "workspace", "cannot be reached"),
        ("value", "values", "has no value for dev"),
        ("table", "tables managed outside", "raw.reading cannot be read"),
    ],
)
def test_the_doctor_names_what_is_wrong(
    released: Program, fault: str, what: str, says: str
) -> None:
    """And what to do about it; what could not be tried is said, too."""
    match fault:
        case "secret":
            (released.folder / ".secrets/notice_token.dev").unlink()
        case "database":
            (released.folder / "data/river_dev.duckdb").write_bytes(b"no database" * 1000)
        case "service":
            released.edit("environments/dev.toml", 'url = "sim:dev"', 'url = "http://127.0.0.1:9"')
        case "value":
            released.edit("parameters.toml", "dev = 20\n", "")
        case _:
            released.query("dev", "DROP TABLE raw.reading")
    probes = released("doctor", "dev", "--json", code=1).json["probes"]
    failed = [probe for probe in probes if probe["state"] == "failed"]
    assert failed[0]["what"] == what
    assert says in failed[0]["message"]
    assert all(probe["remedy"] for probe in failed)
    assert ("not tried" in {probe["state"] for probe in probes}) is (fault == "database")


def test_piped_output_breaks_no_word(river: Program) -> None:
    """However many environments there are."""
    for name in ("one", "two", "three"):
        text = (river.folder / "environments/dev.toml").read_text()
        river.write(f"environments/{name}.toml", text.replace("dev", name))
    matrix = (river.folder / "parameters.toml").read_text()
    long = "http://127.0.0.1:8850/a_long_path_that_is_one_word/{}/notices"
    lines = []
    for line in matrix.splitlines():
        lines.append(line)
        if line.startswith("dev ="):
            for name in ("one", "two", "three"):
                is_url = "sim:board" in line
                lines.append(f'{name} = "{long.format(name)}"' if is_url else name + line[3:])
    river.write("parameters.toml", "\n".join(lines))
    shown = river("params").out
    for name in ("one", "two", "three"):
        assert long.format(name) in shown


def test_a_value_is_written_as_it_is_reported(river: Program) -> None:
    """A number with more digits than its file keeps is refused; line ends stay as they are."""
    file = river.folder / "parameters.toml"
    number = '[rate]\ntype = "number"\nabout = "A rate"\nevery = 1.5\n'
    file.write_bytes((file.read_text() + number).replace("\n", "\r\n").encode())
    refused = river("params", "set", "rate", "every", "0.12345678901234567890123", code=2)
    assert "more digits" in refused.err
    river("params", "set", "rate", "every", "0.125")
    written = file.read_bytes()
    assert b"every = 0.125\r\n" in written
    assert written.count(b"\n") == written.count(b"\r\n")


def test_a_version_keeps_line_ends(river: Program) -> None:
    """As an editor of another system wrote them."""
    file = river.folder / "inchworm.toml"
    file.write_bytes(file.read_bytes().replace(b"\n", b"\r\n"))
    river("version", "minor")
    written = file.read_bytes()
    assert b'version = "1.5.0"\r\n' in written
    assert written.count(b"\n") == written.count(b"\r\n")
