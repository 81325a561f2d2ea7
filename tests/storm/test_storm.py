"""A short storm on each database; ``python -m tests.storm`` runs for hours."""

from __future__ import annotations

import pytest

from tests.storm.month import KINDS, drawn, live

DEEDS = 14


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_a_random_month(kind: str, request: pytest.FixtureRequest) -> None:
    """Nothing is lost unsaid, nothing stale is said to be fresh, nobody approves their own."""
    server = request.getfixturevalue("postgres_server") if kind == "postgresql" else None
    lived = live(drawn("short", DEEDS), kind, server)
    assert not lived.wrong, "\n".join([lived.wrong, *lived.log])
