"""What whoever promotes may do in an environment's database."""

from __future__ import annotations

from msgspec import Struct

from inchworm.core.identifiers import RelationName


class Owned(Struct, frozen=True, kw_only=True):
    """A table or view, and whose it is.

    Attributes:
        upon: the relation that it reads; itself for a relation that was asked about.
        kind: ``table`` or ``view``.
        is_ours: whether we may do with it what its owner may.
    """

    upon: RelationName
    name: RelationName
    kind: str
    owner: str
    is_ours: bool


class Rights(Struct, frozen=True, kw_only=True):
    """The rights of an identity in a database; a database without identities refuses nothing.

    Attributes:
        is_superuser: whether it may do everything, to everybody's objects.
        makes_schemas: whether it may make schemas, in which statements are tried, too.
        closed_schemas: schemas in which it may make nothing.
        owned: the relations that were asked about, and the views that read them.
    """

    is_superuser: bool = False
    makes_schemas: bool = True
    closed_schemas: frozenset[str] = frozenset()
    owned: tuple[Owned, ...] = ()

    @property
    def has_foreign(self) -> bool:
        """Whether something that was asked about belongs to somebody else."""
        return any(not owned.is_ours for owned in self.owned)
