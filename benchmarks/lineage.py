"""How long a large project takes to check and trace, each beside what it is measured against.

Run it with ``python benchmarks/lineage.py [MODELS]``. Both sides of every line run in turn, in
processes of their own; the medians and their ratio are printed, and the most memory that any of our
processes had. With ``--profile``, where the time of checking one changed model goes.
"""

from __future__ import annotations

import json
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from processes import ENVIRON
from project import write_project

PARSE = """
import sqlglot
from pathlib import Path
for path in sorted(Path("models").rglob("*.sql")):
    sqlglot.parse_one(path.read_text(), read="duckdb")
"""
CLICK = ("-c", "import click")
CHECK = ("-m", "inchworm", "check", "--json")
RUNS = 5
DESCENDANTS = 5_000


def run(command: Sequence[str], folder: Path) -> tuple[float, str]:
    """Seconds that a command took from start to end, and what it printed."""
    started = time.perf_counter()
    done = subprocess.run(
        [sys.executable, *command],
        cwd=folder,
        env=ENVIRON,
        check=True,
        capture_output=True,
        text=True,
    )
    return time.perf_counter() - started, done.stdout


def compare(
    what: str,
    ours: Sequence[str],
    theirs: Sequence[str],
    folder: Path,
    runs: int = RUNS,
    before: Callable[[], None] = lambda: None,
) -> None:
    """Both commands in turn, and one line about them; ``before`` prepares each run of ours."""
    pairs = []
    for _ in range(runs):
        before()
        pairs.append((run(ours, folder)[0], run(theirs, folder)[0]))
    one, other = (statistics.median(side) for side in zip(*pairs, strict=True))
    ratio = statistics.median(a / b for a, b in pairs)
    print(f"{what:44}  {one:8.3f} s  {other:8.3f} s  {ratio:6.2f} x", flush=True)


def column_with_descendants(paths: Sequence[Path], folder: Path) -> tuple[str, int]:
    """The column, of some that are tried, whose descendants are nearest to the wanted number."""
    best = ("", 0)
    for path in paths[:: -max(1, len(paths) // 60)]:
        column = f"{path.parent.name}.{path.stem}.c0"
        _, said = run(("-m", "inchworm", "trace", column, "--down", "--json"), folder)
        found = len({edge["to"] for edge in json.loads(said)["edges"]})
        if abs(found - DESCENDANTS) < abs(best[1] - DESCENDANTS):
            best = (column, found)
        if found > 2 * DESCENDANTS:
            break
    return best


def main() -> None:
    """Print the table."""
    numbers = [argument for argument in sys.argv[1:] if argument.isdigit()]
    models = int(numbers[0]) if numbers else 10_000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "bench"
        paths = write_project(folder, models)
        changed = paths[models // 10]
        cache = folder / ".inchworm/facts.sqlite"

        def change() -> None:
            changed.write_text(changed.read_text().replace("c1 > ", "c1 > 1 + ", 1))

        def change_columns() -> None:
            text = changed.read_text()
            one, other = ("c1 >", "c2 >") if "c1 >" in text else ("c2 >", "c1 >")
            changed.write_text(text.replace(one, other))

        if "--profile" in sys.argv:
            run(CHECK, folder)
            change()
            where = "import cProfile, sys; sys.argv = ['inchworm', 'check']; "
            where += "from inchworm.cli.main import main; cProfile.run('main()', sort='tottime')"
            print(run(("-c", f"{where}"), folder)[1][:6000])
            return
        print(f"{models:,} models{'':31}  {'inchworm':>10}  {'compared':>10}  {'ratio':>8}")
        compare("--version / import click", ("-m", "inchworm", "--version"), CLICK, folder)
        compare(
            "first check / sqlglot parsing the files",
            CHECK,
            ("-c", PARSE),
            folder,
            3,
            lambda: cache.unlink(missing_ok=True),
        )
        compare("nothing changed / import click", CHECK, CLICK, folder)
        compare("one model changed / import click", CHECK, CLICK, folder, before=change)
        what = "one that reads other columns / import click"
        compare(what, CHECK, CLICK, folder, before=change_columns)
        run(CHECK, folder)
        column, found = column_with_descendants(paths, folder)
        trace = ("-m", "inchworm", "trace", column, "--down")
        compare(f"trace with {found:,} descendants / import click", trace, CLICK, folder)
    peak = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"most memory of one process: {peak:.0f} MB")


if __name__ == "__main__":
    main()
