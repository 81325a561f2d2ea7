"""Flows that copy files: each is taken once and whole, whatever it looks like, on any database."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import duckdb
import pytest

from inchworm.targets.file_places import FilePlace
from tests.driver import Program
from tests.once import DEV, SQLITE, Once
from tests.program.crash import die_copying

TABLE = """
CREATE TABLE ops.reading (
  gauge TEXT NOT NULL, taken_on DATE, level DECIMAL(8, 1), hours BIGINT, note TEXT
);
"""
FLOW = """
direction = "copy"
[from]
connection = "loggers"
files = "**/*.*"
[to]
table = "ops.reading"
[fields]
gauge = "gauge"
taken_on = "day"
level = "level_cm"
hours = "hours"
note = "note"
"""
HEADER = "gauge,day,level_cm,hours,note,unused\n"


Place = tuple[Program, str, Path]
"""A flow that is live in development, its database, and the folder that it takes from."""


@pytest.fixture
def copying(once: Once, anywhere: tuple[Program, str]) -> Place:
    """It in a database of each kind."""
    once(prepare, *anywhere)
    return (*anywhere, anywhere[0].folder / "incoming")


@pytest.fixture
def at_desk(once: Once, plain: Program) -> Place:
    """It in SQLite, for what does not depend on the database."""
    once(prepare, plain, SQLITE)
    return plain, SQLITE, plain.folder / "incoming"


def prepare(program: Program, url: str) -> None:
    """A project with the flow, promoted into development."""
    (program.folder / "incoming").mkdir()
    matrix = (program.folder / "parameters.toml").read_text()
    program.write(
        "parameters.toml", f'{matrix}\n[loggers_url]\ntype = "text"\nevery = "incoming"\n'
    )
    program.write("connections/loggers.toml", 'kind = "files"\nurl = "${loggers_url}"\n')
    program.write("schemas/ops/migrations/0002_reading.sql", TABLE)
    program.write("flows/loggers.toml", FLOW)
    program.promote(program.pack(), "dev")


def run(program: Program, code: int | None = 0) -> dict[str, Any]:
    """The step of a run of the flow."""
    lines = program("run", "flow:loggers", "--in", "dev", "--yes", "--json", code=code).out
    step: dict[str, Any] = json.loads(lines.splitlines()[-1])["steps"][0]
    return step


def count(program: Program, url: str) -> int:
    found = program.ask(url, "SELECT count(*) FROM ops.reading")
    return int(found[0][0])


def test_files_of_every_format_are_taken_once(copying: Place) -> None:
    program, url, folder = copying
    (folder / "a.csv").write_text(
        HEADER + 'weir,2026-11-01,12.5,3,"two\nlines, and a comma",x\nweir,2026-11-02,,,,\n'
    )
    (folder / "deep").mkdir()
    (folder / "deep/b.jsonl").write_text(
        '{"gauge": "mill", "day": "2026-11-01", "level_cm": 7, "hours": 4}\n\n'
        '{"gauge": "mill", "day": null, "level_cm": 1.5, "hours": 5, "note": "ü"}\n'
    )
    duckdb.sql(
        "SELECT 'lock' AS gauge, DATE '2026-11-03' AS day, 2.5::DECIMAL(8, 1) AS level_cm, "
        "6::BIGINT AS hours, 'p' AS note"
    ).write_parquet(str(folder / "c.parquet"))

    step = run(program)
    assert step["state"] == "done"
    assert step["rows"] == 5
    assert step["message"].startswith("3 files taken")
    columns = "gauge, taken_on, level, hours, note"
    rows = program.ask(url, f"SELECT {columns} FROM ops.reading ORDER BY gauge, hours")
    by_gauge = {
        (gauge, hours): (str(day)[:10], None if level is None else float(level), note)
        for gauge, day, level, hours, note in rows
    }
    assert by_gauge == {
        ("lock", 6): ("2026-11-03", 2.5, "p"),
        ("mill", 4): ("2026-11-01", 7.0, None),
        ("mill", 5): ("None", 1.5, "ü"),
        ("weir", 3): ("2026-11-01", 12.5, "two\nlines, and a comma"),
        ("weir", None): ("2026-11-02", None, None),
    }

    again = run(program)
    assert again["message"] == "0 files taken, 3 taken before"
    assert count(program, url) == 5

    os.utime(folder / "a.csv", (1_000_000, 1_000_000))  # copied again as it is: nothing new
    assert run(program)["message"] == "0 files taken, 3 taken before"


@pytest.mark.parametrize(
    ("name", "content", "reason"),
    [
        ("cut.csv", HEADER + "weir,2026-11-01,1,1,,\nweir,2026-1", "line 3 has 2 values"),
        ("quoted.csv", HEADER + 'weir,2026-11-01,1,1,"open', "may be cut off"),
        ("empty.csv", "", "empty"),
        ("other.csv", "gauge,day\nweir,2026-11-01\n", "no column level_cm"),
        ("twice.csv", "gauge,day,level_cm,hours,note,note\nweir,,1,1,a,b\n", "several columns"),
        ("number.csv", HEADER + "weir,2026-11-01,1,many,,\n", "line 2: hours"),
        ("day.csv", HEADER + "weir,2026-02-30,1,1,,\n", "line 2: day"),
        ("latin.csv", HEADER + "Mühle,2026-11-01,1,1,,\n", "not UTF-8"),
        ("cut.jsonl", '{"gauge": "weir"}\n{"gauge": ', "line 2 is no JSON"),
        ("list.jsonl", "[1]\n", "line 1 is no JSON object"),
        ("cut.parquet", "PAR1 and no more", "no whole Parquet file"),
        ("what.bin", "x", "write format"),
        ("nobody.csv", HEADER + ",2026-11-01,1,1,,\n", "does not take it"),
    ],
)
def test_a_file_that_is_not_whole_is_not_taken_at_all(
    at_desk: Place, name: str, content: str, reason: str
) -> None:
    program, url, folder = at_desk
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    (folder / name).write_bytes(content.encode("latin-1" if name == "latin.csv" else "utf-8"))
    step = run(program, code=None)
    assert step["state"] == "warning"
    assert "1 file taken" in step["message"]
    assert "1 file not taken" in step["message"]
    assert f"{name}: " in step["log"]
    assert reason in step["log"]
    assert count(program, url) == 1

    (folder / name).unlink()
    (folder / "whole.csv").write_text(HEADER + "mill,2026-11-01,1,1,,\n")
    assert run(program)["message"] == "1 file taken, 1 taken before"
    assert count(program, url) == 2


UNFIT = {
    "number.csv": (
        HEADER + "weir,2026-11-01,1,9223372036854775808,,\n",
        "9223372036854775808 is too large for",
    ),
    "level.csv": (HEADER + "weir,2026-11-01,NaN,1,,\n", "line 2: level_cm is not as expected"),
    "level.jsonl": ('{"gauge": "weir", "level_cm": NaN}\n', "line 1 is no JSON (NaN is no number"),
    "text.jsonl": ('{"gauge": "\\ud800"}\n', "line 1: gauge is not as expected: it is no text"),
}
"""Files that no database takes, and the reason by which each is named."""


def test_each_file_that_cannot_be_taken_is_named_with_its_reason(copying: Place) -> None:
    """It vanishes, comes from the future, or has what is no number; the others are taken."""
    program, url, folder = copying
    for name, (content, _) in UNFIT.items():
        (folder / name).write_text(content)
    (folder / "ahead.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    os.utime(folder / "ahead.csv", (4_000_000_000, 4_000_000_000))
    (folder / "gone.csv").symlink_to(folder / "nowhere")
    (folder / "whole.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    large = "SELECT 'weir' AS gauge, DATE '2026-11-03' AS day, 1.5 AS level_cm, 1e30 AS hours"
    duckdb.sql(f"{large}, 'p' AS note").write_parquet(str(folder / "hours.parquet"))
    step = run(program, code=None)
    assert step["message"].startswith("1 file taken")
    for name, (_, reason) in UNFIT.items():
        assert f"{name}: " in step["log"]
        assert reason in step["log"]
    assert "ahead.csv: it was written at 2096-10-02T07:06:40+00:00" in step["log"]
    assert "hours.parquet: " in step["log"]
    assert "aborted" not in step["log"]
    assert count(program, url) == 1


@pytest.mark.parametrize("fails", [False, True])
def test_a_run_with_warnings_is_not_done_without_a_word(at_desk: Place, fails: bool) -> None:
    """Its pipeline may say that it has failed then; what is mended is done by going on."""
    program, url, folder = at_desk
    step = '[[steps]]\nname = "take"\nflow = "loggers"\n'
    means = "fail" if fails else "pass"
    program.write("pipelines/take.toml", f'warnings = "{means}"\n{step}')
    program.promote(program.pack(), "dev")
    (folder / "a.csv").write_text("gauge\n")
    told = program("run", "take", "--in", "dev", "--yes", code=5 if fails else 0).text
    assert ("partly done" if fails else "done") in told
    assert ("1 warning, and warnings fail this" if fails else "with 1 warning") in told
    (run,) = program("history", "--runs", "--json").json["runs"]
    assert run["message"].startswith("1 warning")
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    again = ("--since-failed",) if fails else ()
    program("run", "take", "--in", "dev", "--yes", *again)
    assert count(program, url) == 1


def test_a_file_that_vanishes_stops_no_other(
    at_desk: Place, monkeypatch: pytest.MonkeyPatch
) -> None:
    """It was listed, and somebody took it away before it was read."""
    program, _, folder = at_desk
    for name in ("a.csv", "b.csv"):
        (folder / name).write_text(HEADER + f"{name},2026-11-01,1,1,,\n")
    fetch = FilePlace.fetch

    def gone(place: FilePlace, path: str, to: Path) -> str:
        if path == "a.csv":
            (folder / "a.csv").unlink()
        return fetch(place, path, to)

    monkeypatch.setattr(FilePlace, "fetch", gone)
    step = run(program, code=None)
    assert step["message"] == "1 file taken, 1 file not taken"
    assert step["log"] == "a.csv: it is not there any more"


def test_a_row_that_the_table_refuses_takes_its_file_back(copying: Place) -> None:
    program, url, folder = copying
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n,2026-11-01,1,1,,\n")
    (folder / "b.csv").write_text(HEADER + "weir,2026-11-01,1,2,,\n")
    step = run(program, code=None)
    assert step["message"] == "1 file taken, 1 file not taken"
    assert "a.csv: " in step["log"]
    assert count(program, url) == 1


def test_a_file_that_changed_since_is_told_and_left(at_desk: Place) -> None:
    program, url, folder = at_desk
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    run(program)
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\nweir,2026-11-02,1,1,,\n")
    for _ in range(2):
        step = run(program, code=None)
        assert step["state"] == "warning"
        assert "1 file changed since" in step["message"]
        assert "a.csv: changed since R1 took it" in step["log"]
        assert count(program, url) == 1


def test_a_file_that_is_still_written_waits(at_desk: Place) -> None:
    program, url, folder = at_desk
    program.edit("flows/loggers.toml", 'direction = "copy"', 'direction = "copy"\nsettled = "1h"')
    program.promote(program.pack(), "dev")
    (folder / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    (folder / ".b.csv.partial").write_text(HEADER)
    assert run(program)["message"] == "0 files taken, 1 still being written"
    os.utime(folder / "a.csv", (1_000_000, 1_000_000))
    assert run(program)["message"] == "1 file taken"
    assert count(program, url) == 1


def copy_into_archive(program: Program) -> None:
    """Have the flow copy every file into a folder of another one."""
    program.write("connections/archive.toml", 'kind = "files"\nurl = "${archive_url}"\n')
    matrix = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{matrix}\n[archive_url]\ntype = "text"\nevery = "archive"\n')
    program.write(
        "flows/loggers.toml",
        'direction = "copy"\n[from]\nconnection = "loggers"\nfiles = "**"\n'
        '[to]\nconnection = "archive"\nfolder = "2026"\n',
    )
    program.promote(program.pack(), "dev")


def test_files_go_into_a_folder_and_never_over_others(at_desk: Place) -> None:
    program, _, folder = at_desk
    copy_into_archive(program)
    (folder / "deep").mkdir()
    (folder / "deep/a.bin").write_bytes(bytes(range(256)))
    (folder / "b.txt").write_text("ours")
    archive = program.folder / "archive/2026"
    archive.mkdir(parents=True)
    (archive / "b.txt").write_text("theirs")
    step = run(program, code=None)
    assert step["message"] == "1 file taken, 1 file not taken"
    assert (archive / "deep/a.bin").read_bytes() == bytes(range(256))
    assert (archive / "b.txt").read_text() == "theirs"
    assert sorted(p.name for p in archive.rglob("*") if p.is_file()) == ["a.bin", "b.txt"]
    (archive / "b.txt").write_text("ours")  # as after a run that was killed before its mark
    assert run(program)["message"] == "1 file taken, 1 taken before"


def test_a_folder_may_be_called_like_a_pattern(at_desk: Place) -> None:
    program, url, folder = at_desk
    program.edit("parameters.toml", '"incoming"', '"in [1]*"')
    program.promote(program.pack(), "dev")
    odd = folder.with_name("in [1]*")
    odd.mkdir()
    (odd / "a.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n")
    assert run(program)["message"] == "1 file taken"
    assert count(program, url) == 1


def test_a_folder_that_is_not_there_is_a_clear_failure(at_desk: Place) -> None:
    program, _, folder = at_desk
    folder.rmdir()
    step = run(program, code=1)
    assert step["state"] == "failed"
    assert "there is no such folder" in step["message"]


@pytest.mark.long
def test_each_file_comes_once_though_runs_are_killed(copying: Place) -> None:
    """Before anything of a file was taken, and with its rows and mark written, uncommitted."""
    program, url, folder = copying
    for name in "abcd":
        (folder / f"{name}.csv").write_text(HEADER + "weir,2026-11-01,1,1,,\n" * 3)
    die_copying(program, "loggers", "marked", 2)
    assert count(program, url) == 3
    die_copying(program, "loggers", "fetched", 2)
    assert count(program, url) == 6
    assert run(program)["message"] == "2 files taken, 2 taken before"
    assert count(program, url) == 12
    assert run(program)["message"] == "0 files taken, 4 taken before"


def test_a_file_that_arrived_before_the_run_was_killed_is_known(at_desk: Place) -> None:
    """In a folder it is there without a mark: the next run knows it by its content."""
    program, _, folder = at_desk
    copy_into_archive(program)
    for name in "ab":
        (folder / f"{name}.txt").write_text(name)
    die_copying(program, "loggers", "put", 1)
    archive = program.folder / "archive/2026"
    assert [path.name for path in archive.iterdir()] == ["a.txt"]
    assert run(program)["message"] == "2 files taken"
    assert sorted(path.name for path in archive.iterdir()) == ["a.txt", "b.txt"]


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ('files = "**/*.*"', "", "[from] needs connection = ... and files = ..."),
        ('table = "ops.reading"', "", "[to] needs either table = ... or connection = ..."),
        ('files = "**/*.*"', 'files = "*"\nquery = "SELECT 1"', "query means nothing here"),
        ('direction = "copy"', 'direction = "copy"\nsettled = "soon"', "not a duration"),
        ('gauge = "gauge"', 'gaage = "gauge"', "gaage"),
        ('"**/*.*"', '"../*.csv"', "has to be below the connection's folder"),
        ('"**/*.*"', '"/etc/*"', "has to be below the connection's folder"),
        ('direction = "copy"', 'direction = "copy"\nformat = "xml"', "Write one of"),
    ],
)
def test_settings_that_do_not_fit_are_findings(
    at_desk: Place, old: str, new: str, message: str
) -> None:
    program, _, _ = at_desk
    program.edit("flows/loggers.toml", old, new)
    findings = program.findings()
    assert any(message in f["message"] + f["remedy"] for f in findings), findings


def test_a_connection_to_another_kind_of_place_is_a_finding(
    at_desk: Place,
) -> None:
    program, _, _ = at_desk
    program.edit("connections/loggers.toml", '"files"', '"http"')
    assert program.findings()[0]["rule"] == "flow/other-place"


def test_lineage_leads_from_a_file_to_what_reads_the_table(
    at_desk: Place,
) -> None:
    program, _, _ = at_desk
    program.write("models/mart/levels.sql", "SELECT gauge, level AS cm FROM ops.reading")
    edges = program("trace", "mart.levels.cm", "--up", "--json").json["edges"]
    assert {"from": "flow:loggers.level_cm", "to": "ops.reading.level", "how": "copied"} in edges


def test_first_runs_beside_each_other_find_their_bookkeeping(
    starter: Program, postgres_url: str
) -> None:
    """The promotion has made it: no two runs make one table at once."""
    starter.edit("environments/dev.toml", DEV, postgres_url)
    prepare(starter, postgres_url)
    steps = ""
    for number in range(6):
        table = TABLE.replace("ops.reading", f"ops.reading_{number}")
        starter.write(f"schemas/ops/migrations/{number + 3:04}_reading.sql", table)
        flow = FLOW.replace("ops.reading", f"ops.reading_{number}")
        starter.write(f"flows/flow_{number}.toml", flow)
        steps += f'[[steps]]\nname = "s{number}"\nflow = "flow_{number}"\n'
    starter.write("pipelines/beside.toml", steps)
    starter.promote(starter.pack(), "dev")
    made = starter.ask(
        postgres_url,
        "SELECT count(*) FROM information_schema.tables WHERE table_schema = 'inchworm' "
        "AND table_name IN ('request_contents', 'taken_files', 'taken_requests', 'unsent_rows')",
    )
    assert made == [(4,)]
    (starter.folder / "incoming/a.csv").write_text(f"{HEADER}weir,2026-11-01,12.5,3,n,\n")
    starter("run", "beside", "--in", "dev", "--yes")
    for number in range(6):
        assert starter.ask(postgres_url, f"SELECT count(*) FROM ops.reading_{number}") == [(1,)]


def test_files_that_were_taken_otherwise_are_recorded(at_desk: Place) -> None:
    """Before there was the flow: their rows are in the table; files that come later are taken."""
    program, url, folder = at_desk
    (folder / "old.csv").write_text(f"{HEADER}weir,2026-11-01,1,1,,\n")
    lines = program(
        *("run", "flow:loggers", "--in", "dev", "--already-taken", "--yes", "--json")
    ).out.splitlines()
    step = json.loads(lines[-1])["steps"][0]
    assert step["message"] == "0 files taken, 1 recorded as taken before"
    assert count(program, url) == 0
    (folder / "new.csv").write_text(f"{HEADER}weir,2026-11-02,1,1,,\n")
    assert run(program)["message"] == "1 file taken, 1 taken before"
    assert count(program, url) == 1
    refused = program("run", "daily", "--in", "dev", "--already-taken", "--yes", code=2)
    assert "pipeline:daily is no flow" in refused.text
