"""What the databases of other environments say about the bundles that went into them."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from inchworm.core.environments.environment import Environment
from inchworm.core.errors import InchwormError
from inchworm.core.ledger.entries import Head
from inchworm.core.parameters.values import Value
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import CompletedPromotion, LivePart, passed
from inchworm.engine.connections import open_database
from inchworm.engine.open_environment import check_name
from inchworm.targets.databases import Database
from inchworm.targets.databases.bookkeeping import Bookkeeping
from inchworm.targets.machine import Machine


class Passage(Struct, frozen=True, kw_only=True):
    """The promotions that an environment's database has behind it.

    Attributes:
        environment: its name.
        promotions: those that were completed there, in their order.
        claimed_by: the key of the promotion that began, or went on, there last.
        parts: the parts of the project that are live there.
        heads: the end of each ledger's chain when a promotion of it was there last.
        problem: why it could not be asked; empty when it could.
    """

    environment: str
    promotions: tuple[CompletedPromotion, ...] = ()
    claimed_by: str | None = None
    parts: tuple[LivePart, ...] = ()
    heads: Mapping[str, Head] = field(default_factory=dict)
    problem: str = ""

    def has(self, digest: Digest) -> bool:
        """Whether a bundle went in completely, and was not taken back."""
        return passed(self.promotions, digest)


def ask_passage(
    environment: Environment, project: str, machine: Machine, values: Mapping[str, Value]
) -> Passage:
    """Ask an environment's database alone; its services have no say in this.

    Args:
        environment: as its file declares it.
        project: the project's name.
        machine: where the project is, with its environment variables.
        values: the environment's values.
    """
    name = environment.name
    try:
        with open_database(environment, machine, values, read_only=True) as database:
            return read_passage(environment, project, database)
    except InchwormError as error:
        return Passage(environment=name, problem=error.what)


def read_passage(environment: Environment, project: str, database: Database) -> Passage:
    """What an environment's database, which has been reached, says of what went into it.

    Raises:
        WrongEnvironment: when the database is that of another environment.
    """
    bookkeeping = Bookkeeping(database, project, environment.database.bookkeeping)
    claim = bookkeeping.latest_claim()
    check_name(environment, project, claim.environment)
    return Passage(
        environment=environment.name,
        promotions=tuple(bookkeeping.promotions()),
        claimed_by=claim.promotion,
        parts=tuple(bookkeeping.parts_of_ours()),
        heads=bookkeeping.heads(),
    )
