"""Bundles: the manifest of one project version, and the digest that stands for it.

The content digest covers all that can influence an environment (the project's name, version and
dialect, and every file) and nothing else: neither when nor where nor by whom it was packed.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from inchworm.core.checks.findings import Finding
from inchworm.core.errors import BundleError
from inchworm.core.lineage.facts import Assembly, Facts
from inchworm.core.lineage.graph import in_order
from inchworm.core.parameters.matrix import Parameter
from inchworm.core.parts import Contents, Digest, Part, digest_of

FORMAT = "inchworm/bundle/1"
MANIFEST = "bundle.json"

#: A bundle is read whole into memory; these bounds keep a hostile file from filling it.
MAX_FILES = 200_000
MAX_FILE_BYTES = 256 * 1024 * 1024
MAX_TOTAL_BYTES = 2 * 1024 * 1024 * 1024


@dataclass(frozen=True, kw_only=True)
class Provenance:
    """Where a bundle comes from; it is told, not digested."""

    commit: str | None
    committed_at: str | None
    branch: str | None
    clean: bool
    tool: str


@dataclass(frozen=True, kw_only=True)
class Bundle:
    """A bundle in memory: its identity, its files and its manifest."""

    project: str
    version: str
    dialect: str
    snapshot: bool
    digest: Digest
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


def bundle_name(project: str, version: str, digest: Digest, *, snapshot: bool) -> str:
    """The name under which a bundle is kept."""
    suffix = f"-snapshot.{digest.removeprefix('sha256:')[:8]}" if snapshot else ""
    return f"{project}-{version}{suffix}"


_VERSION_IN_NAME = re.compile(r"-(\d+)\.(\d+)\.(\d+)(?:-snapshot\.[0-9a-f]+)?$")


def version_in_name(project: str, name: str) -> tuple[int, ...]:
    """The version in a bundle's name, as numbers that compare; empty of a name that has none."""
    version = _VERSION_IN_NAME.fullmatch(name.removeprefix(project))
    return tuple(map(int, version.groups())) if version else ()


def content_digest(name: str, version: str, dialect: str, files: Mapping[str, bytes]) -> Digest:
    """The digest of all that can influence an environment."""
    digests = {path: digest_of(content) for path, content in files.items()}
    return _digest_of_all(name, version, dialect, digests)


def _digest_of_all(name: str, version: str, dialect: str, digests: Mapping[str, str]) -> Digest:
    lines = [f"project {name}", f"version {version}", f"dialect {dialect}"]
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
    digest = content_digest(assembly.name, assembly.version, assembly.dialect, files)
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
        files=Contents(files),
        manifest=manifest,
    )


def manifest_bytes(manifest: Mapping[str, Any]) -> bytes:
    """The manifest as it stands in the bundle: readable, in a fixed order."""
    return (json.dumps(manifest, indent=1, ensure_ascii=False) + "\n").encode()


def check_bundle(manifest: Any, files: Mapping[str, bytes], where: str) -> Bundle:
    """A bundle from what was read, after checking that it is what it says.

    The list of files is checked now, each file's content when it is read from the bundle.

    Args:
        manifest: the manifest, read as JSON.
        files: the other files, by path.
        where: the archive's name, for messages.

    Raises:
        BundleError: when a file is missing or unexpected, or the digest does not fit.
    """
    if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
        raise _untrusted(where, f"{MANIFEST} is not of format {FORMAT}")
    try:
        listed = {e["path"]: (Digest(e["sha256"]), int(e["size"])) for e in manifest["files"]}
        name, version, dialect = manifest["project"], manifest["version"], manifest["dialect"]
        snapshot, declared_digest = bool(manifest["snapshot"]), manifest["digest"]
        manifest["provenance"]["commit"]
    except (KeyError, TypeError, ValueError) as error:
        raise _untrusted(where, f"{MANIFEST} lacks {error}") from error
    if unexpected := sorted(set(files) - set(listed)):
        raise _untrusted(where, f"{unexpected[0]} is not listed in {MANIFEST}")
    if missing := sorted(set(listed) - set(files)):
        raise _untrusted(where, f"{missing[0]} is missing")
    digests = {path: digest for path, (digest, _) in listed.items()}
    digest = _digest_of_all(name, version, dialect, digests)
    if digest != declared_digest:
        raise _untrusted(where, "its digest does not fit its content")
    return Bundle(
        project=name,
        version=version,
        dialect=dialect,
        snapshot=snapshot,
        digest=digest,
        files=_Listed(files, listed, where),
        manifest=manifest,
    )


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
