"""The state of a source tree's git repository.

A repository is somebody else's: nothing that its configuration names is executed, and nothing is
fetched. Whatever in the repository's own configuration, with the files that it includes, can start
a program is overridden by name; what the user's own configuration has stays. Hooks, monitors of the
file system, pagers, replaced objects, grafts and transports are off. ``tests/program/test_git.py``
has a table of every setting that can start a program, and tries each.
"""

from __future__ import annotations

import hashlib
import os
import re
import subprocess
from collections.abc import Collection, Iterable, Iterator, Mapping
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct

from inchworm.core.errors import ProjectError
from inchworm.project.file_index import is_looked_at

_NOTHING_EXECUTED = {
    "core.fsmonitor": "false",
    "core.hooksPath": os.devnull,
    "core.pager": "cat",
    "diff.external": "",
    "log.showSignature": "false",
    "core.commitGraph": "false",
    "safe.bareRepository": "explicit",
    "protocol.allow": "never",
}

_VARIABLES = {
    "GIT_ALLOW_PROTOCOL": "none",  # goes before what the repository says of protocols
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_NO_REPLACE_OBJECTS": "1",
    "GIT_GRAFT_FILE": os.devnull,
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_TERMINAL_PROMPT": "0",
}

_STARTS_PROGRAMS = re.compile(
    r"(filter\..*\.(clean|smudge|process)|diff\..*\.(command|textconv)|merge\..*\.driver"
    r"|core\.(sshcommand|gitproxy|askpass|editor|alternaterefscommand|attributesfile)"
    r"|(gpg|gpg\..*)\.program|gpg\.ssh\.defaultkeycommand|credential(\..*)?\.helper|pager\..*"
    r"|remote\..*\.(uploadpack|receivepack|vcs|promisor|proxy)|extensions\.partialclone"
    r"|tar\..*\.command|trailer\..*\.(command|cmd)|uploadpack\.packobjectshook|sequence\.editor"
    r"|interactive\.difffilter|submodule\..*\.update)",
    re.IGNORECASE,
)
"""Settings whose value git may start as a program, or fetch from."""

_OF_THE_REPOSITORY = ("local", "worktree")
_FILTER = re.compile(r"(filter\..*)\.(clean|smudge|process)", re.IGNORECASE)


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


