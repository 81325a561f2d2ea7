"""Fixtures: projects on disk, and the built program to run in them."""

from __future__ import annotations

import gc
import os
import re
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from inchworm.application.starting import start_project
from inchworm.demo.day import write_scenario
from tests import postgres
from tests.driver import Program
from tests.once import DEV, SQLITE, Once, brought_about

settings.register_profile("quick", max_examples=30, deadline=None)
settings.register_profile(
    "nightly", max_examples=2000, deadline=None, suppress_health_check=list(HealthCheck)
)
settings.load_profile("quick")


gc.disable()  # what is imported and collected is no garbage


def pytest_collection_finish() -> None:
    """Look for garbage from now on, and never among that."""
    gc.freeze()
    gc.enable()


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Long tests first: at the end, several workers would wait for the last of them."""
    items.sort(key=lambda item: item.get_closest_marker("long") is None)


@pytest.fixture(scope="session", autouse=True)
def nobody(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Whoever runs the tests may have a key, settings and a git of their own; none of it counts."""
    own = [name for name in os.environ if re.match("INCHWORM_(?!TEST_)", name)]
    with pytest.MonkeyPatch.context() as patch:
        for name in own:
            patch.delenv(name)
        patch.setenv("XDG_CONFIG_HOME", str(_of_all(tmp_path_factory) / "config"))
        patch.setenv("GIT_CONFIG_GLOBAL", os.devnull)
        yield


@pytest.fixture(scope="session")
def postgres_server() -> Iterator[str]:
    """The address of a PostgreSQL server, without a database."""
    with postgres.server() as address:
        yield address


@pytest.fixture
def postgres_url(postgres_server: str) -> Iterator[str]:
    """An empty PostgreSQL database."""
    with postgres.database(postgres_server) as address:
        yield address


@pytest.fixture(scope="session")
def once(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Once]:
    """Brings states about that many tests begin with."""
    made = Once(tmp_path_factory.mktemp("once"))
    yield made
    made.close()


@pytest.fixture
def starter(tmp_path: Path) -> Program:
    """The project that ``inchworm new`` writes."""
    folder = tmp_path / "starter"
    start_project(folder, "starter", "duckdb")
    return Program(folder)


@pytest.fixture
def plain(starter: Program) -> Program:
    """A new project in the quickest of databases, for what does not depend on the database."""
    starter.edit("environments/dev.toml", DEV, SQLITE)
    return starter


@pytest.fixture(params=["duckdb", "sqlite", "postgresql"])
def anywhere(request: pytest.FixtureRequest, starter: Program) -> tuple[Program, str]:
    """A new project whose development is a database of each kind, and that database."""
    url = f"{request.param}:///data/dev.{request.param}"
    if request.param == "postgresql":
        url = str(request.getfixturevalue("postgres_url"))
    starter.edit("environments/dev.toml", "duckdb:///.inchworm/dev.duckdb", url)
    return starter, url


@pytest.fixture(scope="session")
def _shared(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder that all workers of this run have in common."""
    return _of_all(tmp_path_factory)


def _of_all(tmp_path_factory: pytest.TempPathFactory) -> Path:
    own = tmp_path_factory.getbasetemp()
    shared = own.parent if "PYTEST_XDIST_WORKER" in os.environ else own
    return shared / "shared"


@pytest.fixture(scope="session")
def _scenario(_shared: Path) -> Path:
    def write(folder: Path) -> None:
        write_scenario(folder, lambda line: None)

    return brought_about(_shared / "scenario", write)


@pytest.fixture
def river(_scenario: Path, tmp_path: Path) -> Program:
    """Riverwatch at v1.4.0, with its data, in a folder of the test's own."""
    folder = tmp_path / "riverwatch"
    shutil.copytree(_scenario, folder)
    return Program(folder)


@pytest.fixture(scope="session")
def _released(_scenario: Path, _shared: Path) -> Path:
    def release(folder: Path) -> None:
        shutil.copytree(_scenario, folder)
        program = Program(folder)
        program.pack()
        for environment in ("dev", "test"):
            program.promote("riverwatch-1.4.0", environment)

    return brought_about(_shared / "released", release)


@pytest.fixture
def released(_released: Path, tmp_path: Path) -> Program:
    """Riverwatch with 1.4.0 packed and in dev and test, in a folder of the test's own."""
    folder = tmp_path / "riverwatch"
    shutil.copytree(_released, folder)
    return Program(folder)
