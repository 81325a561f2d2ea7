"""Bundles: one digest for one content, and no trust in what is read."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.bundle.bundle import MANIFEST, Bundle, Provenance, content_digest, pack
from inchworm.core.errors import BundleError
from inchworm.kinds.project_reader import read_project
from inchworm.store.bundles import BundleStore

FILES = {
    "models/a/x.sql": b"SELECT 1 AS one",
    "parameters.toml": b"",
    "consumers/c.toml": b'contact = "c@c.example"\n[reads]\n"a.x" = ["one"]\n',
}


def bundle(files: dict[str, bytes] | None = None, commit: str = "c0ffee") -> Bundle:
    files = FILES if files is None else files
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=files)
    provenance = Provenance(
        commit=commit, committed_at=None, branch="main", clean=True, tool="inchworm test"
    )
    return pack(reading.assembly, files, [], provenance, snapshot=False)


def store_of(folder: Path) -> BundleStore:
    return BundleStore.at(str(folder), folder)


def test_a_bundle_survives_its_file(tmp_path: Path) -> None:
    """What is read is what was packed."""
    packed = bundle()
    store_of(tmp_path).put(packed)
    stored = store_of(tmp_path).get(packed.name)
    assert (stored.digest, stored.files, stored.manifest) == (
        packed.digest,
        packed.files,
        packed.manifest,
    )


def test_provenance_is_told_but_not_digested() -> None:
    """The same content from another commit is the same bundle."""
    assert bundle(commit="c0ffee").digest == bundle(commit="decade").digest


names = st.text("abc/._", min_size=1, max_size=6)
contents = st.dictionaries(names, st.binary(max_size=6), max_size=4)


@given(contents, contents)
def test_digests_are_equal_just_for_equal_content(
    one: dict[str, bytes], other: dict[str, bytes]
) -> None:
    """Whatever the files are called and hold."""
    digests = [content_digest("p", "1.0.0", "duckdb", files) for files in (one, other)]
    assert (digests[0] == digests[1]) is (one == other)


def test_a_version_is_never_packed_twice_with_other_content(tmp_path: Path) -> None:
    """The second one is refused, and the first one stays."""
    store = store_of(tmp_path)
    file = store.put(bundle())
    path = tmp_path / file
    before = path.read_bytes()
    assert store.put(bundle()) == file
    with pytest.raises(BundleError, match="other content"):
        store.put(bundle(FILES | {"models/a/x.sql": b"SELECT 2 AS one"}))
    assert path.read_bytes() == before


Contents = dict[str, bytes]


def altered(contents: Contents) -> None:
    contents["models/a/x.sql"] = b"SELECT 9 AS one"


def added(contents: Contents) -> None:
    contents["models/a/y.sql"] = b"SELECT 1"


def removed(contents: Contents) -> None:
    del contents["consumers/c.toml"]


def escaping(contents: Contents) -> None:
    contents["../outside.sql"] = b""


def without_manifest(contents: Contents) -> None:
    del contents[MANIFEST]


def forged(contents: Contents) -> None:
    altered(contents)
    manifest: dict[str, Any] = json.loads(contents[MANIFEST])
    again = bundle({k: v for k, v in contents.items() if k != MANIFEST}).manifest
    manifest["files"] = again["files"]
    contents[MANIFEST] = json.dumps(manifest).encode()


def other_format(contents: Contents) -> None:
    contents[MANIFEST] = b'{"format": "something/else"}'


@pytest.mark.parametrize(
    "damage",
    [altered, added, removed, escaping, without_manifest, forged, other_format],
    ids=lambda damage: damage.__name__,
)
def test_a_damaged_bundle_is_refused(tmp_path: Path, damage: Callable[[Contents], None]) -> None:
    """Whatever was done to it; the message names the file."""
    path = tmp_path / store_of(tmp_path).put(bundle())
    with zipfile.ZipFile(path) as archive:
        contents = {name: archive.read(name) for name in archive.namelist()}
    damage(contents)
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in contents.items():
            archive.writestr(name, content)
    with pytest.raises(BundleError) as caught:
        store_of(tmp_path).get("p-1.0.0").verify()
    assert caught.value.where == "p-1.0.0.zip"


@pytest.mark.parametrize("cut", [0, 10, 200])
def test_a_cut_off_file_is_refused(tmp_path: Path, cut: int) -> None:
    """As after a download that broke off."""
    path = tmp_path / store_of(tmp_path).put(bundle())
    path.write_bytes(path.read_bytes()[:cut])
    with pytest.raises(BundleError, match="not a bundle"):
        store_of(tmp_path).get("p-1.0.0").verify()
