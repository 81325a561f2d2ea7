"""A check after an edit of parts: no rule is asked again where none could say anything else."""

from __future__ import annotations

import sqlite3
from typing import NamedTuple

import pytest

from inchworm.core.parts import digest_of
from tests.driver import Program

FACTS = ".inchworm/facts.sqlite"
HOURLY = "models/hydro/hourly_level.sql"
PEAK = "models/hydro/daily_peak.sql"
UNOWNED = "models/hydro/unowned.sql"
SCRIPT = "schemas/ops/migrations/0003_first_thresholds.sql"
MAP = "consumers/flood_map.toml"


class Edit(NamedTuple):
    """A text in a file, and the one that takes its place."""

    file: str
    old: str
    new: str


SAME_FACTS = {
    "comment": Edit(HOURLY, "---*/", "---*/\n-- of all gauges"),
    "another function of the same type": Edit(PEAK, "max(peak_cm)", "min(peak_cm)"),
    "condition": Edit(HOURLY, "GROUP BY 1, 2", "WHERE gauge_id IS NOT NULL\nGROUP BY 2, 1"),
    "lines": Edit("models/hydro/season.sql", "FROM hydro", "\n\nFROM\n  hydro"),
    "unit": Edit(HOURLY, 'unit = "cm"', 'unit = "mm"'),
    "line ends": Edit(PEAK, "\n", "\r\n"),
    "another kind of part": Edit(MAP, "about =", "# the map\nabout ="),
}

OTHER_FACTS = {
    "a finding that moves": Edit(UNOWNED, "SELECT", "\n\nSELECT"),
    "a finding that goes": Edit(UNOWNED, "SELECT *", "SELECT gauge_id"),
    "a type": Edit(HOURLY, "avg(level_cm)", "CAST(avg(level_cm) AS INTEGER)"),
    "a column": Edit(HOURLY, "count(*) AS readings", "count(*) AS readings, 1 AS more"),
    "a name": Edit(HOURLY, "AS peak_cm", "AS highest_cm"),
    "another table": Edit(PEAK, "FROM hydro.hourly_level", "FROM hydro.level_trend"),
    "no table": Edit(PEAK, "FROM hydro.hourly_level", "FROM hydro.hourly_lovel"),
    "no column": Edit(PEAK, "max(peak_cm)", "max(peek_cm)"),
    "no SQL": Edit(PEAK, "GROUP BY", "GROUP BUY"),
    "no TOML": Edit(PEAK, 'store = "table"', "store = table"),
    "an owner": Edit(HOURLY, 'owner = "hydrology"\n', ""),
    "a check": Edit(HOURLY, "between = [-100, 2000]", "between = [-100, 2001]"),
    "a parameter": Edit(HOURLY, "GROUP BY 1, 2", "WHERE level_cm > :nothing\nGROUP BY 1, 2"),
    "a text": Edit(HOURLY, "GROUP BY 1, 2", "WHERE gauge_id <> 'G99'\nGROUP BY 1, 2"),
    "a circle": Edit(PEAK, "FROM hydro.hourly_level", "FROM alert.flood_state"),
    "the cells of a notebook": Edit("notebooks/level_forecast.ipynb", "env.query", "env.rows"),
    "what a script does": Edit(SCRIPT, "INSERT INTO ops", "INSERT INTO opps"),
    "a script": Edit("schemas/raw/tables.sql", "CREATE", "CREATE  "),
    "the project": Edit("inchworm.toml", "version =", "# now\nversion ="),
}


@pytest.fixture
def checked(river: Program) -> Program:
    """Riverwatch with a model about which there are findings, checked."""
    river.write(UNOWNED, "SELECT *\nFROM hydro.gauge AS gauge\nWHERE gauge.gone > 1\n")
    river("check", code=None)
    return river


def make(program: Program, edit: Edit) -> None:
    """Put one text in place of another one, wherever it stands."""
    file = program.folder / edit.file
    text = file.read_bytes().decode()
    assert edit.old in text
    file.write_bytes(text.replace(edit.old, edit.new).encode())


def what_is_said(program: Program) -> tuple[str, str]:
    """What the check says, and a command that believes what it remembered."""
    return program("check", "--json", code=None).out, program("trace", "--all", "--json").out


def said_without_memory(program: Program) -> tuple[str, str]:
    """The same, with nothing remembered."""
    (program.folder / FACTS).unlink()
    return what_is_said(program)


@pytest.mark.parametrize("edit", SAME_FACTS.values(), ids=SAME_FACTS)
def test_rules_are_not_asked_again(
    checked: Program, edit: Edit, monkeypatch: pytest.MonkeyPatch
) -> None:
    make(checked, edit)
    with monkeypatch.context() as patched:
        patched.setattr(
            "inchworm.cli.commands.check.check", lambda _: pytest.fail("all was checked")
        )
        said = what_is_said(checked)
    assert said == said_without_memory(checked)


