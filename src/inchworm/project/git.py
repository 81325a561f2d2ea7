"""The state of a source tree's git repository.

A repository is somebody else's: nothing that its configuration names is executed. Monitors of the
file system, hooks and pagers are switched off, and so are filters that the repository itself
defines; those of the user's own configuration stay.
"""

from __future__ import annotations

import io
import os
import subprocess
import tarfile
from collections.abc import Collection
from pathlib import Path

from msgspec import Struct

from inchworm.core.errors import ProjectError

_NOTHING_EXECUTED = (
    *("-c", "core.fsmonitor=false"),
    *("-c", f"core.hooksPath={os.devnull}"),
    *("-c", "core.pager=cat"),
    *("-c", "diff.external="),
    *("-c", "log.showSignature=false"),
)


class GitState(Struct, frozen=True, kw_only=True):
    """The commit that a tree is at.

    Attributes:
        commit: the full commit id, or None outside a repository or before the first commit.
        committed_at: its time, ISO 8601, UTC offset included.
        branch: the branch's name, or None when no branch is checked out.
        clean: whether the tree is exactly the commit, as far as it belongs to parts.
        tags: names that point at the commit.
        is_released: whether the commit is on the branch that releases come from.
    """

    commit: str | None = None
    committed_at: str | None = None
    branch: str | None = None
    clean: bool = False
    tags: tuple[str, ...] = ()
    is_released: bool = False

    @property
    def short(self) -> str:
        """The first seven digits of the commit, or a dash."""
        return self.commit[:7] if self.commit else "-"


def read_state(folder: Path, files: Collection[str], releases: str | None = None) -> GitState:
    """The state of the repository that a folder is in; empty outside of one.

    Args:
        folder: the project's.
        files: the paths of all files that belong to the project; others may be untracked.
        releases: the branch that releases come from; None where any will do.

    Raises:
        ProjectError: when git is not installed.
    """
    git = _Git(folder)
    commit = git("rev-parse", "--verify", "-q", "HEAD")
    if commit is None:
        return GitState()
    return GitState(
        commit=commit,
        committed_at=git("show", "-s", "--format=%cI", "HEAD"),
        branch=git("symbolic-ref", "-q", "--short", "HEAD"),
        clean=_is_clean(git, files),
        tags=tuple((git("tag", "--points-at", "HEAD") or "").split()),
        is_released=releases is None or _is_on(git, releases),
    )


def committed_at(folder: Path) -> str | None:
    """The time of the commit that a folder is at, ISO 8601; None outside of a repository."""
    return _Git(folder)("show", "-s", "--format=%cI", "HEAD")


def user_name(folder: Path) -> str | None:
    """``user.name`` of git, where it is set."""
    return _Git(folder)("config", "user.name")


def authors(folder: Path, since: str | None, commit: str) -> tuple[str, ...] | None:
    """Names and addresses of the authors of all commits that came with one.

    Args:
        folder: the project's.
        since: the commit behind which they came; None for all of the history.
        commit: the commit.

    Returns:
        None where the repository does not know one of the commits.
    """
    among = commit if since is None else f"{since}..{commit}"
    log = _Git(folder)("log", "--format=%aN%n%aE", "--end-of-options", among)
    return None if log is None else tuple(sorted(set(log.splitlines())))


def files_at(folder: Path, commit: str) -> dict[str, bytes] | None:
    """The files of a folder as a commit has them, by path; None where there is no such commit.

    Args:
        folder: the project's.
        commit: a commit, branch or tag.
    """
    git = _Git(folder)
    object_name = git("rev-parse", "--verify", "-q", "--end-of-options", f"{commit}^{{commit}}")
    if object_name is None:
        return None
    prefix = git("rev-parse", "--show-prefix") or ""
    archive = git.output(
        "archive", "--format=tar", f"{object_name}:{prefix}" if prefix else object_name
    )
    if archive is None:
        return None
    with tarfile.open(fileobj=io.BytesIO(archive)) as tar:
        return {
            member.name: content.read()
            for member in tar
            if member.isfile() and (content := tar.extractfile(member)) is not None
        }


def _is_clean(git: _Git, files: Collection[str]) -> bool:
    """Whether nothing that is tracked has changed, and no file of the project is untracked."""
    prefix = git("rev-parse", "--show-prefix") or ""
    changes = git("status", "--porcelain=v1", "-z", "--untracked-files=all", "--", ".")
    if changes is None:
        return False
    for change in filter(None, changes.split("\0")):
        is_untracked = change.startswith("?? ")
        if not is_untracked or change.removeprefix("?? ").removeprefix(prefix) in files:
            return False
    return True


def _is_on(git: _Git, branch: str) -> bool:
    """Whether the commit is on a branch, here or at the origin."""
    names = (f"refs/heads/{branch}", f"refs/remotes/origin/{branch}")
    return any(git("merge-base", "--is-ancestor", "HEAD", name) is not None for name in names)


class _Git:
    """Runs git in a folder, executing nothing that the repository's configuration names."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._settings: tuple[str, ...] | None = None

    def __call__(self, *arguments: str) -> str | None:
        """The output of a command, or None when git refuses."""
        if self._settings is None:
            self._settings = (*_NOTHING_EXECUTED, *self._filters_off())
        return self._run(*self._settings, *arguments)

    def output(self, *arguments: str) -> bytes | None:
        """The output of a command as it is, or None when git refuses."""
        self("--version")  # so that the settings are known
        done = subprocess.run(
            ["git", *(self._settings or ()), *arguments],
            cwd=self._folder,
            capture_output=True,
            check=False,
        )
        return done.stdout if done.returncode == 0 else None

    def _filters_off(self) -> list[str]:
        """Settings that switch off the filters which the repository itself defines."""
        query = ("config", "--name-only", "--get-regexp", r"^filter\..*\.(clean|smudge|process)$")
        own = [
            name
            for scope in ("--local", "--worktree")
            for name in (self._run(query[0], scope, *query[1:]) or "").splitlines()
        ]
        off = [("-c", f"{name}=") for name in own]
        off += [("-c", f"{name.rpartition('.')[0]}.required=false") for name in own]
        return [word for pair in off for word in pair]

    def _run(self, *arguments: str) -> str | None:
        try:
            done = subprocess.run(
                ["git", *arguments], cwd=self._folder, capture_output=True, text=True, check=False
            )
        except FileNotFoundError as error:
            raise ProjectError("git is not installed.", next="Install git.") from error
        return done.stdout.strip() if done.returncode == 0 else None
