"""Hosts that are killed at random instants, and begun again, while schedules are due.

Run it with ``python -m tests.killed_hosts --minutes 3 [--seed N]``. Two hosts watch one environment
in PostgreSQL, in which a pipeline is due every minute, another one after it, and a flow sends each
row of a table that the first one lets grow. Now and then one of the hosts is killed with SIGKILL,
and so are runs. At the end no minute has two runs, every row has arrived once, nothing is said to
run that does not, and no process is left.
"""

from __future__ import annotations

import argparse
import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from tests.driver import Program
from tests.program.test_database_faults import asked
from tests.runs_beside import live_project

API = """
openapi: 3.0.3
info: {title: Minutes, version: 1.0.0}
paths:
  /minutes:
    post:
      operationId: postMinute
      requestBody:
        content: {application/json: {schema: {type: object, properties: {minute: {type: string}}}}}
      responses: {"201": {description: Taken.}}
"""
FLOW = """
direction = "out"
[from]
table = "mart.minute"
[to]
connection = "elsewhere"
api = "apis/minutes.yaml"
operation = "postMinute"
[fields]
minute = "minute"
"""
GROWS = """\
/*---
store = "increment"
since = "minute"
key = ["minute"]
---*/
SELECT to_char(moment, 'YYYY-MM-DD HH24:MI:SS.US') AS minute FROM raw.moment
"""


def write_project(program: Program, url: str) -> None:
    """A pipeline that is due every minute, one after it, and what they work on."""
    program.edit("environments/dev.toml", "postgresql://localhost:5432/river_dev", url)
    program.edit(
        "environments/dev.toml", "[schedules]\n", '[schedules]\nall = "on"\nlater = "on"\n'
    )
    asked(url, "CREATE SCHEMA raw")
    asked(url, "CREATE TABLE raw.moment (moment timestamp)")
    program.write("schemas/raw/schema.toml", 'managed = "outside"\n')
    program.write("schemas/raw/tables.sql", "CREATE TABLE raw.moment (moment timestamp);\n")
    program.write("models/mart/minute.sql", GROWS)
    program.write(
        "models/mart/later.sql",
        '/*---\nstore = "table"\n---*/\nSELECT count(*) AS n FROM mart.minute\n',
    )
    matrix = (program.folder / "parameters.toml").read_text()
    program.write("parameters.toml", f'{matrix}\n[url]\ntype = "text"\nevery = "sim:elsewhere"\n')
    program.write("connections/elsewhere.toml", 'kind = "http"\nurl = "${url}"\n')
    program.write("apis/minutes.yaml", API)
    program.write("flows/send.toml", FLOW)
    program.write(
        "pipelines/all.toml",
        '[schedules.often]\ncron = "* * * * *"\n'
        '[[steps]]\nname = "grow"\nbuild = ["mart.minute"]\n'
        '[[steps]]\nname = "send"\nflow = "send"\nafter = ["grow"]\n',
    )
    program.write(
        "pipelines/later.toml",
        '[schedules.then]\nafter = "all"\n[[steps]]\nname = "count"\nbuild = ["mart.later"]\n',
    )


@dataclass
class Hosts:
    """Two hosts, begun again whenever they are killed."""

    program: Program
    chance: random.Random
    processes: list[subprocess.Popen[bytes]] = field(default_factory=list)
    killed: Counter[str] = field(default_factory=Counter)

    def begin(self) -> None:
        """Begin a host."""
        command = [sys.executable, "-m", "inchworm", "serve", "dev", "--port", "0"]
        self.processes.append(
            subprocess.Popen(
                command,
                cwd=self.program.folder,
                env=self.program.environ,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        )

    def kill_one(self) -> None:
        """Kill one of the hosts, and begin another."""
        process = self.processes.pop(self.chance.randrange(len(self.processes)))
        process.send_signal(signal.SIGKILL)
        process.wait()
        self.killed["hosts"] += 1
        self.begin()

    def kill_run(self) -> None:
        """Kill a run that is at work, if there is one."""
        if found := runs_at_work(self.program.folder):
            os.kill(self.chance.choice(found), signal.SIGKILL)
            self.killed["runs"] += 1

    def end(self) -> list[int]:
        """End the hosts as somebody would; their exit codes."""
        for process in self.processes:
            process.terminate()
        return [process.wait(120) for process in self.processes]


def runs_at_work(folder: Path) -> list[int]:
    """The processes that run something in a project."""
    found = []
    for place in Path("/proc").glob("[0-9]*"):
        try:
            command = (place / "cmdline").read_bytes().split(b"\0")
            if b"run" in command and (place / "cwd").readlink() == folder.resolve():
                found.append(int(place.name))
        except OSError:
            continue  # it has ended
    return found


def judge(program: Program, url: str) -> list[str]:
    """What is wrong, once the hosts have ended and the pipeline has run once more."""
    wrong = []
    if left := runs_at_work(program.folder):
        wrong.append(f"processes {left} are left")
    last = program("run", "pipeline:all", "--in", "dev", "--wait", "2m", code=None)
    if last.code != 0:
        wrong.append(last.text)
    program("run", "pipeline:later", "--in", "dev", "--wait", "2m")
    runs = program("history", "--runs", "--all", "--json").json["runs"]
    if running := [run["id"] for run in runs if run["state"] == "running"]:
        wrong.append(f"{', '.join(running)} are said to run")
    claimed = asked(url, "SELECT schedule, due FROM inchworm.due_times")
    if len(set(claimed)) != len(claimed):
        wrong.append(f"a time was taken twice: {claimed}")
    rows = sorted(row[0] for row in asked(url, "SELECT minute FROM mart.minute"))
    received = program("sim", "received", "elsewhere", "--json").json["received"]
    got = [each["body"] for each in received]
    if len(got) != len(set(got)) or len(got) != len(rows):
        wrong.append(f"{len(rows)} rows, {len(got)} requests, {len(set(got))} different")
    return wrong


def main() -> None:
    """Let the hosts work, and print what came of it; exit code 1 where something is wrong."""
    parser = argparse.ArgumentParser(description=__doc__, prog="python -m tests.killed_hosts")
    parser.add_argument("--minutes", type=float, default=3)
    parser.add_argument("--seed", type=int, default=0)
    given = parser.parse_args()
    with live_project(write_project) as (program, url):
        hosts = Hosts(program, random.Random(given.seed))
        hosts.begin()
        hosts.begin()
        until = time.monotonic() + given.minutes * 60
        while time.monotonic() < until:
            asked(url, "INSERT INTO raw.moment VALUES (clock_timestamp())")
            time.sleep(hosts.chance.uniform(0.5, 3))
            if hosts.chance.random() < 0.08:
                hosts.kill_one()
            if hosts.chance.random() < 0.3:
                hosts.kill_run()
        codes = hosts.end()
        wrong = [f"a host ended with {code}" for code in codes if code != 0]
        wrong += judge(program, url)
        runs = program("history", "--runs", "--all", "--json").json["runs"]
        states = Counter(run["state"] for run in runs)
    told = ", ".join(f"{count} {state}" for state, count in sorted(states.items()))
    print(
        f"{hosts.killed['hosts']} hosts and {hosts.killed['runs']} runs killed; runs: {told}; "
        f"{len(wrong)} wrong"
    )
    for each in wrong:
        print(each)
    raise SystemExit(bool(wrong))


if __name__ == "__main__":
    main()
