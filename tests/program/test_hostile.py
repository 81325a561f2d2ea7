"""What somebody else wrote: repositories, links, names and messages that would do harm."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest

from tests.driver import Program

ESCAPE = "\x1b]0;owned\x07\x1b[2J"


@pytest.fixture
def committed(starter: Program) -> Program:
    """A project under version control, committed and tagged."""
    starter.git("init", "--quiet", "--initial-branch", "main")
    starter.git("add", "--all")
    starter.git("commit", "--quiet", "--message", "First")
    starter.git("tag", "v0.1.0")
    return starter


# ---- git -----------------------------------------------------------------------------------------


def test_nothing_that_a_repository_names_is_executed(committed: Program, tmp_path: Path) -> None:
    """Neither its monitor nor its hooks nor the filters that it defines."""
    trap, sprung = tmp_path / "trap", tmp_path / "sprung"
    trap.write_text(f"#!/bin/sh\necho $0 $* >> {sprung}\ncat\n")
    trap.chmod(0o755)
    settings = ("core.fsmonitor", "diff.external", "core.pager", "filter.trap.clean")
    for name in (*settings, "filter.trap.smudge", "filter.trap.process"):
        committed.git("config", name, str(trap))
    committed.git("config", "core.hooksPath", str(tmp_path / "hooks"))
    (tmp_path / "hooks").mkdir()
    for hook in ("post-index-change", "pre-commit", "post-checkout"):
        (tmp_path / "hooks" / hook).symlink_to(trap)
    (committed.folder / ".git/info/attributes").write_text("* filter=trap\n")
    for file in committed.folder.rglob("*.sql"):
        os.utime(file, (1, 1))  # git has to look inside
    for command in (("pack",), ("doctor", "dev"), ("status",), ("trace", "--all", "--openlineage")):
        committed(*command, code=None)
    assert not sprung.exists()


def test_files_that_belong_to_no_part_do_not_make_a_release_a_snapshot(committed: Program) -> None:
    """Those that do, and changes to what is tracked, do."""
    committed.write("notes.txt", "mine")
    committed.write("models/report/.hidden.sql", "SELECT 1")
    assert committed("pack", "--release", "--json").json["bundle"] == "starter-0.1.0"
    committed.write("models/report/new.sql", "SELECT 1 AS one")
    refused = committed("pack", "--release", code=2)
    assert "the tree has changes that are not committed" in refused.err
    assert "snapshot" in committed.pack()


def test_a_tag_counts_on_the_branch_of_releases(committed: Program) -> None:
    """One of somebody's own branch makes a snapshot."""
    committed.edit("inchworm.toml", "dialect =", 'release_branch = "main"\ndialect =')
    committed.git("checkout", "--quiet", "-b", "mine")
    committed.git("add", "--all")
    committed.git("commit", "--quiet", "--message", "Mine")
    committed.git("tag", "--force", "v0.1.0")
    assert "not on main, where releases come from" in committed("pack", "--release", code=2).err
    assert "snapshot" in committed.pack()
    committed.git("branch", "--force", "main", "mine")
    assert committed("pack", "--release", "--json").json["bundle"] == "starter-0.1.0"


# ---- links ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("where", ["outside", "hidden"])
def test_a_link_does_not_bring_other_files_into_a_bundle(
    committed: Program, tmp_path: Path, where: str
) -> None:
    """Neither those of the machine nor secrets that are kept beside the project."""
    secret = tmp_path / "key" if where == "outside" else committed.folder / ".secrets/key"
    secret.parent.mkdir(exist_ok=True)
    secret.write_text("SELECT 'secret' AS one")
    (committed.folder / "models/report/link.sql").symlink_to(secret)
    answer = committed("pack", code=1)
    assert "models/report/link.sql: is a link that leads" in answer.err
    (committed.folder / "models/report/link.sql").unlink()
    committed.write("models/report/one.sql", "SELECT 1 AS one")
    (committed.folder / "models/report/two.sql").symlink_to("one.sql")
    committed.pack()


# ---- escapes -------------------------------------------------------------------------------------


def test_no_text_from_outside_reaches_the_terminal_as_a_command(committed: Program) -> None:
    """Descriptions, names of people, messages: what they hold is shown, not obeyed."""
    committed.edit("environments/dev.toml", "about =", 'about = "\\u001b[31mred" #')
    committed.write("models/report/odd.sql", f'SELECT 1 AS "{ESCAPE}"')
    committed.write("checks/bad.sql", f"SELECT '{ESCAPE}' AS x FROM report.nowhere_\x1b[2J")
    user = {"INCHWORM_USER": f"lena{ESCAPE}"}
    outputs = [committed("check", code=1), committed("check", "--json", code=1)]
    (committed.folder / "checks/bad.sql").unlink()
    (committed.folder / "models/report/odd.sql").unlink()
    bundle = committed.pack()
    outputs.append(committed("promote", bundle, "--to", "dev", "--yes", environ=user))
    outputs += [
        committed(*command, environ=user)
        for command in (("status",), ("status", "--json"), ("history",), ("history", "P1"))
    ]
    outputs.append(committed("promote", f"nothing{ESCAPE}", "--to", "dev", code=2))
    outputs.append(committed("drift", f"dev{ESCAPE}", code=2))
    for output in outputs:
        assert "\x1b" not in output.out + output.err
        assert "\x07" not in output.out + output.err
    assert "lena\N{REPLACEMENT CHARACTER}]0;owned" in outputs[3].out


# ---- who may read --------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["duckdb", "sqlite"])
def test_others_cannot_read_what_is_written(starter: Program, kind: str) -> None:
    """Ledger, bundles, facts, simulated services and databases that are made."""
    url = f"{kind}:///data/dev.{kind}"
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    settings = (starter.folder / "inchworm.toml").read_text()
    starter.write("inchworm.toml", f'{settings}[storage]\nledger = "books/l.sqlite"\n')
    starter.promote(starter.pack(), "dev")
    kept = starter.folder / ".inchworm"
    assert stat.S_IMODE(kept.stat().st_mode) == 0o700
    made = [*(starter.folder / "data").iterdir(), *(starter.folder / "books").iterdir()]
    assert len(made) >= 2
    for file in made:
        assert not file.stat().st_mode & 0o077, file
    kept.chmod(0o755)
    starter("status")
    assert stat.S_IMODE(kept.stat().st_mode) == 0o700
