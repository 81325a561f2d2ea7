"""Bundles: one digest for one content, and no trust in what is read."""

from __future__ import annotations

import io
import json
import tracemalloc
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inchworm.core.bundle.bundle import (
    MANIFEST,
    SEAL,
    Bundle,
    BundleIdentity,
    Provenance,
    pack,
    seal_bytes,
    version_in_name,
)
from inchworm.core.errors import BundleError
from inchworm.core.parts import Digest, digest_of
from inchworm.kinds.project_reader import read_project
from inchworm.store.archives import read_bundle, zip_bytes
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


def test_the_manifest_says_what_parts_are_made_of() -> None:
    """Whoever has the bundle alone can follow a column, and look up what a part needs."""
    sql = b"SELECT x.one, max(x.one) OVER () AS most FROM a.x WHERE x.one > :least"
    least = b'[least]\ntype = "integer"\nevery = 1\n'
    manifest = bundle(FILES | {"models/b/y.sql": sql, "parameters.toml": least}).manifest
    (entry,) = (part for part in manifest["parts"] if part["id"] == "model:b.y")
    assert entry["parameters"] == ["least"]
    (table,) = entry["tables"]
    assert (table["name"], [column["name"] for column in table["columns"]]) == (
        "b.y",
        ["one", "most"],
    )
    assert entry["lineage"] == [
        {"from": "a.x.one", "to": "b.y", "how": "rows"},
        {"from": "a.x.one", "to": "b.y.most", "how": "computed"},
        {"from": "a.x.one", "to": "b.y.one", "how": "copied"},
    ]


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


@pytest.mark.parametrize(
    ("name", "version"),
    [
        ("riverwatch-1.4.0", (1, 4, 0)),
        ("riverwatch-1.14.0-snapshot.1a2b3c4d", (1, 14, 0)),
        ("riverwatch-1.4.0-rc.1", ()),
        ("riverwatch", ()),
        ("other", ()),
    ],
)
def test_versions_in_names_compare_as_numbers(name: str, version: tuple[int, ...]) -> None:
    assert version_in_name("riverwatch", name) == version
    assert version_in_name("river-2.0.0", "river-2.0.0-1.4.0") == (1, 4, 0)


def test_a_snapshot_says_so_when_it_is_read(tmp_path: Path) -> None:
    reading = read_project(name="p", version="1.0.0", dialect="duckdb", files=FILES)
    provenance = Provenance(commit=None, committed_at=None, branch=None, clean=False, tool="t")
    for snapshot in (True, False):
        packed = pack(reading.assembly, FILES, [], provenance, snapshot=snapshot)
        store_of(tmp_path).put(packed)
        read = store_of(tmp_path).get(packed.name)
        assert (read.snapshot, read.name) == (snapshot, packed.name)
        assert (read.project, read.version, read.dialect) == ("p", "1.0.0", "duckdb")


def test_a_manifest_tells_tables_and_values() -> None:
    files = {
        "models/m/a.sql": b"/*---\nkey = ['n']\n---*/\nSELECT 1 AS n, 'x' AS text",
        "parameters.toml": b'[a]\ntype = "integer"\nevery = 3\n[b]\ntype = "date"\n'
        b"dev = 2026-11-27\n",
    }
    manifest = bundle(files).manifest
    (part,) = manifest["parts"]
    columns = [(c["name"], c["type"], c["required"]) for c in part["tables"][0]["columns"]]
    assert (part["tables"][0]["name"], columns) == (
        *("m.a", [("n", "INT", True), ("text", "TEXT", False)]),
    )
    assert manifest["parameters"] == [
        {"name": "a", "type": "integer", "values": {"every": 3}},
        {"name": "b", "type": "date", "values": {"dev": "2026-11-27"}},
    ]


def test_provenance_is_told_but_not_digested() -> None:
    """The same content from another commit is the same bundle."""
    assert bundle(commit="c0ffee").digest == bundle(commit="decade").digest


names = st.text("abc/._", min_size=1, max_size=6)
contents = st.dictionaries(names, st.binary(max_size=6), max_size=4)


@given(contents, contents)
def test_digests_are_equal_just_for_equal_content(
    one: dict[str, bytes], other: dict[str, bytes]
) -> None:
    """Whatever the files are called and hold; a snapshot is never a release."""

    def digest(files: dict[str, bytes], *, snapshot: bool = False) -> Digest:
        identity = BundleIdentity(name="p", version="1.0.0", dialect="duckdb", snapshot=snapshot)
        return identity.digest({path: digest_of(content) for path, content in files.items()})

    assert (digest(one) == digest(other)) is (one == other)
    assert digest(one) != digest(one, snapshot=True)


def test_a_version_is_never_packed_twice_with_other_content(tmp_path: Path) -> None:
    """The second one is refused, and the first one stays."""
    store = store_of(tmp_path)
    file, _ = store.put(bundle())
    path = tmp_path / file
    before = path.read_bytes()
    assert store.put(bundle())[0] == file
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
    contents[SEAL] = seal_bytes(contents[MANIFEST])


def other_format(contents: Contents) -> None:
    contents[MANIFEST] = b'{"format": "something/else"}'
    contents[SEAL] = seal_bytes(contents[MANIFEST])