@pytest.mark.parametrize("edit", OTHER_FACTS.values(), ids=OTHER_FACTS)
def test_whatever_changes_what_rules_see_is_seen(checked: Program, edit: Edit) -> None:
    make(checked, SAME_FACTS["comment"])
    checked("check", code=None)
    make(checked, edit)
    assert what_is_said(checked) == said_without_memory(checked)


def test_one_edit_after_the_other(checked: Program) -> None:
    """Also of two models at once, of which one reads the other; and back again."""
    for names in (["comment"], ["condition", "another function of the same type"], ["unit"]):
        for name in names:
            make(checked, SAME_FACTS[name])
        checked("check", code=None)
    make(checked, OTHER_FACTS["a name"])
    assert "highest_cm" not in checked("check", code=1).out
    make(checked, Edit(HOURLY, "AS highest_cm", "AS peak_cm"))
    said = what_is_said(checked)
    assert said == said_without_memory(checked)


def test_a_model_of_two_files_is_read_from_both(checked: Program) -> None:
    (checked.folder / "models/Hydro").mkdir()
    checked.write("models/Hydro/Daily_Peak.sql", (checked.folder / PEAK).read_text())
    checked("check", code=None)
    make(checked, SAME_FACTS["another function of the same type"])
    assert what_is_said(checked) == said_without_memory(checked)


def test_a_model_of_a_circle_is_read_with_the_others(checked: Program) -> None:
    make(checked, OTHER_FACTS["a circle"])
    checked("check", code=None)
    make(checked, SAME_FACTS["another function of the same type"])
    assert what_is_said(checked) == said_without_memory(checked)


def test_what_a_notebook_uses_of_a_library_is_looked_for_again(checked: Program) -> None:
    """Though the facts of the library are what they were."""
    tools = "library/tools/__init__.py"
    checked.write(tools, "def shifted(x):\n    return x\n")
    make(
        checked,
        Edit(
            "notebooks/level_forecast.ipynb",
            "import numpy as np",
            "import numpy as np; from tools import shifted",
        ),
    )
    checked("check", code=None)
    make(checked, Edit(tools, "shifted", "moved"))
    assert "notebook/missing" in checked("check", code=None).out
    assert what_is_said(checked) == said_without_memory(checked)


def test_a_table_of_a_notebook_is_asked_of_the_notebook(checked: Program) -> None:
    """Whose name does not say which tables it provides."""
    make(checked, Edit("models/alert/current_warning.sql", "'normal'", "'none'"))
    assert what_is_said(checked) == said_without_memory(checked)


def test_what_was_altered_is_not_believed(checked: Program) -> None:
    """Here a file looks to have been read already which the last check has not seen."""
    make(checked, OTHER_FACTS["no column"])
    seen = (checked.folder / PEAK).stat()
    digest = digest_of((checked.folder / PEAK).read_bytes())
    with sqlite3.connect(checked.folder / FACTS) as connection:
        connection.execute(
            "UPDATE files SET size = ?, changed = ?, status = ?, node = ?, digest = ?"
            " WHERE path = ?",
            (seen.st_size, seen.st_mtime_ns, seen.st_ctime_ns, seen.st_ino, digest, PEAK),
        )
    make(checked, SAME_FACTS["comment"])
    assert what_is_said(checked) == said_without_memory(checked)


def test_facts_of_other_files_are_not_believed(checked: Program) -> None:
    """Here those of a file as it was one edit before."""
    rows = "SELECT part, seal, facts FROM facts WHERE part = 'model:hydro.daily_peak'"
    with sqlite3.connect(checked.folder / FACTS) as connection:
        facts = connection.execute(rows).fetchone()
    make(checked, OTHER_FACTS["no column"])
    checked("check", code=1)
    with sqlite3.connect(checked.folder / FACTS) as connection:
        connection.execute("INSERT OR REPLACE INTO facts VALUES (?, ?, ?)", facts)
    make(checked, Edit(PEAK, "max(peek_cm)", "min(peak_cm)"))
    assert what_is_said(checked) == said_without_memory(checked)


def test_a_bundle_is_packed_from_what_was_edited(checked: Program) -> None:
    """Its facts are of the files that it has."""
    (checked.folder / UNOWNED).unlink()
    checked("check")
    make(checked, SAME_FACTS["condition"])
    bundle = checked.pack()
    (checked.folder / FACTS).unlink()
    assert checked.pack() == bundle
    checked.promote(bundle, "dev")
