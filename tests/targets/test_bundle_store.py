"""The bundle store: what is put there is whole and never changes, wherever it is."""

from __future__ import annotations

import threading
import uuid
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import fsspec
import pytest
from fsspec.implementations.memory import MemoryFileSystem

from inchworm.core.bundle.bundle import Bundle
from inchworm.core.errors import BundleError, ProjectError, UsageError
from inchworm.store.bundles import BundleStore
from tests.core.test_bundle import FILES, bundle
from tests.driver import Program


class PlainFiles(MemoryFileSystem):  # type: ignore[misc]  # it has no types
    """A place that overwrites whatever is there, as most do."""

    protocol = "plain"
    store: dict[str, object] = {}
    pseudo_dirs: list[str] = [""]


fsspec.register_implementation("plain", PlainFiles, clobber=True)


@pytest.fixture(params=["folder", "memory", "plain"])
def store(request: pytest.FixtureRequest, tmp_path: Path) -> BundleStore:
    """A store in each kind of place."""
    if request.param == "folder":
        return BundleStore.at("kept/bundles", tmp_path)
    return BundleStore.at(f"{request.param}://{uuid.uuid4().hex}/bundles", tmp_path)


def other() -> Bundle:
    """Other content under the same name."""
    return bundle(FILES | {"models/a/x.sql": b"SELECT 2 AS one"})


def test_what_is_put_is_what_is_got(store: BundleStore) -> None:
    """By its name, in any case; putting it again changes nothing."""
    assert store.names() == []
    packed = bundle()
    where, _ = store.put(packed)
    assert store.put(packed)[0] == where
    assert where.endswith("bundles/p-1.0.0.zip")
    assert store.names() == ["p-1.0.0"]
    assert store.get("P-1.0.0").files == packed.files
    with pytest.raises(UsageError, match=r"no bundle p-1\.0\.1"):
        store.get("p-1.0.1")


def test_a_bundle_never_changes(store: BundleStore) -> None:
    """The second content under one name is refused, and the first one stays."""
    store.put(bundle())
    with pytest.raises(BundleError, match="other content"):
        store.put(other())
    assert store.get("p-1.0.0").digest == bundle().digest


def test_of_two_packers_one_wins(store: BundleStore) -> None:
    """And whoever reads meanwhile sees a whole bundle or none."""
    contents = [bundle(), other()]
    begin = threading.Barrier(9)

    def put(number: int) -> str:
        begin.wait()
        for _ in range(1_000):
            try:
                store.put(contents[number % 2])
            except BundleError as error:
                if "somebody else" not in error.what:
                    return "refused"
            else:
                return str(contents[number % 2].digest)
        raise AssertionError("nobody ever won")

    def read() -> None:
        begin.wait()
        for _ in range(50):
            for name in store.names():
                store.get(name)

    with ThreadPoolExecutor(9) as pool:
        reader = pool.submit(read)
        outcomes = set(pool.map(put, range(8)))
        reader.result()
    assert outcomes == {"refused", str(store.get("p-1.0.0").digest)}


@pytest.mark.parametrize("address", ["nowhere://x/y", "s3//", "gopher://a"])
def test_an_address_that_nothing_can_be_stored_at(address: str, tmp_path: Path) -> None:
    """Is refused with what can be written there; what is no address is a folder."""
    if "://" not in address:
        assert BundleStore.at(address, tmp_path).names() == []
        return
    with pytest.raises(ProjectError, match="cannot be stored") as caught:
        BundleStore.at(address, tmp_path)
    assert "[storage] bundles" in str(caught.value.next)


def test_a_project_keeps_its_bundles_at_an_address(starter: Program) -> None:
    """Packed there, listed there, promoted from there."""
    address = f"memory://{uuid.uuid4().hex}"
    starter.edit(
        "inchworm.toml",
        'dialect = "duckdb"',
        f'dialect = "duckdb"\n[storage]\nbundles = "{address}"',
    )
    packed = starter("pack", "--json").json
    assert packed["file"] == f"{address}/{packed['bundle']}.zip"
    assert starter.promote(packed["bundle"], "dev").json["state"] == "done"
    (listed,) = starter("bundles", "--json").json["bundles"]
    assert listed["promoted_to"] == ["dev"]
    assert not (starter.folder / ".inchworm/bundles").exists()
