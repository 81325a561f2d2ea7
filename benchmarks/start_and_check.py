"""How long starting takes, and checking 1,000 models; each beside what it is measured against.

Run it with ``python benchmarks/start_and_check.py [MODELS]``. Both sides of every line run in turn,
in processes of their own; the medians and their ratio are printed.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from project import write_project

PARSE = """
import sqlglot, sys
from pathlib import Path
for path in sorted(Path("models").rglob("*.sql")):
    sqlglot.parse_one(path.read_text(), read="duckdb")
"""
RUNS = 5


def seconds(command: Sequence[str], folder: Path) -> float:
    """One run of a command, start to end."""
    started = time.perf_counter()
    subprocess.run([sys.executable, *command], cwd=folder, check=True, capture_output=True)
    return time.perf_counter() - started


def compare(what: str, ours: Sequence[str], theirs: Sequence[str], folder: Path, runs: int) -> None:
    """Both commands in turn, and one line about them."""
    seconds(ours, folder)
    seconds(theirs, folder)
    pairs = [(seconds(ours, folder), seconds(theirs, folder)) for _ in range(runs)]
    one, other = (statistics.median(side) for side in zip(*pairs, strict=True))
    ratio = statistics.median(a / b for a, b in pairs)
    print(f"{what:32}  {one:8.3f} s  {other:8.3f} s  {ratio:6.2f} x")


def main() -> None:
    """Print the table."""
    models = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    print(f"{'':32}  {'inchworm':>10}  {'compared':>10}  {'ratio':>8}")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "bench"
        write_project(folder, models)
        click = ["-c", "import click"]
        compare(
            "--version / import click", ["-m", "inchworm", "--version"], click, folder, 2 * RUNS
        )
        compare(
            f"check {models:,} models / parse them",
            ["-m", "inchworm", "check", "--json"],
            ["-c", PARSE],
            folder,
            RUNS,
        )


if __name__ == "__main__":
    main()
