"""The state of a source tree's git repository."""

from __future__ import annotations

import subprocess
from dataclasses import dataclass
from pathlib import Path

from inchworm.core.errors import ProjectError


@dataclass(frozen=True, kw_only=True)
class GitState:
    """The commit that a tree is at.

    Attributes:
        commit: the full commit id, or None outside a repository or before the first commit.
        committed_at: its time, ISO 8601, UTC offset included.
        branch: the branch's name, or None when no branch is checked out.
        clean: whether the tree is exactly the commit.
        tags: names that point at the commit.
    """

    commit: str | None = None
    committed_at: str | None = None
    branch: str | None = None
    clean: bool = False
    tags: tuple[str, ...] = ()

    @property
    def short(self) -> str:
        """The first seven digits of the commit, or a dash."""
        return self.commit[:7] if self.commit else "-"


def read_state(folder: Path) -> GitState:
    """The state of the repository that a folder is in; empty outside of one.

    Raises:
        ProjectError: when git is not installed.
    """
    commit = _git(folder, "rev-parse", "--verify", "-q", "HEAD")
    if commit is None:
        return GitState()
    branch = _git(folder, "symbolic-ref", "-q", "--short", "HEAD")
    changes = _git(folder, "status", "--porcelain", "--untracked-files=all", "--", ".")
    return GitState(
        commit=commit,
        committed_at=_git(folder, "show", "-s", "--format=%cI", "HEAD"),
        branch=branch,
        clean=changes == "",
        tags=tuple((_git(folder, "tag", "--points-at", "HEAD") or "").split()),
    )


def user_name(folder: Path) -> str | None:
    """``user.name`` of git, where it is set."""
    return _git(folder, "config", "user.name")


def _git(folder: Path, *arguments: str) -> str | None:
    """The output of a git command, or None when git refuses."""
    try:
        done = subprocess.run(
            ["git", *arguments], cwd=folder, capture_output=True, text=True, check=False
        )
    except FileNotFoundError as error:
        raise ProjectError("git is not installed.", next="Install git.") from error
    return done.stdout.strip() if done.returncode == 0 else None
