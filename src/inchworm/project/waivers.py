"""Reading and writing ``waivers.toml``."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.checks.waivers import FILE, Waiver
from inchworm.core.errors import ProjectError
from inchworm.core.toml import TomlProblem, read_toml
from inchworm.kinds.settings import Settings, validate
from inchworm.project.file_index import read_file
from inchworm.safe_files import write_below


class WaiverSettings(Settings):
    """One ``[[waivers]]``."""

    rule: str
    part: str
    because: str
    owner: str
    until: dt.date
    only: str = ""
    seen: str = ""


class WaiversFile(Settings):
    """``waivers.toml``."""

    waivers: tuple[WaiverSettings, ...] = ()


def read_waivers(root: Path) -> tuple[list[Waiver], list[Finding]]:
    """All waivers, and what is wrong with the file."""
    path = root / FILE
    findings: list[Finding] = []
    if not path.is_file():
        return [], findings
    try:
        document = read_toml(read_file(root, FILE))
    except TomlProblem as problem:
        return [], [rules.UNREADABLE.finding(problem.reason, file=FILE, line=problem.line)]
    settings = validate(WaiversFile, document, None, FILE, findings.append)
    waivers = settings.waivers if settings else ()
    return [
        Waiver(**waiver.model_dump(), line=document.line_of(("waivers", i)))
        for i, waiver in enumerate(waivers)
    ], findings


def add_waiver(root: Path, waiver: Waiver) -> None:
    """Add a waiver at the end of the file; what is there keeps its order and comments.

    Raises:
        ProjectError: when the file is not TOML.
    """
    import tomlkit
    from tomlkit.exceptions import TOMLKitError

    path = root / FILE
    try:
        document = tomlkit.parse(path.read_bytes().decode("utf-8") if path.is_file() else "")
    except TOMLKitError as error:
        raise ProjectError(f"is not TOML: {error}", where=FILE, next="Mend the line.") from error
    table = tomlkit.table()
    for name in ("rule", "part", "because", "owner", "until"):
        table[name] = getattr(waiver, name)
    for name in ("only", "seen"):
        if getattr(waiver, name):
            table[name] = getattr(waiver, name)
    waivers = document.setdefault("waivers", tomlkit.aot())
    waivers.append(table)
    write_below(root, FILE, tomlkit.dumps(document).encode("utf-8"))  # line ends as they are
