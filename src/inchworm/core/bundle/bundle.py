"""Bundles: the manifest of one project version, and the digest that stands for it.

The content digest covers all that can influence an environment (the project's name, version and
dialect, whether it is a snapshot, and every file) and nothing else: neither when nor where nor by
whom it was packed. What else the manifest says (provenance, lineage, findings) is under its seal,
which drafts and signatures cover, and nothing of it is used where it can be worked out from the
files.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from inchworm.core.checks.findings import Finding
from inchworm.core.errors import BundleError
from inchworm.core.lineage.facts import Assembly, Facts
from inchworm.core.lineage.graph import in_order
from inchworm.core.parameters.matrix import Parameter
from inchworm.core.parts import Contents, Digest, Part, digest_of

FORMAT = "inchworm/bundle/1"
MANIFEST = "bundle.json"
SEAL = "bundle.sha256"
"""The file with the digest of the manifest, in the format of the program sha256sum."""

#: Bounds that keep a hostile file from filling memory and disk.
MAX_FILES = 200_000
MAX_FILE_BYTES = 64 * 1024 * 1024
MAX_TOTAL_BYTES = 512 * 1024 * 1024
MAX_MANIFEST_BYTES = 128 * 1024 * 1024


class Provenance(Struct, frozen=True, kw_only=True):
    """Where a bundle comes from; it is told, not digested."""

    commit: str | None
    committed_at: str | None
    branch: str | None
    clean: bool
    tool: str


class Bundle(Struct, frozen=True, kw_only=True):
    """A bundle in memory: its identity, its files and its manifest.

    Attributes:
        seal: the digest of the whole manifest, with the commit that it names.
    """

    project: str
    version: str
    dialect: str
    snapshot: bool
    digest: Digest
    seal: Digest
    files: Contents
    manifest: Mapping[str, Any]

    def verify(self) -> None:
        """Read every file.

        Raises:
            BundleError: when one was altered after packing, or cannot be read.
        """
        for path in self.files:
            self.files[path]

    @property
    def name(self) -> str:
        """``riverwatch-1.4.0``, or ``riverwatch-1.4.0-snapshot.1a2b3c4d`` for a snapshot."""
        return bundle_name(self.project, self.version, self.digest, snapshot=self.snapshot)

    @property
    def commit(self) -> str | None:
        """The commit that it was packed from."""
        commit: str | None = self.manifest["provenance"]["commit"]
        return commit

    @property
    def is_clean(self) -> bool:
        """True if it says that its files are just those of its commit."""
        return self.manifest["provenance"].get("clean") is True


def bundle_name(project: str, version: str, digest: Digest, *, snapshot: bool) -> str:
    """The name under which a bundle is kept."""
    suffix = f"-snapshot.{digest.removeprefix('sha256:')[:8]}" if snapshot else ""
    return f"{project}-{version}{suffix}"


_VERSION_IN_NAME = re.compile(r"-(\d+)\.(\d+)\.(\d+)(?:-snapshot\.[0-9a-f]+)?$")


def version_in_name(project: str, name: str) -> tuple[int, ...]:
    """The version in a bundle's name, as numbers that compare; empty of a name that has none."""
    version = _VERSION_IN_NAME.fullmatch(name.removeprefix(project))
    return tuple(map(int, version.groups())) if version else ()


class BundleIdentity(Struct, frozen=True, kw_only=True):
    """What a bundle says that it is."""

    name: str
    version: str
    dialect: str
    snapshot: bool

    def digest(self, digests: Mapping[str, str]) -> Digest:
        """The digest of all that can influence an environment, by that of every file."""
        lines = [f"project {self.name}", f"version {self.version}", f"dialect {self.dialect}"]
        lines += ["snapshot"] if self.snapshot else []
        lines += [f"{digests[path]} {path}" for path in sorted(digests)]
        return digest_of("\n".join(lines).encode())


