"""Versions of a flow's API, side by side: the former ones go on, and the oldest is retired."""

from __future__ import annotations

import pytest

from tests.driver import Program
from tests.once import Once
from tests.program.test_receive import Asked, receive, rows

PLACE = "gauges/Upper/readings"


def keep_versions(program: Program, count: int) -> None:
    """Say how many versions the environment answers to."""
    text = (program.folder / "environments/dev.toml").read_text()
    lines = [line for line in text.splitlines() if not line.startswith("api_versions")]
    lines.insert(lines.index("[gateway]") + 1, f"api_versions = {count}")
    program.write("environments/dev.toml", "\n".join(lines))


def next_version(program: Program, version: str, was: str, level: str) -> None:
    """Give the API another version, in which the field of the level has another name."""
    program.edit(
        "apis/readings.yaml", f"version: {int(version) - 1}.0.0", f"version: {version}.0.0"
    )
    program.edit("apis/readings.yaml", f"[time, {was}]", f"[time, {level}]")
    program.edit("apis/readings.yaml", f"        {was}: ", f"        {level}: ")
    program.edit("flows/readings.toml", f'level = "{was}"', f'level = "{level}"')


def promote(program: Program) -> None:
    """Put the working tree into development."""
    program.promote(program.pack(), "dev")


def with_two(program: Program) -> Asked:
    """A flow that answers to versions 3 and 2 of its API."""
    keep_versions(program, 2)
    receive(program)
    next_version(program, "3", "level", "height")
    promote(program)
    return Asked(program)


@pytest.fixture
def two(once: Once, plain: Program) -> tuple[Program, Asked]:
    """Such a flow in SQLite, for what does not depend on the database."""
    once(lambda program, url: with_two(program), plain)
    return plain, Asked(plain)


def test_a_former_version_goes_on_beside_the_live_one(
    anywhere: tuple[Program, str],
) -> None:
    program, url = anywhere
    ask = with_two(program)
    new = {"time": "2026-05-01T12:00:00Z", "height": 3}
    old = {"time": "2026-05-01T12:00:00Z", "level": 2}
    live = ask(f"/flows/dev/readings/{PLACE}", new)
    assert live.status_code == 202
    assert "deprecation" not in live.headers
    assert ask(f"/flows/dev/readings@3/{PLACE}", new).status_code == 202
    former = ask(f"/flows/dev/readings@2/{PLACE}", old)
    assert former.status_code == 202
    assert int(former.headers["deprecation"].removeprefix("@")) > 1_700_000_000
    assert former.headers["link"] == f'</flows/dev/readings/{PLACE}>; rel="successor-version"'
    assert ask(f"/flows/dev/readings@2/{PLACE}", new).status_code == 422
    assert ask(f"/flows/dev/readings/{PLACE}", old).status_code == 422
    assert [row[2] for row in rows(program, url)] == ["2.0", "3.0", "3.0"]
    assert ask(f"/flows/dev/readings@9/{PLACE}", old).status_code == 404
    (environment,) = program("status", "dev", "--json").json["environments"]
    told = [(v["version"], v["state"], v["requests"]) for v in environment["api_versions"]]
    assert told == [("3", "live", 2), ("2", "answered", 1)]
    assert "flow:readings@2 answered; 1 request has come to it" in program("status", "dev").text


def test_the_oldest_is_retired_with_a_warning_about_who_calls_it(
    two: tuple[Program, Asked],
) -> None:
    program, ask = two
    assert ask(f"/flows/dev/readings@2/{PLACE}").status_code == 202
    next_version(program, "4", "height", "stage")
    drafted = program.promote(program.pack(), "dev").json
    (warned,) = [f for f in drafted["findings"] if f["rule"] == "flow/api-version-retired"]
    assert warned["severity"] == "warning"
    assert "API version 2 is not answered any more, but 4 and 3; 1 request" in warned["message"]
    gone = Asked(program)(f"/flows/dev/readings@2/{PLACE}")
    assert gone.status_code == 410
    assert gone.headers["content-type"] == "application/problem+json"
    assert "Send by 4 and 3." in gone.json()["detail"]


def test_what_a_former_version_writes_has_to_stay(two: tuple[Program, Asked]) -> None:
    program, _ = two
    program.edit("flows/readings.toml", 'note = "note"\n', "")
    program.write(
        "schemas/ops/migrations/0010_no_note.sql", "ALTER TABLE ops.reading DROP COLUMN note;\n"
    )
    bundle = program.pack()
    refused = program.promote(bundle, "dev", code=1).json
    (error,) = [f for f in refused["findings"] if f["severity"] == "error"]
    assert error["rule"] == "flow/api-version-breaks"
    assert "API version 2 is still answered, and writes ops.reading.note" in error["message"]
    keep_versions(program, 1)
    assert program.promote(bundle, "dev").json["state"] == "done"


def test_going_back_leaves_the_later_version_unanswered(two: tuple[Program, Asked]) -> None:
    program, _ = two
    program("rollback", "dev", "--yes")
    ask = Asked(program)
    assert ask(f"/flows/dev/readings/{PLACE}").status_code == 202
    assert ask(f"/flows/dev/readings@2/{PLACE}").status_code == 202
    assert ask(f"/flows/dev/readings@3/{PLACE}").status_code == 410


def test_what_only_adds_takes_the_place_of_what_was_there(two: tuple[Program, Asked]) -> None:
    program, _ = two
    program.edit("apis/readings.yaml", "version: 3.0.0", "version: 3.1.0")
    promote(program)
    (environment,) = program("status", "dev", "--json").json["environments"]
    told = [(v["version"], v["state"]) for v in environment["api_versions"]]
    assert told == [("3", "live"), ("2", "answered")]


def test_a_flow_that_goes_says_who_sent_to_it(two: tuple[Program, Asked]) -> None:
    program, ask = two
    assert ask(f"/flows/dev/readings@2/{PLACE}").status_code == 202
    (program.folder / "flows/readings.toml").unlink()
    drafted = program.promote(program.pack(), "dev").json
    warned = [f["message"] for f in drafted["findings"] if f["severity"] == "warning"]
    assert any("API version 2 is not answered any more; 1 request" in each for each in warned)
    (environment,) = program("status", "dev", "--json").json["environments"]
    assert environment["api_versions"] == []
