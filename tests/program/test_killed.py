"""Short forms of the two trials that go on for long: killing, and many people at once."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests import postgres
from tests.crowd import crowd
from tests.kill import KINDS, Place, databases, kill
from tests.reviewed_crowd import reviewed_crowd


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_killed_at_random_instants_a_database_ends_as_an_undisturbed_one(
    kind: str, tmp_path: Path
) -> None:
    """With removals, an increment, migrations and a second ledger in it."""
    with databases(kind, tmp_path) as urls:
        outcome = kill(Place(tmp_path, *urls, seed=7), 2)
    assert outcome.wrong == []
    assert outcome.kills >= 2


@pytest.mark.long
@pytest.mark.parametrize("kind", KINDS)
def test_many_people_with_two_ledgers_at_once(kind: str, tmp_path: Path) -> None:
    """Every promotion is done or refused, and everybody agrees about which."""
    files = (str(tmp_path / "one.ledger"), str(tmp_path / "other.ledger"))
    with databases(kind, tmp_path) as (url, _), databases(kind, tmp_path) as places:
        ledgers = places if kind == "postgresql" else files
        codes = crowd(tmp_path, url, ledgers, seconds=3, size=4)
    assert codes[0] > 0


@pytest.mark.long
def test_many_people_who_review_what_enters(tmp_path: Path, postgres_server: str) -> None:
    """Nothing enters twice, or without an approval, and the ledger's chain is whole."""
    with (
        postgres.database(postgres_server) as url,
        postgres.database(postgres_server) as ledger,
    ):
        ends = reviewed_crowd(tmp_path, url, ledger, seconds=4, size=3)
    assert ends["draft", 0] > 0
