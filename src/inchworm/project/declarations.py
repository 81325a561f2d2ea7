"""What the project's own file and its environment files declare, and remembering it.

The declarations are validated by :mod:`~inchworm.project.config`. Validating them takes longer than
most commands do all their work, so faultless ones are remembered under a digest of the files.
"""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any

from msgspec import Struct, field, to_builtins
from msgspec.structs import asdict

from inchworm import __version__
from inchworm.core.checks.findings import Finding
from inchworm.core.entry.conditions import NO_CONDITIONS, EntryConditions
from inchworm.core.environments.environment import (
    DatabaseAddress,
    Environment,
    NotebookServerAddress,
    SecretStoreAddress,
    ServiceAddress,
)
from inchworm.core.environments.verification import Verification
from inchworm.core.errors import ProjectError
from inchworm.core.identifiers import Kind
from inchworm.core.lineage.facts import Policies, Use
from inchworm.core.parts import digest_of
from inchworm.core.seal import Sealer
from inchworm.safe_files import PRIVATE, write_below

FILE = ".inchworm/declarations.json"
_VERSION = 7
"""Raised whenever the same files are read otherwise than before."""


class Storage(Struct, frozen=True, kw_only=True):
    """Where the ledger and the bundles are.

    Attributes:
        ledger: the path of a file, or ``postgresql://user@host/database``.
        ledger_schema: of a ledger in a server, the schema of its tables.
        password: of a ledger in a server, where its password is kept.
        bundles: a folder, or any URL of fsspec.
    """

    ledger: str
    ledger_schema: str
    password: str | None
    bundles: str


class ProjectSettings(Struct, frozen=True, kw_only=True):
    """The settings in ``inchworm.toml``."""

    name: str
    version: str
    about: str
    dialect: str
    storage: Storage
    policies: Policies
    release_branch: str | None = None
    """The branch that releases come from; None where any will do."""


class Declarations(Struct, frozen=True, kw_only=True):
    """Everything that is declared about the project and its environments.

    Attributes:
        environments: in no particular order.
        uses: the parameters that environment files use.
        findings: what is wrong with the environment files.
    """

    settings: ProjectSettings
    environments: tuple[Environment, ...]
    uses: tuple[Use, ...]
    findings: tuple[Finding, ...] = field(default=())


def read_declarations(
    root: Path, files: Mapping[str, bytes], project_file: str, sealer: Sealer
) -> Declarations:
    """The declarations in some files; remembered ones where the files are the same.

    What decides, protection and entry conditions, is compared with the files all the same.

    Args:
        root: the project's folder.
        files: the project's file and all environment files, by path.
        project_file: the path of the project's file.
        sealer: makes and compares seals.

    Raises:
        ProjectError: when the project's file is wrong.
    """
    digests = {path: digest_of(content) for path, content in files.items()}
    key = digest_of(json.dumps([__version__, _VERSION, digests], sort_keys=True).encode())
    remembered = _remembered(root / FILE, key, sealer)
    if remembered is not None and _decide_the_same(remembered.environments, files):
        return remembered
    from inchworm.project.config import validated_declarations

    declared = validated_declarations(files, project_file)
    if not declared.findings:
        _remember(root, key, declared, sealer)
    return declared


def _decide_the_same(environments: Iterable[Environment], files: Mapping[str, bytes]) -> bool:
    """Return True if protection and the presence of conditions are as the files say."""
    for environment in environments:
        document = tomllib.loads(files[environment.file].decode())
        is_protected, has_conditions = document.get("protected", False), "entry" in document
        if is_protected is not environment.protected or (
            has_conditions is not (environment.entry != NO_CONDITIONS)
        ):
            return False
    return True


def _remembered(file: Path, key: str, sealer: Sealer) -> Declarations | None:
    """The declarations remembered under a key; None when there are none, or they are damaged."""
    with suppress(OSError, ValueError, KeyError, TypeError):
        document = json.loads(file.read_bytes())
        if document["key"] == key and document["seal"] == _seal(sealer, document["declared"]):
            return _from_json(document["declared"])
    return None


def _remember(root: Path, key: str, declared: Declarations, sealer: Sealer) -> None:
    """Keep declarations where there is a place for such things already.

    That they cannot be kept is no fault that anybody has to hear of.
    """
    if not (root / FILE).parent.is_dir():
        return
    body = _to_json(declared)
    document = {"key": key, "seal": _seal(sealer, body), "declared": body}
    text = json.dumps(document, ensure_ascii=False)
    with suppress(OSError, ProjectError):
        write_below(root, FILE, text.encode(), mode=PRIVATE)


def _seal(sealer: Sealer, body: object) -> str:
    return sealer.seal(FILE, json.dumps(body, sort_keys=True))


def _to_json(declared: Declarations) -> dict[str, Any]:
    settings = declared.settings
    policies = {name: sorted(kinds) for name, kinds in asdict(settings.policies).items()}
    return {
        "settings": asdict(settings) | {"storage": asdict(settings.storage), "policies": policies},
        "environments": [to_builtins(environment) for environment in declared.environments],
        "uses": [list(use) for use in declared.uses],
    }


def _from_json(body: Mapping[str, Any]) -> Declarations:
    settings = body["settings"]
    policies = {
        name: frozenset(map(Kind.named, kinds)) for name, kinds in settings["policies"].items()
    }
    return Declarations(
        settings=ProjectSettings(
            **{
                **settings,
                "storage": Storage(**settings["storage"]),
                "policies": Policies(**policies),
            }
        ),
        environments=tuple(map(_environment, body["environments"])),
        uses=tuple(Use(*use) for use in body["uses"]),
    )


def _environment(body: Mapping[str, Any]) -> Environment:
    database, store, notebooks = body["database"], body["secret_store"], body["notebooks"]
    return Environment(
        **{
            **body,
            "after": tuple(body["after"]),
            "shared": tuple(body["shared"]),
            "database": DatabaseAddress(**database | {"may_lose": tuple(database["may_lose"])}),
            "workspace": ServiceAddress(**body["workspace"]),
            "gateway": ServiceAddress(**body["gateway"]),
            "notebooks": NotebookServerAddress(**notebooks) if notebooks is not None else None,
            "secret_store": SecretStoreAddress(**store) if store is not None else None,
            "entry": EntryConditions.from_json(body["entry"]),
            "verifications": tuple(map(Verification.from_json, body["verifications"])),
        }
    )
