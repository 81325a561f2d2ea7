"""Row checks: what models' settings and check files say of the rows, before anybody sees them."""

from __future__ import annotations

from tests.driver import Program

CHECK = "/*---\n{settings}\n---*/\nSELECT * FROM report.daily_total WHERE {condition}\n"


def check(program: Program, name: str, condition: str, settings: str = "") -> None:
    """Write a check file."""
    text = CHECK.format(settings=settings, condition=condition)
    program.write(f"checks/{name}.sql", text)


def test_all_row_checks_are_made(anywhere: tuple[Program, str]) -> None:
    """Not only up to the first that finds something; each is listed, and nothing goes live."""
    program, _ = anywhere
    program.edit("models/report/daily_total.sql", "[0, 1000000]", "[0, 7]")
    check(program, "few", "total < 5")
    check(program, "none", "total < 0")
    check(program, "many", "total > 4", "message = 'too much'")
    failed = program.promote(program.pack(), "dev", code=1).json
    assert failed["state"] == "failed"
    checks = [step for step in failed["steps"] if step["phase"] == "check"]
    assert {step["part"]: (step["state"], step["message"]) for step in checks} == {
        "model:report.daily_total": ("failed", "total is between 0 and 7: 1 row not"),
        "check:few": ("failed", "1 row found"),
        "check:many": ("failed", "too much: 1 row found"),
        "check:none": ("waiting", ""),  # it is asked again of what is built next
    }
    text = program("promote", failed["id"], "--yes", code=1).out
    assert "failed  check:few: 1 row found" in text
    assert "failed  check:many: too much: 1 row found" in text


def test_a_warning_is_a_warning(anywhere: tuple[Program, str]) -> None:
    """In its own words and count, and the promotion is done."""
    program, _ = anywhere
    check(program, "many", "total > 3", "severity = 'warning'\nmessage = 'more than usual'")
    check(program, "few", "total < 0", "severity = 'warning'")
    bundle = program.pack()
    text = program("promote", bundle, "--to", "dev", "--yes").out
    assert "warning  check:many: more than usual: 2 rows found" in text
    assert "done, 1 warning P1:" in " ".join(text.split())
    assert "8 done, 1 warning;" in " ".join(text.split())
    steps = program("history", "P1", "--json").json["steps"]
    (step,) = [step for step in steps if step["part"] == "check:many"]
    assert (step["state"], step["message"]) == ("warning", "more than usual: 2 rows found")
    assert program("status", "dev", "--json").json["environments"][0]["bundle"] == bundle
