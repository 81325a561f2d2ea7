"""The user's own folder: which projects they trust, and the key of their caches.

It is outside of every repository: ``XDG_CONFIG_HOME/inchworm``, or ``~/.config/inchworm``. Nobody
but its owner may write there; a folder in which others may write counts as none.
"""

from __future__ import annotations

import json
import os
import stat
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec import Struct

from inchworm.core.errors import InchwormError, UsageError
from inchworm.core.ledger.entries import Head
from inchworm.core.seal import Sealer
from inchworm.core.trust import (
    ADDRESSES_VARIABLE,
    VARIABLE,
    Trust,
    trust_in_variables,
)
from inchworm.safe_files import read_private, write_private

_TRUST = "trust.json"
_FORMAT = "inchworm/trust/1"
_SEEN = "ledgers.json"
_MOST_LEDGERS = 1000
_CACHE_KEY = "cache.key"
_KEY_BYTES = 32


class UserFolder(Struct, frozen=True):
    """The folder of one user.

    Attributes:
        path: the folder; None where there is no home for it.
        environ: the environment variables.
    """

    path: Path | None
    environ: Mapping[str, str]

    @classmethod
    def of(cls, environ: Mapping[str, str]) -> UserFolder:
        """Return the folder that the environment variables lead to."""
        if folder := environ.get("XDG_CONFIG_HOME"):
            return cls(Path(folder) / "inchworm", environ)
        with suppress(RuntimeError):
            return cls(Path(environ.get("HOME") or Path.home()) / ".config" / "inchworm", environ)
        return cls(None, environ)

    def sealer(self) -> Sealer:
        """Return what seals caches; where nothing can be kept, one that this process alone has."""
        with suppress(OSError, InchwormError):
            if self.path is not None:
                return Sealer(self._cache_key(self.path))
        return Sealer(os.urandom(_KEY_BYTES))

    @staticmethod
    def _cache_key(folder: Path) -> bytes:
        file = folder / _CACHE_KEY
        with suppress(FileNotFoundError):
            key = read_private(file)
            if len(key) == _KEY_BYTES:
                return key
        make_user_folder(folder)
        write_private(file, os.urandom(_KEY_BYTES))
        return read_private(file)  # two that begin at once have one key: the later one

    def trust_in(self, project: Path) -> Trust:
        """Return what the user allows the project in a folder."""
        folder = str(project.resolve())
        given = trust_in_variables(
            folder,
            self.environ.get(VARIABLE, ""),
            self.environ.get(ADDRESSES_VARIABLE, ""),
            os.pathsep,
        )
        if given is not None:
            return given
        return self.kept_trust_in(project)

    def kept_trust_in(self, project: Path) -> Trust:
        """Return what the user has decided for good about the project in a folder."""
        folder = str(project.resolve())
        decision = self._kept().get(folder)
        return Trust(folder=folder) if decision is None else Trust.from_json(folder, decision)

    def keep(self, trust: Trust) -> None:
        """Keep a decision, or forget it where nothing is allowed any more.

        Raises:
            UsageError: when there is no folder to keep it in.
        """
        if self.path is None:
            raise UsageError(
                "There is no home folder in which the decision could be kept.",
                next=f"Set {VARIABLE} to the project's folder.",
            )
        make_user_folder(self.path)
        decisions = dict(self._kept())
        if trust.is_given:
            decisions[trust.folder] = trust.to_json()
        else:
            decisions.pop(trust.folder, None)
        text = json.dumps({"format": _FORMAT, "projects": decisions}, indent=1, ensure_ascii=False)
        write_private(self.path / _TRUST, f"{text}\n".encode())

    def keep_head(self, ledger: str, head: Head) -> None:
        """Keep the end of a ledger that this user has seen, if there is a place for it."""
        if self.path is None:
            return
        with suppress(OSError, InchwormError):
            make_user_folder(self.path)
            before = self.seen_head(ledger)
            if before is not None and before.number >= head.number:
                return
            seen = {**self._seen(), ledger: [head.number, head.hash]}
            latest = dict(list(seen.items())[-_MOST_LEDGERS:])
            write_private(self.path / _SEEN, json.dumps(latest, indent=1).encode())

    def seen_head(self, ledger: str) -> Head | None:
        """Return the end of a ledger that this user saw last; None if they saw none."""
        seen = self._seen().get(ledger)
        return None if seen is None else Head(int(seen[0]), str(seen[1]))

    def _seen(self) -> dict[str, Any]:
        if self.path is None:
            return {}
        with suppress(OSError, ValueError):
            seen: dict[str, Any] = json.loads(read_private(self.path / _SEEN))
            return seen
        return {}

    def _kept(self) -> Mapping[str, Any]:
        if self.path is None:
            return {}
        file = self.path / _TRUST
        try:
            document = json.loads(read_private(file))
            projects: Mapping[str, Any] = document["projects"]
            for folder, kept in projects.items():
                Trust.from_json(folder, kept)
        except FileNotFoundError:
            return {}
        except (ValueError, KeyError, TypeError) as error:
            raise UsageError(
                "cannot be read: it is not what inchworm trust writes.",
                where=str(file),
                next="Remove the file, and trust your projects again: inchworm trust.",
            ) from error
        return projects


def make_user_folder(folder: Path) -> None:
    """Make the user's folder, which nobody else can look into.

    Raises:
        UsageError: when others may write in it.
    """
    folder.parent.mkdir(parents=True, exist_ok=True)
    with suppress(FileExistsError):
        folder.mkdir(mode=0o700)
        folder.chmod(0o700)  # whatever the umask took away
    if folder.stat().st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise UsageError(
            "Others may write in this folder, so nothing in it can be believed.",
            where=str(folder),
            next=f"chmod 700 {folder}",
        )