def read_state(folder: Path, files: Mapping[str, bytes], releases: str | None = None) -> GitState:
    """The state of the repository that a folder is in; empty outside of one.

    Args:
        folder: the project's.
        files: all files that belong to the project, by path; others may be untracked.
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
        clean=_is_clean(folder, git, files),
        tags=tuple((git("tag", "--points-at", "HEAD") or "").split()),
        is_released=releases is None or _is_on(git, releases),
    )


def committed_at(folder: Path) -> str | None:
    """The time of the commit that a folder is at, ISO 8601; None outside of a repository."""
    return _Git(folder)("show", "-s", "--format=%cI", "HEAD")


def user_name(folder: Path) -> str | None:
    """``user.name`` of git, where it is set."""
    return _Git(folder)("config", "user.name")


class Contributors(Struct, frozen=True, kw_only=True):
    """Whoever had a hand in some commits.

    Attributes:
        names: names and addresses of authors, committers and co-authors.
        lacking: commits of which the repository does not know everything, in words; empty where
            nothing is lacking.
    """

    names: frozenset[str] = frozenset()
    lacking: str = ""


def contributors(
    folder: Path, commit: str, since: Iterable[str], new_files: Collection[str] = ()
) -> Contributors:
    """Whoever had a hand in what came with a commit, or went with it.

    Names are taken as the commits have them, and not as ``.mailmap`` says.

    Args:
        folder: the project's.
        commit: the commit.
        since: commits that ran before: what either side has alone counts; none for all of the
            history.
        new_files: files of which all commits count.
    """
    git = _Git(folder)
    known = [each for each in {*since} if git.has(each)]
    absent = sorted(each for each in {*since, commit} if not git.has(each))
    lacking = [f"commit {each[:12]} is not here" for each in absent]
    shallow = git("rev-parse", "--is-shallow-repository")
    if shallow != "false":
        lacking.append("the clone is shallow" if shallow else "this is no git repository")
    # of a bundle that goes back, or to the side, also those whose work it takes away
    behind = [[f"{each}...{commit}"] for each in known] if known and not lacking else [["--all"]]
    if new_files:
        behind.append([commit, "--", *sorted(new_files)])
    if not known and not lacking:
        behind = [[commit]]
    names = frozenset(name for words in behind for name in _hands_in(git, *words))
    return Contributors(names=names, lacking="; ".join(lacking))


def everybody(folder: Path) -> set[str]:
    """Whoever had a hand in any commit that the repository has."""
    return _hands_in(_Git(folder), "--all")


def _hands_in(git: _Git, *commits: str) -> set[str]:
    """The names and addresses of whoever had a hand in some commits."""
    log = git("log", f"--format={_HANDS}", *commits) or ""
    return {name for line in log.splitlines() for name in _names_in(line)}


_HANDS = "%an%n%ae%n%cn%n%ce%n%(trailers:key=Co-authored-by,valueonly,unfold)"


def _names_in(line: str) -> list[str]:
    """The names in ``Ann``, ``ann@example`` or ``Ann <ann@example>``."""
    name, _, address = line.partition("<")
    return [each.strip() for each in (name, address.rstrip("> ")) if each.strip()]


def commit_of(folder: Path, branch: str) -> str | None:
    """The commit that a branch is at, at the origin where that is known; None without one."""
    git = _Git(folder)
    names = (
        ["HEAD"] if branch == "HEAD" else [f"refs/remotes/origin/{branch}", f"refs/heads/{branch}"]
    )
    commits = (git("rev-parse", "--verify", "-q", f"{name}^{{commit}}") for name in names)
    return next(filter(None, commits), None)


def some_files_at(folder: Path, commit: str, paths: Collection[str]) -> dict[str, bytes]:
    """Those of some files that a commit has in a folder, by path."""
    git = _Git(folder)
    tree = git.tree(commit) or {}
    return dict(git.contents({path: tree[path].id for path in paths if path in tree}))


def tracked_below(folder: Path, name: str) -> list[str]:
    """The files in a folder of a folder that git tracks, relative to the latter."""
    listed = _Git(folder)("ls-files", "-z", "--", name)
    return [path for path in (listed or "").split("\0") if path]


def commit_has(folder: Path, commit: str, files: Mapping[str, bytes]) -> bool:
    """Whether a commit has just these files in a folder, as far as they belong to parts.

    Args:
        folder: the project's.
        commit: the commit.
        files: the files, by path.
    """
    git = _Git(folder)
    tree = git.tree(commit)
    return tree is not None and all(
        path in tree and (not tree[path].is_file or git.is_as_in(tree[path], path, files[path]))
        for path in files
    )


def files_at(folder: Path, commit: str) -> dict[str, bytes] | None:
    """The files of a folder as a commit has them, by path; None where there is no such commit.

    Args:
        folder: the project's.
        commit: a commit, branch or tag.
    """
    git = _Git(folder)
    tree = git.tree(commit)
    if tree is None:
        return None
    return dict(git.contents({path: blob.id for path, blob in tree.items() if blob.is_file}))


def _is_clean(folder: Path, git: _Git, files: Mapping[str, bytes]) -> bool:
    """Whether nothing that is tracked has changed, and each file of the project is the commit's.

    The files are compared with the commit's tree itself: ``git status`` believes the index, in
    which a file can be said not to change.
    """
    changes = git(
        *("status", "--porcelain=v1", "-z", "--untracked-files=no", "--ignore-submodules=all"),
        *("--", "."),
    )
    tree = git.tree("HEAD")
    if changes or changes is None or tree is None:
        return False
    if any(is_looked_at(path) and path not in files for path in tree):
        return False
    return all(_is_as_committed(folder, git, tree, path, files[path]) for path in files)


def _is_as_committed(
    folder: Path, git: _Git, tree: Mapping[str, _Blob], path: str, content: bytes
) -> bool:
    """Whether a file is the commit's; of a link, whether that, and the file behind it, are."""
    place = folder / path
    if path not in tree or place.is_symlink() is tree[path].is_file:
        return False
    if not place.is_symlink():
        return git.is_as_in(tree[path], path, content)
    target = str(place.resolve().relative_to(folder.resolve()))
    return (
        git.is_as_in(tree[path], path, os.readlink(place).encode())
        and target in tree
        and git.is_as_in(tree[target], target, content)
    )


def _is_on(git: _Git, branch: str) -> bool:
    """Whether the commit is on a branch, here or at the origin."""
    names = (f"refs/heads/{branch}", f"refs/remotes/origin/{branch}")
    return any(git("merge-base", "--is-ancestor", "HEAD", name) is not None for name in names)


class _Blob(NamedTuple):
    """What a commit's tree has at a path: its kind, and the digest of its content."""

    mode: str
    id: str

    @property
    def is_file(self) -> bool:
        """True if it is a file, and neither a link nor a submodule."""
        return self.mode.startswith("100")


