"""Runs beside each other, in a database that several can work in at a time."""

from __future__ import annotations

import json
import signal
from collections.abc import Iterator

import pytest

from tests.driver import Program
from tests.forked import Started
from tests.once import Once
from tests.program.test_database_faults import GATE, asked
from tests.program.test_serve import Served

TABLE = '/*---\nstore = "table"\n---*/\n'
WAITS = "SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'CREATE TABLE%slow__beside%'"
OPEN = "INSERT INTO public.gate VALUES (true)"


def _serve(program: Program, url: str) -> None:
    """Two tables that are built by a pipeline each, one of them at a gate, and a view of both."""
    asked(url, GATE)
    asked(url, OPEN)
    program.edit("inchworm.toml", 'dialect = "duckdb"', 'dialect = "postgres"')
    program.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    slow = "SELECT wait_at_the_gate()::text AS x, txid_current() AS version"
    program.write("models/mart/slow.sql", f"{TABLE}{slow}\n")
    program.write("models/mart/quick.sql", f"{TABLE}SELECT txid_current() AS version\n")
    program.write(
        "models/mart/both.sql",
        "SELECT q.version AS quick, s.version AS slow FROM mart.quick AS q, mart.slow AS s\n",
    )
    for name, models in (("slow", "slow"), ("quick", "quick"), ("all", 'slow", "mart.quick')):
        program.write(
            f"pipelines/{name}.toml", f'[[steps]]\nname = "build"\nbuild = ["mart.{models}"]\n'
        )
    program.promote(program.pack(), "dev")
    asked(url, "DELETE FROM public.gate")


@pytest.fixture
def served(once: Once, starter: Program, postgres_url: str) -> Program:
    """A project whose development is a server's database."""
    once(_serve, starter, postgres_url)
    return starter


@pytest.fixture
def waiting(served: Program, postgres_url: str) -> Iterator[Started]:
    """A run of the slow pipeline, R1, that waits at the gate."""
    process = served.start("run", "slow", "--in", "dev")
    while asked(postgres_url, WAITS) == [(0,)]:
        assert process.poll() is None, process.communicate()
    yield process
    asked(postgres_url, OPEN)
    process.wait()


def state_of(program: Program, run: str) -> str:
    return str(program("history", run, "--json").json["state"])


def test_runs_of_different_parts_work_beside_each_other(
    served: Program, postgres_url: str, waiting: Started
) -> None:
    before = asked(postgres_url, "SELECT version FROM mart.quick")
    served("run", "quick", "--in", "dev")
    assert asked(postgres_url, "SELECT version FROM mart.quick") != before
    assert (state_of(served, "R1"), state_of(served, "R2")) == ("running", "done")
    asked(postgres_url, OPEN)
    out, err = waiting.communicate(timeout=60)
    assert waiting.returncode == 0, out + err
    assert state_of(served, "R1") == "done"
    both = asked(postgres_url, "SELECT quick, slow FROM mart.both")
    alone = "SELECT q.version, s.version FROM mart.quick q, mart.slow s"
    assert both == asked(postgres_url, alone)


def test_a_part_is_worked_on_by_one_run_at_a_time(served: Program, waiting: Started) -> None:
    refused = served("run", "all", "--in", "dev", code=4).text
    assert "model:mart.slow is worked on by R1: lena runs pipeline:slow in dev" in refused
    same = served("run", "slow", "--in", "dev", code=4).text
    assert "worked on by R1" in same
    assert state_of(served, "R1") == "running"


def test_a_run_waits_for_the_one_that_works_on_its_parts(
    served: Program, postgres_url: str, waiting: Started
) -> None:
    behind = served.start("run", "all", "--in", "dev", "--wait", "1m", "--json")
    assert behind.stdout is not None
    assert "is worked on by R1" in behind.stdout.readline()
    asked(postgres_url, OPEN)
    behind.communicate(timeout=60)
    assert behind.returncode == 0


def test_a_promotion_has_the_environment_to_itself(
    served: Program, postgres_url: str, waiting: Started
) -> None:
    served.edit("models/mart/quick.sql", "txid_current()", "1 + txid_current()")
    bundle = served.pack()
    refused = served("promote", bundle, "--to", "dev", "--yes", code=4).text
    assert "somebody promotes or runs something in" in refused
    asked(postgres_url, OPEN)
    waiting.communicate(timeout=60)
    assert served.promote(bundle, "dev").json["state"] == "done"


def test_a_run_does_not_begin_while_somebody_promotes(served: Program, postgres_url: str) -> None:
    served.edit("models/mart/slow.sql", "txid_current()", "1 + txid_current()")
    promotion = served.start("promote", served.pack(), "--to", "dev", "--yes")
    while asked(postgres_url, WAITS) == [(0,)]:
        assert promotion.poll() is None, promotion.communicate()
    refused = served("run", "quick", "--in", "dev", code=4).text
    assert "a promotion works in" in refused
    assert "river from" in refused
    behind = served.start("run", "quick", "--in", "dev", "--wait", "1m", "--json")
    assert behind.stdout is not None
    assert "a promotion works in" in behind.stdout.readline()
    asked(postgres_url, OPEN)
    promotion.communicate(timeout=60)
    out, err = behind.communicate(timeout=60)
    assert (promotion.returncode, behind.returncode) == (0, 0), out + err
    live = served("status", "dev", "--json").json["environments"][0]["bundle"]
    assert json.loads(out.splitlines()[-1])["bundle"] == live


def test_a_run_that_was_killed_is_ended_by_the_next_one_of_its_parts(
    served: Program, postgres_url: str, waiting: Started
) -> None:
    """Whoever looks sees that it is broken off; another one leaves what it built alone."""
    asked(postgres_url, "CREATE TABLE mart.slow__beside_of_somebody AS SELECT 1 AS one")
    waiting.send_signal(signal.SIGKILL)
    waiting.wait()
    served("run", "quick", "--in", "dev")
    assert state_of(served, "R1") == "broken off"
    asked(postgres_url, OPEN)
    served("run", "slow", "--in", "dev", "--wait", "1m")
    assert state_of(served, "R1") == "broken off"
    left = "SELECT tablename FROM pg_tables WHERE tablename LIKE '%\\_\\_beside%'"
    assert asked(postgres_url, left) == [("slow__beside_of_somebody",)]


def test_a_host_runs_different_things_at_a_time(served: Program, postgres_url: str) -> None:
    """Stopped, it waits for all of them."""
    host = Served(served)
    try:
        host.call("pipeline:slow")
        host.until(lambda: asked(postgres_url, WAITS) != [(0,)])
        host.call("pipeline:quick")
        host.until(lambda: any(r["name"] == "pipeline:quick" for r in host.runs()))
        host.until(lambda: [r["state"] for r in host.runs()] == ["done", "running"])
        host.process.send_signal(signal.SIGTERM)
        assert host.process.poll() is None
        asked(postgres_url, OPEN)
        host.process.communicate(timeout=60)
        assert host.process.returncode == 0
        assert state_of(served, "R1") == "done"
    finally:
        asked(postgres_url, OPEN)
        host.process.kill()
        host.process.wait()
