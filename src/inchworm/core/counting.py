"""Numbers as sentences say them."""

from __future__ import annotations


def counted(number: int, noun: str) -> str:
    """``1 error``, ``2 errors``, ``1,200 rows``."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"
