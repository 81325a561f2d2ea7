"""The process that the program runs in: its folder, clock, user and environment variables.

Nothing but the command line looks at them; everything below is given a workplace.
"""

from __future__ import annotations

import datetime as dt
import gc
import getpass
import os
from pathlib import Path
from typing import TYPE_CHECKING

from inchworm.application.source_tree import SourceTree
from inchworm.targets.machine import Machine
from inchworm.targets.user_folder import UserFolder

if TYPE_CHECKING:
    from inchworm.application.workplace import Workplace


def clock() -> dt.datetime:
    """The present time, UTC."""
    return dt.datetime.now(dt.UTC)


def machine(root: Path) -> Machine:
    """This machine, for a project in a folder, with what the user allows that project."""
    folder = user_folder()
    return Machine(
        root=root,
        environ=os.environ,
        login=_login(),
        trust=folder.trust_in(root),
        sealer=folder.sealer(),
    )


def trust_made(folder: Path) -> None:
    """Trust a project that the program itself has just written for its user, as it is now."""
    from inchworm.application.trusting import named_by, trust_project
    from inchworm.application.workplace import Workplace

    own = user_folder()
    if own.path is not None:  # else only a variable can say so, and whoever sets it knows
        tree = SourceTree.around(folder, own.sealer())
        place = Workplace.around(tree, machine(tree.root), clock)
        trust_project(place, own, named_by(place))


def user_folder() -> UserFolder:
    """The user's own folder."""
    return UserFolder.of(os.environ)


def source_tree() -> SourceTree:
    """The source tree that the present folder is in.

    Raises:
        UsageError: when it is in none.
    """
    return SourceTree.around(Path.cwd(), user_folder().sealer())


def workplace(tree: SourceTree | None = None) -> Workplace:
    """The workplace in the present folder.

    Args:
        tree: its source tree, where that has been looked at before.

    Raises:
        UsageError: when the folder is in no project.
        ProjectError: when its ``inchworm.toml`` is wrong.
    """
    from inchworm.application.workplace import Workplace

    tree = tree or source_tree()
    return Workplace.around(tree, machine(tree.root), clock, os.getpid())


def collect_as_usual() -> None:
    """Look for garbage as often as Python does: for commands that work for long on many things.

    What there is by now stays, and is not looked through again: it is no garbage.
    """
    gc.freeze()
    gc.set_threshold(*_USUAL)


_USUAL = (700, 10, 10)
"""The thresholds with which Python starts."""


def shown_time(iso: str) -> str:
    """A time as people read it: ``2026-11-23 07:00``, always UTC."""
    return iso[:16].replace("T", " ")


def _login() -> str:
    """The login, also where there is no account of that number."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return str(os.getuid())
