"""What the program keeps between two commands: never a wrong answer, whatever happens to it."""

from __future__ import annotations

import os
import random
import sqlite3
import threading

import pytest

from tests.driver import Program

FACTS = ".inchworm/facts.sqlite"
MODEL = "models/hydro/hourly_level.sql"


def answers(program: Program) -> tuple[str, str]:
    """What check and trace say."""
    return program("check", "--json", code=None).out, program("trace", "--all", "--json").out


def test_the_second_answer_is_the_first(river: Program) -> None:
    """With what is remembered as without it."""
    first = answers(river)
    assert (river.folder / FACTS).is_file()
    assert answers(river) == first
    (river.folder / FACTS).unlink()
    assert answers(river) == first


def test_an_edit_is_seen_however_quick_it_is(river: Program) -> None:
    """Also when neither the size nor the time of the file tells."""
    river("check")
    file = river.folder / MODEL
    text, state = file.read_text(), file.stat()
    file.write_text(text.replace("level_cm", "level_xx", 1))
    os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))
    assert file.stat().st_size == state.st_size
    found = river.findings(code=1)
    assert {"lineage/unknown-column", "lineage/column-gone"} & {f["rule"] for f in found}
    file.write_text(text)
    assert river.findings(code=0) == []


def test_files_that_come_and_go_are_seen(river: Program) -> None:
    """And so are parameters, waivers and environments."""
    river("check")
    river.write("models/hydro/extra.sql", "SELECT gone FROM hydro.gauge")
    assert [f["rule"] for f in river.findings(code=1)][:1] == ["lineage/unknown-column"]
    (river.folder / "models/hydro/extra.sql").unlink()
    assert river.findings(code=0) == []
    river.edit("environments/test.toml", "[schedules]", "[schedules]\nnowhere = 'on'")
    assert [f["rule"] for f in river.findings(code=1)] == ["environment/unknown-schedule"]


def test_another_dialect_is_another_reading(starter: Program) -> None:
    """What was worked out in one is not taken for the other."""
    starter.write("models/shop/quoted.sql", 'SELECT 1 AS "A", 2 AS "a"')
    assert [f["rule"] for f in starter.findings()] == ["model/two-columns-with-one-name"]
    starter.edit("inchworm.toml", 'dialect = "duckdb"', 'dialect = "postgres"')
    assert starter.findings() == []


@pytest.mark.parametrize("damage", ["cut", "noise", "emptied", "another program's", "a folder"])
def test_damage_is_mended_in_silence(river: Program, damage: str) -> None:
    """Whatever happened to the file: the same answers as before."""
    first = answers(river)
    file = river.folder / FACTS
    content = bytearray(file.read_bytes())
    match damage:
        case "cut":
            file.write_bytes(content[: len(content) // 2])
        case "noise":
            generator = random.Random(1)
            for _ in range(200):
                content[generator.randrange(100, len(content))] = generator.randrange(256)
            file.write_bytes(content)
        case "emptied":
            with sqlite3.connect(file) as connection:
                connection.execute("DELETE FROM facts")
        case "another program's":
            with sqlite3.connect(file) as connection:
                connection.execute("UPDATE about SET stamp = 'other'")
        case _:
            file.unlink()
            file.mkdir()
    assert answers(river) == first


def test_facts_that_were_altered_are_not_believed(river: Program) -> None:
    """Though the file as such is whole."""
    first = answers(river)
    with sqlite3.connect(river.folder / FACTS) as connection:
        connection.execute("UPDATE facts SET facts = replace(facts, 'hydro', 'hydra')")
        connection.execute("UPDATE outlines SET outline = replace(outline, 'hydro', 'hydra')")
        connection.execute("UPDATE checked SET result = replace(result, 'riverwatch', 'other')")
    assert answers(river) == first


def test_many_at_once(river: Program) -> None:
    """Each reads and writes what is remembered; all say the same."""
    first = river("check", "--json").out
    said: list[str] = []

    def check() -> None:
        said.append(river.process("check", "--json").out)

    (river.folder / FACTS).unlink()
    threads = [threading.Thread(target=check) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert said == [first] * 4


def test_what_another_process_writes_to_is_left_to_it(river: Program) -> None:
    """The answer is the same, and what is remembered is not thrown away."""
    first = answers(river)
    content = (river.folder / FACTS).read_bytes()
    with sqlite3.connect(river.folder / FACTS) as writer:
        writer.execute("BEGIN EXCLUSIVE")
        assert answers(river) == first
        writer.rollback()
    assert (river.folder / FACTS).read_bytes() == content
    assert answers(river) == first


def test_a_folder_that_cannot_be_written(river: Program) -> None:
    """Nothing is remembered, and nobody is bothered."""
    river("check")
    (river.folder / FACTS).unlink()
    (river.folder / FACTS).mkdir()
    assert river.findings(code=0) == []


def test_a_link_that_leads_around_is_not_followed(river: Program) -> None:
    """Nor does it take for ever."""
    (river.folder / "models/hydro/again").symlink_to(river.folder / "models")
    assert river.findings(code=0) == []
