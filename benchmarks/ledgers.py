"""A long ledger: questions about many promotions, and about many runs, with 100,000 entries.

Run it with ``python benchmarks/ledgers.py [ENTRIES]``. It fills the ledger of a small project, in a
SQLite file and, where ``INCHWORM_TEST_POSTGRES`` names a server, in PostgreSQL, and measures whole
processes beside a Python that imports click alone.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import psycopg
from msgspec.structs import replace

from inchworm.application.starting import start_project
from inchworm.core.execution import StepReport, StepState
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.parts import Digest
from inchworm.core.promotion.promotion import Draft, Step
from inchworm.core.promotion.states import Phase, State
from inchworm.core.running.run import RunPlan, RunStep
from inchworm.core.running.states import RunState, Work
from inchworm.store.ledger import Ledger
from inchworm.store.ledgers.registry import open_ledger_storage
from processes import PROGRAM, beside_click

STEPS = 45
"""Steps of a promotion; each has two entries, and a promotion three more."""


def fill(address: str, root: Path, entries: int) -> None:
    """Promotions with all their entries, until there are so many."""
    storage = open_ledger_storage(address, root, "inchworm_ledger", lambda: None)
    ledger = Ledger(storage, now=lambda: "2026-11-26T09:00:00+00:00", by="lena")
    steps = tuple(
        Step(
            number=n, phase=Phase.BUILD, part=PartId(Kind.MODEL, f"m.t{n}"), action="a", reason="r"
        )
        for n in range(1, STEPS + 1)
    )
    reports = [
        (step.number, StepReport(state=state, seconds=0.5))
        for step in steps
        for state in (StepState.RUNNING, StepState.DONE)
    ]
    while ledger.count() < entries:
        digest = Digest("sha256:1")
        draft = Draft(
            environment="dev",
            bundle="starter-0.1.0",
            bundle_digest=digest,
            today="2026-11-26",
            environment_state=digest,
            values_digest=digest,
            steps=steps,
        )
        promotion = ledger.move(ledger.draft(draft, None), State.RUNNING)
        ledger.steps(promotion.id, reports)
        ledger.move(promotion, State.DONE)


def fill_with_runs(address: str, root: Path, entries: int) -> None:
    """Runs of two steps, each with four entries, until there are so many entries more."""
    storage = open_ledger_storage(address, root, "inchworm_ledger", lambda: None)
    ledger = Ledger(storage, now=lambda: "2026-11-26T09:00:00+00:00", by="lena")
    model = PartId(Kind.MODEL, "report.daily_total")
    step = RunStep(number=1, stage="report", work=Work.BUILD, part=model)
    plan = RunPlan(
        environment="dev",
        subject=PartId(Kind.PIPELINE, "daily"),
        bundle="starter-0.1.0",
        bundle_digest=Digest("sha256:1"),
        commit=None,
        today="2026-11-26",
        steps=(step, replace(step, number=2, work=Work.SWITCH)),
    )
    report = StepReport(state=StepState.DONE, seconds=0.5)
    for _ in range(entries // 4):
        run = ledger.start_run(plan)
        ledger.run_steps(run.id, [(1, report), (2, report)])
        ledger.end_run(run.id, RunState.DONE)


def measure(kind: str, address: str, entries: int) -> None:
    """Print how long commands take that ask about all promotions, and about all runs."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "starter"
        start_project(folder, "starter", "duckdb")
        settings = folder / "inchworm.toml"
        settings.write_text(f'{settings.read_text()}[storage]\nledger = "{address}"\n')
        subprocess.run([*PROGRAM, "check"], cwd=folder, check=True, capture_output=True)
        fill(address, folder, entries)
        for command in (("history",), ("status",), ("history", "--to", "dev")):
            beside_click(f"{kind}: {' '.join(command)}", (*PROGRAM, *command), folder)
        fill_with_runs(address, folder, entries)
        for about_runs in (("history", "--runs"), ("status", "--schedules")):
            beside_click(f"{kind}: {' '.join(about_runs)}", (*PROGRAM, *about_runs), folder)


def main() -> None:
    """Print a line per command and kind of ledger."""
    entries = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    print(f"{f'{entries:,} entries':50}{'inchworm':>10}{'click':>10}{'ratio':>10}{'memory':>11}")
    measure("SQLite", ".inchworm/ledger.sqlite", entries)
    server = os.environ.get("INCHWORM_TEST_POSTGRES")
    if server is None:
        print("PostgreSQL: not measured, as INCHWORM_TEST_POSTGRES names no server")
        return
    with psycopg.connect(f"{server}/postgres", autocommit=True) as connection:
        connection.execute("DROP DATABASE IF EXISTS inchworm_benchmark")
        connection.execute("CREATE DATABASE inchworm_benchmark")
    measure("PostgreSQL", f"{server}/inchworm_benchmark", entries)


if __name__ == "__main__":
    main()
