"""Every error a user can meet.

The tree says whose fault it is::

    InchwormError
    ├── UsageError            the command line asks for something that is not there      exit 2
    │   └── NotAllowed        a secret would go where the user has not allowed it to go  exit 2
    ├── ProjectError          a file of the project is wrong                              exit 1
    │   └── WrongEnvironment  an environment's address leads to another environment      exit 1
    ├── BundleError           a bundle file cannot be trusted                             exit 1
    ├── TargetError           a database or service failed or refused                    exit 1
    │   └── OutsideAccess     a statement reaches a file or server that is not declared  exit 1
    ├── LedgerError           the ledger is damaged or cannot be reached                 exit 1
    ├── Waiting               an entry condition is not met yet                          exit 3
    └── EnvironmentMoved      the environment is not as drafted, or somebody has it locked   exit 4

    NotTrusted                the user has not trusted the project; it ends every command    exit 2
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable


class InchwormError(Exception):
    """An error that the user can act upon: what is wrong, where, and what to do next."""

    exit_code = 1

    def __init__(self, what: str, *, where: str | None = None, next: str | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.next = next

    def __str__(self) -> str:
        text = f"{self.where}: {self.what}" if self.where else self.what
        return f"{text} {self.next}" if self.next else text


class UsageError(InchwormError):
    """The command line names something that does not exist or does not fit."""

    exit_code = 2


class NotAllowed(UsageError):
    """A secret would go where the user has not allowed it to go."""


class NotTrusted(Exception):
    """The user has not allowed the project to start programs or to reach anything.

    It is no :class:`InchwormError`: nothing that goes on after the error of one environment goes on
    after this one, as the others may not be reached either.
    """

    exit_code = 2

    def __init__(self, what: str, *, where: str, next: str) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        self.next = next

    def __str__(self) -> str:
        return f"{self.where}: {self.what} {self.next}"


class ProjectError(InchwormError):
    """A file of the project cannot be used as it is."""


class WrongEnvironment(ProjectError):
    """The address in an environment's file leads to the database of another environment."""


class BundleError(InchwormError):
    """A bundle file is not what it says, or its version is already taken."""


class TargetError(InchwormError):
    """A database or a service could not be reached, or refused what was asked."""


class OutsideAccess(TargetError):
    """A statement reaches a file, another server or an extension that is not declared."""


class LedgerError(InchwormError):
    """The ledger is damaged or cannot be opened."""


class Waiting(InchwormError):
    """An entry condition of the environment is not met yet."""

    exit_code = 3


class EnvironmentMoved(InchwormError):
    """The environment is no longer as the draft saw it, or another process holds it."""

    exit_code = 4


class WorkedOn(EnvironmentMoved):
    """Somebody else works on something that one wanted to have alone.

    Attributes:
        name: of that.
    """

    def __init__(self, what: str, *, name: str, next: str | None = None) -> None:
        super().__init__(what, next=next)
        self.name = name


def nearest(name: str, known: Iterable[str]) -> str | None:
    """The known name that ``name`` was probably meant to be; case does not count."""
    by_folded = {candidate.lower(): candidate for candidate in known if candidate != name}
    close = difflib.get_close_matches(name.lower(), by_folded, n=1, cutoff=0.6)
    return by_folded[close[0]] if close else None


def did_you_mean(name: str, known: Iterable[str], otherwise: str) -> str:
    """A sentence that offers the nearest known name, or ``otherwise`` when none is near."""
    near = nearest(name, known)
    return f"Did you mean {near}?" if near else otherwise
