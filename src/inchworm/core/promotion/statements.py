"""The SQL of a promotion's steps, packed small enough for the ledger."""

from __future__ import annotations

import base64
import gzip
import json
from collections.abc import Mapping, Sequence
from typing import Self

from msgspec import Struct


class Statements(Struct, frozen=True, kw_only=True):
    """The statements of steps, as a promotion that began or went on was about to run them.

    Attributes:
        packed: a JSON object of lists of statements by the step's number, compressed by gzip
            (RFC 1952), in base64 (RFC 4648): the SQL of thousands of models is much alike.
    """

    packed: str

    @classmethod
    def of(cls, statements: Mapping[int, Sequence[str]]) -> Self:
        """Pack the statements of steps; those without any are left out."""
        document = {str(number): list(sql) for number, sql in statements.items() if sql}
        text = json.dumps(document, ensure_ascii=False)
        compressed = gzip.compress(text.encode(), compresslevel=6, mtime=0)
        return cls(packed=base64.b64encode(compressed).decode())

    def by_step(self) -> dict[int, tuple[str, ...]]:
        """The statements of each step, by its number."""
        document = json.loads(gzip.decompress(base64.b64decode(self.packed)))
        return {int(number): tuple(sql) for number, sql in document.items()}
