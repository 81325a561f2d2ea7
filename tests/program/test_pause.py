"""Schedules that are paused: nothing starts, everybody sees it, and it ends."""

from __future__ import annotations

import datetime as dt

import pytest
from msgspec.structs import replace

from inchworm.application.schedules import LiveEnvironment
from inchworm.cli import process
from inchworm.core.running.pauses import Pause, paused_until
from inchworm.core.running.schedules import Missed
from inchworm.host.host import Watched
from inchworm.host.metrics import metrics
from inchworm.host.page import page
from inchworm.host.scheduling import jobs_due
from inchworm.host.seen import without_names
from tests.driver import Program
from tests.once import SQLITE, Once
from tests.program.test_serve import NOW, watched

DUE = ("--schedule", "daily.morning", "--due", "2026-12-01T06:00:00+00:00")


def paused(program: Program, *words: str, code: int = 0) -> str:
    return program("pause", *words, code=code, environ={"INCHWORM_USER": "mira"}).text


def make_live(program: Program, url: str) -> None:
    program.edit("environments/dev.toml", 'default = "off"', 'default = "on"')
    program.promote(program.pack(), "dev")


@pytest.fixture
def live(once: Once, anywhere: tuple[Program, str]) -> tuple[Program, str]:
    once(make_live, *anywhere)
    return anywhere


@pytest.fixture
def live_here(once: Once, plain: Program) -> tuple[Program, str]:
    """The same in SQLite, for what does not depend on the database."""
    once(make_live, plain, SQLITE)
    return plain, SQLITE


def test_what_is_paused_starts_nothing_until_it_is_resumed(live: tuple[Program, str]) -> None:
    """Neither by its schedule nor from a crontab; a person may run it all the same."""
    pause_and_resume(*live, "pipeline:daily")


@pytest.mark.parametrize("what", ["", "daily", "Daily.Morning"])
def test_all_of_it_can_be_paused_or_one_schedule(live_here: tuple[Program, str], what: str) -> None:
    pause_and_resume(*live_here, what)


def pause_and_resume(program: Program, url: str, what: str) -> None:
    words = ("dev", *filter(None, [what]))
    told = paused(program, *words, "--because", "the sensors are recalibrated")
    assert "by mira: the sensors are recalibrated" in told
    run = ("run", "daily", "--in", "dev", "--yes")
    assert "by mira: the sensors" in program(*run, *DUE, code=4).text
    if "." not in what:
        assert "--resume" in program(*run, "--unless-paused", code=4).text
    program(*run)
    assert "by mira: the sensors are recalibrated" in program("status", "dev").text
    assert "daily.morning paused" in program("status", "dev").text
    (schedule,) = program("status", "--schedules", "--json").json["schedules"]
    assert schedule["paused"]["because"] == "the sensors are recalibrated"
    program.promote(program.pack(), "dev")
    program.write("models/report/other.sql", "SELECT 1 AS one")
    program.promote(program.pack(), "dev")
    program(*run, *DUE, code=4)
    assert "starts what is due again" in paused(program, *words, "--resume")
    program(*run, *DUE)
    assert "mira" not in program("status", "dev").text
    asked = "SELECT resumed_by FROM inchworm.pauses"
    assert program.ask(url, asked) == [("mira",)], "that there was one stays recorded"
    assert "is not paused" in paused(program, *words, "--resume", code=2)


def test_a_pause_ends_by_itself(
    live_here: tuple[Program, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    program, _ = live_here
    now = dt.datetime(2026, 12, 1, 5, tzinfo=dt.UTC)
    monkeypatch.setattr(process, "clock", lambda: now)
    paused(program, "dev", "--because", "a night off", "--until", "2026-12-01 07:00")
    run = ("run", "daily", "--in", "dev", "--yes", *DUE)
    assert "until 2026-12-01 07:00 UTC" in program(*run, code=4).text
    monkeypatch.setattr(process, "clock", lambda: now + dt.timedelta(hours=2))
    program(*run)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("dev",), "needs a reason"),
        (("dev", "nightly", "--because", "x"), "no schedule of nightly"),
        (("dev", "--because", "x", "--until", "2020-01-01"), "is over"),
        (("dev", "--because", "x", "--until", "soon"), "is no time"),
        (("dev", "--resume"), "is not paused"),
    ],
)
def test_what_makes_no_sense_is_refused(
    live_here: tuple[Program, str], words: tuple[str, ...], says: str
) -> None:
    assert says in paused(live_here[0], *words, code=2)


@pytest.mark.parametrize("missed", Missed)
def test_a_host_starts_nothing_in_a_pause_and_counts_it_as_missed(missed: Missed) -> None:
    """Whether the time that passed meanwhile is made up for is for the schedule to say."""
    hour = dt.timedelta(hours=1)
    pause = Pause(what="", because="<why>", by="mira", at=(NOW - 3 * hour).isoformat())
    live = watched("0 * * * *", missed)
    (schedule,) = live.schedules

    def with_(**fields: object) -> LiveEnvironment:
        return replace(live, schedules=(replace(schedule, **fields),))

    during = with_(pause=pause)
    assert list(jobs_due(during, NOW - 5 * hour, NOW, {})) == []
    shown = page([Watched(name="dev", live=during)], [], NOW)
    assert "is paused, by mira: &lt;why&gt;" in shown
    hidden = page([without_names(Watched(name="dev", live=during))], [], NOW)
    assert "is paused, why is shown with a token" in hidden
    assert "mira" not in hidden
    text = metrics([Watched(name="dev", live=during)], [], NOW)
    assert 'inchworm_paused{environment="dev",schedule="all.often"} 1' in text
    over = replace(pause, resumed_at=NOW.isoformat())
    ended = paused_until([over], schedule.pipeline, schedule.name)
    after = list(jobs_due(with_(paused_until=ended), NOW - 5 * hour, NOW, {}))
    assert [runs for _, _, runs in after] == [missed is Missed.RUN_ONCE]
