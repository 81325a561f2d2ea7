"""``inchworm waive``: findings accepted for a while."""

from __future__ import annotations

import pytest

from tests.driver import Program

UNUSED = ("parameter/unused", "parameters.toml")


def waive(river: Program, rule: str, part: str, until: str = "2999-01-01", code: int = 0) -> str:
    answer = river(
        "waive", rule, part, "--because", 'The "new" desk\nwants it', "--until", until, code=code
    )
    return answer.text


def break_it(river: Program) -> None:
    """One error about a part, and one warning about a file."""
    river.edit("models/hydro/season.sql", "gauge.river,", "gauge.rivr,")
    river.edit("checks/no_gauge_is_silent.sql", ":silent_days", "2")


def test_waived_findings_become_notes_that_say_why(river: Program) -> None:
    """Errors and warnings alike; the file keeps what was in it."""
    break_it(river)
    river.write("waivers.toml", "# ours\n")
    assert "is waived" in waive(river, "Lineage/Unknown-Column", "model:hydro.season")
    waive(river, *UNUSED)
    findings = river.findings(code=0)
    assert {f["severity"] for f in findings} == {"note"}
    assert all('waived until 2999-01-01 by lena: The "new" desk' in f["message"] for f in findings)
    assert (river.folder / "waivers.toml").read_text().startswith("# ours\n")


def test_waivers_that_are_over_or_waive_nothing_speak_up(river: Program) -> None:
    """With the line on which they stand."""
    break_it(river)
    waive(river, "lineage/unknown-column", "model:hydro.season")
    waive(river, *UNUSED)
    file = river.folder / "waivers.toml"
    file.write_text(file.read_text().replace("2999-01-01", "2020-01-01", 1))
    river.edit("checks/no_gauge_is_silent.sql", "to_days(2)", "to_days(:silent_days)")
    found = {(f["rule"], f["file"]) for f in river.findings(code=1)}
    assert found == {
        ("lineage/unknown-column", "models/hydro/season.sql"),
        ("waiver/expired", "waivers.toml"),
        ("waiver/unused", "waivers.toml"),
    }


@pytest.mark.parametrize(
    ("rule", "part", "until", "says"),
    [
        ("lineage/unknwn-column", "model:hydro.season", "2999-01-01", "lineage/unknown-column"),
        ("lineage/unknown-column", "model:hydro.seson", "2999-01-01", "model:hydro.season"),
        ("lineage/unknown-column", "model:hydro.season", "soon", "not a date"),
        ("lineage/unknown-column", "model:hydro.season", "2020-01-01", "is over"),
        ("lineage/cycle", "model:hydro.season", "2999-01-01", "nothing to say"),
    ],
)
def test_what_cannot_be_waived(river: Program, rule: str, part: str, until: str, says: str) -> None:
    """Nothing is written; near misses are offered."""
    break_it(river)
    assert says in waive(river, rule, part, until, code=2)
    assert not (river.folder / "waivers.toml").exists()


def test_a_waivers_file_with_faults(river: Program) -> None:
    """They are findings like all others."""
    river.write("waivers.toml", '[[waivers]]\nrule = "a"\npart = "b"\nbecaus = "c"\n')
    said = {f["message"] for f in river.findings(code=1)}
    assert "waivers[0].becaus is not a setting" in said
    assert "waivers[0].until is missing" in said