def without_seal(contents: Contents) -> None:
    del contents[SEAL]


def one_word(contents: Contents) -> None:
    contents[MANIFEST] = contents[MANIFEST].replace(b"c0ffee", b"decade")


def a_release_of_a_snapshot(contents: Contents) -> None:
    """Edited with all that goes with it, but for the digest."""
    text = contents[MANIFEST].decode()
    assert '"snapshot": false' in text
    contents[MANIFEST] = text.replace('"snapshot": false', '"snapshot": true').encode()
    contents[SEAL] = seal_bytes(contents[MANIFEST])


def deep(contents: Contents) -> None:
    contents[MANIFEST] = b"[" * 100_000
    contents[SEAL] = seal_bytes(contents[MANIFEST])


@pytest.mark.parametrize(
    "damage",
    [
        altered,
        added,
        removed,
        escaping,
        without_manifest,
        forged,
        other_format,
        without_seal,
        one_word,
        a_release_of_a_snapshot,
        deep,
    ],
    ids=lambda damage: damage.__name__,
)
def test_a_damaged_bundle_is_refused(tmp_path: Path, damage: Callable[[Contents], None]) -> None:
    """Whatever was done to it; the message names the file."""
    path = tmp_path / store_of(tmp_path).put(bundle())[0]
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
    path = tmp_path / store_of(tmp_path).put(bundle())[0]
    path.write_bytes(path.read_bytes()[:cut])
    with pytest.raises(BundleError, match="not a bundle"):
        store_of(tmp_path).get("p-1.0.0").verify()


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3)
    ),
    max_leaves=6,
)


def places(value: Any, at: tuple[str | int, ...] = ()) -> list[tuple[str | int, ...]]:
    """The way to everything inside a document."""
    inside = (
        value.items()
        if isinstance(value, dict)
        else enumerate(value)
        if isinstance(value, list)
        else ()
    )
    return [at, *(place for key, each in inside for place in places(each, (*at, key)))]


def read(archive: bytes) -> Bundle:
    """A bundle that was read, every file of it."""
    read = read_bundle(io.BytesIO(archive), "b.zip")
    read.verify()
    return read


@given(st.data())
def test_a_manifest_is_believed_nothing(data: st.DataObject) -> None:
    """Something else anywhere in it, and sealed again: refused, or of no influence."""
    packed = bundle()
    manifest = json.loads(json.dumps(packed.manifest))
    at = data.draw(st.sampled_from(places(manifest)[1:]))
    holder = manifest
    for key in at[:-1]:
        holder = holder[key]
    if data.draw(st.booleans()):
        del holder[at[-1]]
    else:
        holder[at[-1]] = data.draw(JSON)
    text = json.dumps(manifest).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        for name, content in {MANIFEST: text, SEAL: seal_bytes(text), **packed.files}.items():
            archive.writestr(name, content)
    try:
        found = read(buffer.getvalue())
    except BundleError:
        return
    assert (found.name, found.digest) == (packed.name, packed.digest)
    assert dict(found.files) == dict(packed.files)
    assert isinstance(found.commit, str | None)


def test_every_byte_of_a_bundle_counts() -> None:
    """Flipped one by one: refused, or what is read is the same."""
    packed = bundle()
    archive = zip_bytes(packed)
    refused = 0
    for place in range(len(archive)):
        flipped = bytearray(archive)
        flipped[place] ^= 0xFF
        try:
            found = read(bytes(flipped))
        except BundleError:
            refused += 1
            continue
        assert (found.digest, found.manifest) == (packed.digest, packed.manifest), place
        assert dict(found.files) == dict(packed.files), place
    assert refused > len(archive) // 2


@pytest.mark.parametrize("listed", [True, False], ids=["listed", "not listed"])
def test_a_bomb_is_refused_before_it_is_unpacked(listed: bool) -> None:
    """By what the archive says of it, in a moment and in little memory."""
    size = 40 * 1024 * 1024
    packed = bundle()
    manifest = json.loads(json.dumps(packed.manifest))
    if listed:
        manifest["files"].append({"path": "x.sql", "sha256": "sha256:0", "size": size})
    text = json.dumps(manifest).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in {MANIFEST: text, SEAL: seal_bytes(text), **packed.files}.items():
            archive.writestr(name, content)
        archive.writestr("x.sql", bytes(size))
    archived = buffer.getvalue()
    tracemalloc.start()
    with pytest.raises(BundleError, match="looks like a trap"):
        read(archived)
    assert tracemalloc.get_traced_memory()[1] < size // 8
    tracemalloc.stop()


def test_a_size_that_is_not_the_listed_one_is_refused_before_unpacking() -> None:
    """Whatever the file holds."""
    packed = bundle()
    text = json.dumps(packed.manifest).encode()
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        files = {**packed.files, "models/a/x.sql": b"SELECT 1 AS one" * 9}
        for name, content in {MANIFEST: text, SEAL: seal_bytes(text), **files}.items():
            archive.writestr(name, content)
    with pytest.raises(BundleError, match=r"x\.sql has 135 bytes, not 15"):
        read_bundle(io.BytesIO(buffer.getvalue()), "b.zip")
