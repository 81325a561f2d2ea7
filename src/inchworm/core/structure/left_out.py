"""What a schema has beside its structure, and what of it the structure cannot do without."""

from __future__ import annotations

from msgspec import Struct


class LeftOut(Struct, frozen=True, kw_only=True):
    """Something in a schema that is not taken up with its structure.

    Attributes:
        kind: its kind, such as ``function`` or ``trigger``.
        name: its name, without the schema's.
        loss: what the structure is without it, in words; empty of what is no structure.
        accepted_as: the word by which somebody accepts that loss; empty where there is none.
    """

    kind: str
    name: str
    loss: str = ""
    accepted_as: str = ""