class _Git:
    """Runs git in a folder, executing nothing that the repository's configuration names."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def __call__(self, *arguments: str) -> str | None:
        """The output of a command, or None when git refuses."""
        output = self.output(*arguments)
        return None if output is None else output.decode(errors="surrogateescape").strip()

    def output(self, *arguments: str, given: bytes = b"") -> bytes | None:
        """The output of a command as it is, or None when git refuses."""
        return self._run(self._settings, *arguments, given=given)

    def has(self, commit: str) -> bool:
        """Return True if the repository has a commit."""
        name = f"{commit}^{{commit}}"
        return self("rev-parse", "--verify", "-q", "--end-of-options", name) is not None

    def tree(self, commit: str) -> dict[str, _Blob] | None:
        """What a commit has in the folder, by path; None where there is no such commit."""
        name = self("rev-parse", "--verify", "-q", "--end-of-options", f"{commit}^{{commit}}")
        listed = self.output("ls-tree", "-r", "-z", "--end-of-options", name) if name else None
        if listed is None:
            return None
        tree: dict[str, _Blob] = {}
        for line in listed.decode(errors="surrogateescape").split("\0")[:-1]:
            about, _, path = line.partition("\t")
            mode, _, blob = about.split(" ")
            tree[path] = _Blob(mode, blob)
        return tree

    def contents(self, blobs: Mapping[str, str]) -> Iterator[tuple[str, bytes]]:
        """The contents of blobs, each with its name, as they were committed: no filter runs."""
        if not blobs:
            return
        asked = "".join(f"{blob}\n" for blob in blobs.values()).encode()
        output = self.output("cat-file", "--batch", given=asked) or b""
        at = 0
        for name in blobs:
            end = output.index(b"\n", at)
            about = output[at:end].split(b" ")
            if len(about) != _ABOUT_A_BLOB:
                raise ProjectError(
                    "its content is not in this clone, which is a partial one.",
                    where=name,
                    next="Fetch it: git fetch --refetch --no-filter origin",
                )
            size = int(about[2])
            yield name, output[end + 1 : end + 1 + size]
            at = end + size + 2

    def is_as_in(self, blob: _Blob, path: str, content: bytes) -> bool:
        """Return True if a file's content is what the commit has, with the user's own filters."""
        hashed = hashlib.sha256 if len(blob.id) == _SHA256_DIGITS else hashlib.sha1
        if hashed(b"blob %d\0" % len(content) + content).hexdigest() == blob.id:
            return True
        return blob.is_file and self._filtered(path, content) == blob.id

    def _filtered(self, path: str, content: bytes) -> str | None:
        """The name that git gives a content in a path, line ends and filters included."""
        named = self.output("hash-object", "--stdin", f"--path={path}", given=content)
        return None if named is None else named.decode().strip()

    @cached_property
    def _settings(self) -> Mapping[str, str]:
        """Settings that switch off what the repository's own configuration would start."""
        question = ("config", "--list", "--show-scope", "--includes", "--name-only", "-z")
        listed = self._run(_NOTHING_EXECUTED, *question)
        words = (listed or b"").decode(errors="surrogateescape").split("\0")
        scoped = zip(words[::2], words[1::2], strict=False)
        own = [n for scope, n in scoped if scope in _OF_THE_REPOSITORY]
        off = {name: "" for name in own if _STARTS_PROGRAMS.fullmatch(name)}
        filters = {m[1] for name in own if (m := _FILTER.fullmatch(name)) is not None}
        return {**off, **{f"{f}.required": "false" for f in filters}, **_NOTHING_EXECUTED}

    def _run(
        self, settings: Mapping[str, str], *arguments: str, given: bytes = b""
    ) -> bytes | None:
        """Run git with some settings, given by variables: ``-c`` takes no name that has a =."""
        numbered = list(enumerate(settings.items(), int(os.environ.get("GIT_CONFIG_COUNT") or 0)))
        keys = {f"GIT_CONFIG_KEY_{number}": name for number, (name, _) in numbered}
        values = {f"GIT_CONFIG_VALUE_{number}": value for number, (_, value) in numbered}
        count = {"GIT_CONFIG_COUNT": str(numbered[-1][0] + 1)}
        try:
            done = subprocess.run(
                ["git", *arguments],
                cwd=self._folder,
                input=given,
                capture_output=True,
                check=False,
                env={**os.environ, **_VARIABLES, **keys, **values, **count},
            )
        except FileNotFoundError as error:
            raise ProjectError("git is not installed.", next="Install git.") from error
        return done.stdout if done.returncode == 0 else None


_ABOUT_A_BLOB = 3
"""Words that git says of a blob that it has: its id, type and size."""

_SHA256_DIGITS = 64