def pack(
    assembly: Assembly,
    files: Mapping[str, bytes],
    findings: list[Finding],
    provenance: Provenance,
    *,
    snapshot: bool,
) -> Bundle:
    """The bundle of a project version."""
    identity = BundleIdentity(
        name=assembly.name, version=assembly.version, dialect=assembly.dialect, snapshot=snapshot
    )
    digest = identity.digest({path: digest_of(content) for path, content in files.items()})
    manifest = {
        "format": FORMAT,
        "bundle": bundle_name(assembly.name, assembly.version, digest, snapshot=snapshot),
        "digest": digest,
        "project": assembly.name,
        "version": assembly.version,
        "dialect": assembly.dialect,
        "snapshot": snapshot,
        "provenance": {
            "commit": provenance.commit,
            "committed_at": provenance.committed_at,
            "branch": provenance.branch,
            "clean": provenance.clean,
            "tool": provenance.tool,
        },
        "files": [
            {"path": path, "sha256": digest_of(content), "size": len(content)}
            for path, content in sorted(files.items())
        ],
        "parts": [
            _part_entry(part, assembly.facts.get(id_))
            for id_, part in sorted(assembly.parts.items())
        ],
        "parameters": [_parameter_entry(row) for row in assembly.matrix.values()],
        "findings": [finding.to_json() for finding in findings],
    }
    return Bundle(
        project=assembly.name,
        version=assembly.version,
        dialect=assembly.dialect,
        snapshot=snapshot,
        digest=digest,
        seal=digest_of(manifest_bytes(manifest)),
        files=Contents(files),
        manifest=manifest,
    )


def seal_bytes(manifest: bytes) -> bytes:
    """The seal of a manifest: ``sha256sum --check`` reads it."""
    return f"{digest_of(manifest).removeprefix('sha256:')}  {MANIFEST}\n".encode()


def manifest_bytes(manifest: Mapping[str, Any]) -> bytes:
    """The manifest as it stands in the bundle: readable, in a fixed order."""
    return (json.dumps(manifest, indent=1, ensure_ascii=False) + "\n").encode()


def check_bundle(
    manifest: Any,
    files: Mapping[str, bytes],
    where: str,
    sizes: Mapping[str, int] | None = None,
    seal: Digest | None = None,
) -> Bundle:
    """A bundle from what was read, after checking that it is what it says.

    The list of files is checked now, each file's content when it is read from the bundle.

    Args:
        manifest: the manifest, read as JSON.
        files: the other files, by path.
        where: the archive's name, for messages.
        sizes: the bytes that each file is said to have, where that is told before it is read.
        seal: the digest of the manifest's bytes, where they are at hand.

    Raises:
        BundleError: when a file is missing or unexpected, or the digest does not fit.
    """
    if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
        raise _untrusted(where, f"{MANIFEST} is not of format {FORMAT}")
    try:
        identity, listed = _identity_of(manifest), _listed_in(manifest)
    except (KeyError, TypeError, ValueError) as error:
        raise _untrusted(where, f"{MANIFEST} is not as it has to be: {error}") from error
    if unexpected := sorted(set(files) - set(listed)):
        raise _untrusted(where, f"{unexpected[0]} is not listed in {MANIFEST}")
    if missing := sorted(set(listed) - set(files)):
        raise _untrusted(where, f"{missing[0]} is missing")
    for path, size in (sizes or {}).items():
        if listed[path][1] != size:
            raise _untrusted(where, f"{path} has {size:,} bytes, not {listed[path][1]:,}")
    digest = identity.digest({path: digest for path, (digest, _) in listed.items()})
    if digest != manifest["digest"]:
        raise _untrusted(where, "its digest does not fit its content")
    return Bundle(
        project=identity.name,
        version=identity.version,
        dialect=identity.dialect,
        snapshot=identity.snapshot,
        digest=digest,
        seal=seal or digest_of(manifest_bytes(manifest)),
        files=_Listed(files, listed, where),
        manifest=manifest,
    )


