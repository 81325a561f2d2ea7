"""The small project that ``inchworm new`` writes."""

from __future__ import annotations

from pathlib import Path

from inchworm.core.errors import UsageError
from inchworm.safe_files import write_below

_FILES = {
    "inchworm.toml": """\
name = "{name}"
version = "0.1.0"
about = "What this project delivers, in one sentence"
dialect = "{dialect}"
""",
    "parameters.toml": """\
# One row per parameter, one value per environment. A missing value is an error.

[oldest_day]
type = "date"
about = "Oldest day kept; keep it short in development, so that builds are quick"
dev = "2026-01-01"
""",
    "environments/dev.toml": """\
about = "{about}"
snapshots = true                  # takes bundles of uncommitted or untagged trees

[databases.main]
url = "{url}"

[workspace]
url = "sim:dev"

[gateway]
url = "sim:dev"

[schedules]
default = "off"
""",
    "schemas/ops/schema.toml": """\
about = "Tables that people keep by hand"
managed = "migrations"
""",
    "schemas/ops/migrations/0001_baseline.sql": """\
/*---
about = "Where measurements are entered"
baseline = true
---*/
CREATE TABLE ops.measurement (
  place TEXT NOT NULL,
  day DATE NOT NULL,
  amount INTEGER NOT NULL
);
INSERT INTO ops.measurement (place, day, amount) VALUES
  ('north', '2026-02-01', 3),
  ('south', '2026-02-01', 5),
  ('north', '2026-02-02', 4);
""",
    "models/report/daily_total.sql": """\
/*---
about = "How much was measured on each day"
store = "table"
key = ["day"]
[columns.total]
about = "Sum over all places"
required = true
between = [0, 1000000]
---*/
SELECT day, CAST(sum(amount) AS INTEGER) AS total
FROM ops.measurement
WHERE day >= :oldest_day
GROUP BY day
""",
    "pipelines/daily.toml": """\
about = "Rebuild the report every morning"

[schedules.morning]
cron = "0 5 * * *"
timezone = "UTC"

[[steps]]
name = "report"
build = ["report.daily_total"]
""",
    ".gitignore": """\
.inchworm/
.secrets/
""",
}


_IGNORED = ".gitignore"


def _with_lines(text: str, more: str) -> str:
    """A text with the lines of another one that it lacks."""
    lacking = [line for line in more.splitlines() if line not in text.splitlines()]
    return "\n".join([*text.rstrip("\n").splitlines(), *lacking]) + "\n"


def write_starter(folder: Path, name: str, dialect: str, about: str, url: str) -> list[str]:
    """Write the project; returns the files' paths.

    Args:
        folder: where to.
        name: the project's.
        dialect: its SQL dialect.
        about: one sentence on the database of its first environment.
        url: the address of that database.

    Raises:
        UsageError: when the folder has files or folders of the names that a project needs.
    """
    tops = sorted({path.partition("/")[0] for path in _FILES} - {_IGNORED})
    taken = [name for name in tops if (folder / name).exists()]
    if taken:
        raise UsageError(
            f"{folder} has {taken[0]} already, which a project writes.",
            next="Name a folder that is not there yet, or one below this one: "
            f"inchworm new {folder / 'delivery'}",
        )
    folder.mkdir(parents=True, exist_ok=True)
    for path, content in _FILES.items():
        if path == _IGNORED and (folder / path).exists():
            content = _with_lines((folder / path).read_text(), content)
        text = content.replace("{about}", about).replace("{url}", url)
        text = text.replace("{name}", name).replace("{dialect}", dialect)
        write_below(folder, path, text.encode())
    return sorted(_FILES)
