"""What is put into one environment: a part with that environment's values."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from inchworm.core.parts import Digest, PartId, digest_of


@dataclass(frozen=True, kw_only=True)
class Rendered:
    """A part as plain data, with one environment's values in place."""

    part: PartId
    document: Mapping[str, Any]

    @cached_property
    def digest(self) -> Digest:
        """Digest of the document: what influences the environment, and nothing else."""
        return digest_of(canonical(self.document))


def canonical(document: object) -> bytes:
    """JSON with sorted keys and no layout: equal documents give equal bytes."""
    text = json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return text.encode()
