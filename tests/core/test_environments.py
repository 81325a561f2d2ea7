"""Corners of a database, and the names that tables have there."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from inchworm.core.environments.environment import (
    Corner,
    DatabaseAddress,
    Environment,
    NotebookServerAddress,
    ServiceAddress,
    owner_name,
)
from inchworm.core.environments.physical_names import tables_renamed
from inchworm.core.environments.verification import Asked, Verification
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import Kind, PartId
from tests.core.test_drafting import ENVIRONMENT
from tests.core.test_whole_drafts import FILES, asked, live


@pytest.mark.parametrize(
    ("user", "name"),
    [
        ("mira", "mira"),
        ("Mira Fen", "mira_fen"),
        ("  Søren--Ägir!", "sren_agir"),
        ("mira@host.example", "mira_host_example"),
        ("7of9", "7of9"),
    ],
)
def test_an_owners_name_can_stand_in_a_schemas_name(user: str, name: str) -> None:
    assert owner_name(user) == name


@pytest.mark.parametrize("user", ["", "--", "水"])
def test_a_name_without_a_letter_names_no_corner(user: str) -> None:
    with pytest.raises(UsageError, match="could name a corner") as told:
        owner_name(user)
    assert "INCHWORM_USER" in str(told.value.next)


def test_the_corners_of_others_are_told_from_ones_own() -> None:
    corner = Corner(owner="mira", schemas="dev_{owner}_{schema}", bookkeeping="inchworm_{owner}")
    schemas = [
        *("inchworm_mira", "dev_mira_mart", "inchworm_lena", "dev_lena_mart", "dev_lena_raw"),
        *("dev_nobody_mart", "mart", "inchworm", "dev_lena_", "xdev_lena_mart", "dev_lena"),
    ]
    assert corner.of_others(schemas) == {"inchworm_lena", "dev_lena_mart", "dev_lena_raw"}
    assert corner.of_others(["dev_lena_mart"]) == frozenset(), "without bookkeeping it is no corner"
    apart = replace(corner, schemas="{schema}")
    assert apart.of_others(schemas) == frozenset(), "each corner is a database of its own"


def test_signs_of_patterns_in_names_mean_themselves() -> None:
    corner = Corner(owner="mira", schemas="d.{owner}.{schema}", bookkeeping="b.{owner}")
    assert corner.of_others(["b.lena", "d.lena.m", "dxlena.m", "bxlena"]) == {"b.lena", "d.lena.m"}


def test_parts_of_services_are_told_the_names_of_their_tables() -> None:
    assembly = asked(live(), FILES).assembly
    pattern = replace(ENVIRONMENT.database, schema_pattern="dev_{schema}")
    renamed = replace(ENVIRONMENT, database=pattern)
    flow, notebook = PartId(Kind.FLOW, "post"), PartId(Kind.NOTEBOOK, "n")
    assert tables_renamed(flow, assembly, renamed) == {"m.a": "dev_m.a"}
    assert tables_renamed(notebook, assembly, renamed) == {
        "m.a": "dev_m.a",
        "m.forecast": "dev_m.forecast",
    }
    pipeline = PartId(Kind.PIPELINE, "p")
    assert tables_renamed(pipeline, assembly, renamed) == {"m.a": "dev_m.a"}
    for part in (PartId(Kind.MODEL, "m.a"), PartId(Kind.CHECK, "few")):
        assert tables_renamed(part, assembly, renamed) == {}, "promotions place their SQL"
    assert tables_renamed(flow, assembly, ENVIRONMENT) == {}


SHARED = Environment(
    name="dev",
    database=DatabaseAddress(
        url="duckdb:///{owner}.duckdb",
        schema_pattern="{owner}_{schema}",
        bookkeeping="books_{owner}",
        threads=3,
    ),
    workspace=ServiceAddress(url="sim:{owner}", waits=5),
    gateway=ServiceAddress(url="http://{owner}.example", token="${t}"),
    notebooks=NotebookServerAddress(url="http://{owner}.example", folder="n/{owner}"),
)


def test_a_corner_is_the_environment_with_the_name_of_its_owner() -> None:
    corner = SHARED.in_corner("mira")
    assert corner.database == DatabaseAddress(
        url="duckdb:///mira.duckdb",
        schema_pattern="mira_{schema}",
        bookkeeping="books_mira",
        threads=3,
        corner=Corner(owner="mira", schemas="{owner}_{schema}", bookkeeping="books_{owner}"),
    )
    assert corner.workspace == ServiceAddress(url="sim:mira", waits=5)
    assert corner.gateway == ServiceAddress(url="http://mira.example", token="${t}")
    assert corner.notebooks == NotebookServerAddress(url="http://mira.example", folder="n/mira")
    assert (corner.name, corner.corner) == ("dev", "mira")
    assert corner.protection == "not protected, the corner of mira"
    assert replace(SHARED, notebooks=None).in_corner("mira").notebooks is None


def test_without_corners_an_environment_is_everybodys() -> None:
    assert ENVIRONMENT.in_corner("mira") is ENVIRONMENT
    assert ENVIRONMENT.protection == "not protected"


def test_a_server_has_a_folder_for_each_environment_and_corner() -> None:
    notebooks = NotebookServerAddress(url="http://n.example")
    assert notebooks.folder_of("p", SHARED) == "p/dev"
    assert notebooks.folder_of("p", SHARED.in_corner("mira")) == "p/dev/mira"
    assert notebooks.folder_of("", SHARED) == "dev"
    assert replace(notebooks, folder="all").folder_of("p", SHARED) == "all"


def test_a_verification_comes_back_as_it_was_remembered() -> None:
    asked = Verification(
        name="open", asked=Asked.VALUE, question="board", answer="= open", status=201, waits=9.5
    )
    remembered = asked.to_json()
    assert remembered["asked"] == Asked.VALUE.value
    assert Verification.from_json(remembered) == asked
    newer = {**remembered, "what a later version knows": 1}
    assert Verification.from_json(newer) == asked
