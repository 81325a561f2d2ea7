"""The bookkeeping that a database carries itself, in a schema of its own, usually ``inchworm``.

It says which environment of the project this is, and which promotion was at work here last; what is
live (part, bundle, digest, commit, promotion, time), with which structure, and what stands beside
it; which migrations the database has behind it, and which steps of a promotion took effect. A
step's mark is written in the same transaction as its work, so after a crash the database itself
tells what happened.
"""

from __future__ import annotations

from inchworm.targets.databases.bookkeeping.beside import RelationsBeside
from inchworm.targets.databases.bookkeeping.claims import Claims
from inchworm.targets.databases.bookkeeping.history import History
from inchworm.targets.databases.bookkeeping.parts import Parts
from inchworm.targets.databases.bookkeeping.schedules import Schedules
from inchworm.targets.databases.bookkeeping.structures import Structures


class Bookkeeping(Claims, Schedules, RelationsBeside, Parts, History, Structures):
    """The bookkeeping of one project in one database."""