_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]*")
"""A project's name, a version or a dialect: it becomes part of names, messages and paths."""


def _identity_of(manifest: Mapping[str, Any]) -> BundleIdentity:
    texts = {key: manifest[key] for key in ("project", "version", "dialect", "digest", "bundle")}
    for key, text in texts.items():
        if not isinstance(text, str) or (key != "digest" and not _PLAIN.fullmatch(text)):
            raise ValueError(f"{key} is {text!r:.80}")
    if not isinstance(manifest["snapshot"], bool):
        raise ValueError("snapshot is neither true nor false")
    provenance = manifest["provenance"]
    for key in ("commit", "committed_at", "branch", "tool"):
        if not isinstance(provenance[key], str | None):
            raise ValueError(f"provenance.{key} is no text")
    for key in ("parts", "parameters", "findings"):
        if not isinstance(manifest[key], list):
            raise ValueError(f"{key} is no list")
    return BundleIdentity(
        name=texts["project"],
        version=texts["version"],
        dialect=texts["dialect"],
        snapshot=manifest["snapshot"],
    )


def _listed_in(manifest: Mapping[str, Any]) -> dict[str, tuple[Digest, int]]:
    """The files that a manifest lists, each with its digest and size in bytes."""
    listed: dict[str, tuple[Digest, int]] = {}
    for entry in manifest["files"]:
        path, digest, size = entry["path"], entry["sha256"], entry["size"]
        if not isinstance(path, str) or not isinstance(digest, str) or path in listed:
            raise ValueError(f"files has {path!r:.80} twice, or without a digest")
        if not isinstance(size, int) or isinstance(size, bool) or size < 0:
            raise ValueError(f"the size of {path} is {size!r:.80}")
        listed[path] = (Digest(digest), size)
    return listed


class _Listed(Contents):
    """Files that a manifest lists, each held against it when it is read."""

    def __init__(
        self, files: Mapping[str, bytes], listed: Mapping[str, tuple[Digest, int]], where: str
    ) -> None:
        super().__init__(files)
        self._listed = listed
        self._where = where

    def __getitem__(self, path: str) -> bytes:
        content = super().__getitem__(path)
        digest, size = self._listed[path]
        if len(content) != size or digest_of(content) != digest:
            raise _untrusted(self._where, f"{path} was altered after packing")
        return content

    def digest(self, path: str) -> Digest:
        """The digest that the manifest lists; the bundle's own digest is over these."""
        return self._listed[path][0]


def _untrusted(where: str, reason: str) -> BundleError:
    return BundleError(
        f"{reason}; the bundle cannot be trusted.",
        where=where,
        next="Take the bundle from where it was packed, or pack the commit again.",
    )


def _part_entry(part: Part, facts: Facts | None) -> dict[str, Any]:
    entry: dict[str, Any] = {
        "id": str(part.id),
        "digest": part.digest,
        "files": [file.path for file in part.files],
    }
    if facts is not None:
        entry["needs"] = sorted({str(need.wanted) for need in facts.needs})
        entry["parameters"] = sorted({use.parameter for use in facts.uses})
        entry["tables"] = [
            {
                "name": table.name,
                "columns": [
                    {"name": c.name, "type": c.type, "required": c.required} for c in table.columns
                ],
            }
            for table in facts.provides
        ]
        if facts.declassified:
            entry["declassified"] = {str(node): reason for node, reason in facts.declassified}
        entry["lineage"] = [
            {"from": str(edge.source), "to": str(edge.target), "how": edge.how.value}
            for edge in in_order(facts.edges)
        ]
    return entry


def _parameter_entry(row: Parameter) -> dict[str, Any]:
    cells = dict(row.cells) if row.every is None else {"every": row.every, **row.cells}
    return {
        "name": row.name,
        "type": row.type.value,
        "values": {name: _plain(cell) for name, cell in cells.items()},
    }


def _plain(cell: Any) -> Any:
    return cell if isinstance(cell, str | int | float | bool) else str(cell)
