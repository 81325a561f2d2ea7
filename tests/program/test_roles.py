"""The statements in docs/trust.md are all that each role needs: each is connected as and tried."""

from __future__ import annotations

import re
from pathlib import Path

import psycopg
import pytest

from tests.driver import Program
from tests.once import DEV

PAGE = (Path(__file__).parents[2] / "docs/trust.md").read_text()
BLOCKS = re.findall(r"```sql\n(.*?)```", PAGE, re.DOTALL)


@pytest.fixture
def roles(postgres_url: str) -> tuple[str, dict[str, str]]:
    """The statements of the page by role, for this database."""
    database = postgres_url.rpartition("/")[2]
    blocks = {}
    with psycopg.connect(postgres_url, autocommit=True) as owner:
        for block in BLOCKS:
            role = block.split("ROLE ")[1].split()[0]
            own = f"{role}_{database[-12:]}".lower()
            blocks[role] = block
            owner.execute(f'DROP ROLE IF EXISTS "{own}"'.encode())
        names = {role: f"{role}_{database[-12:]}".lower() for role in blocks}
    for role, block in blocks.items():
        text = block.replace("DATABASE river", f'DATABASE "{database}"')
        for name, own in names.items():
            text = re.sub(rf"\b{name}\b(?= LOGIN|;| TO)|(?<=TO ){name}\b", f'"{own}"', text)
        blocks[role] = text
    return postgres_url, {role: blocks[role] for role in blocks} | {"": str(names)}


def test_each_role_does_its_work_with_what_the_page_grants(
    starter: Program, roles: tuple[str, dict[str, str]]
) -> None:
    url, blocks = roles
    names: dict[str, str] = dict(re.findall(r"'(\w+)': '(\w+)'", blocks[""]))

    def grant(role: str) -> None:
        with psycopg.connect(url, autocommit=True) as owner:
            owner.execute(blocks[role].encode())

    def as_(role: str) -> None:
        address = re.sub(r"//[^@]*@", f"//{names[role]}@", url)
        text = (starter.folder / "environments/dev.toml").read_text()
        starter.write(
            "environments/dev.toml",
            re.sub(r'(?m)^url = "(duckdb|postgresql).*$', f'url = "{address}"', text),
        )

    assert DEV in (starter.folder / "environments/dev.toml").read_text()
    grant("promoting")
    as_("promoting")
    bundle = starter.pack()
    assert starter.promote(bundle, "dev").json["state"] == "done"
    grant("running")
    as_("running")
    assert "done" in starter("run", "daily", "--in", "dev").text
    grant("reading")
    as_("reading")
    for command in (("status",), ("compare", "dev", "dev"), ("history",)):
        starter(*command)
    assert "rights report.daily_total to reading" in starter("drift", "dev", code=1).text
    assert "day" in starter("rows", "report.daily_total", "--in", "dev").text
    starter.write("models/report/one.sql", "SELECT 1 AS one")
    refused = starter("promote", starter.pack(), "--to", "dev", "--yes", code=1).text
    assert "promotion/missing-right" in refused or "permission denied" in refused
    settings = starter.folder / "inchworm.toml"
    with_ledger = (
        f'{settings.read_text()}\n[storage]\nledger = "{url}"\nledger_schema = "inchworm_ledger"\n'
    )
    settings.write_text(with_ledger)
    as_("promoting")
    starter.write("models/report/one.sql", "SELECT 2 AS one")
    starter.promote(starter.pack(), "dev")
    grant("recording")
    address = re.sub(r"//[^@]*@", f"//{names['recording']}@", url)
    settings.write_text(with_ledger.replace(url, address))
    starter.write("models/report/two.sql", "SELECT 2 AS two")
    assert starter.promote(starter.pack(), "dev").json["state"] == "done"
    starter("ledger", "verify")
    with psycopg.connect(address, autocommit=True) as recording:
        for statement in (
            b"DELETE FROM inchworm_ledger.entries",
            b"UPDATE inchworm_ledger.entries SET by = 'x'",
        ):
            with pytest.raises(psycopg.errors.InsufficientPrivilege):
                recording.execute(statement)
