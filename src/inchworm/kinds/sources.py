"""``sources.toml``: the places outside the database that the project reads."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from pydantic import Field

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.lineage.facts import Use
from inchworm.core.sql.declared import FILE, NOTHING_DECLARED, Declared
from inchworm.core.toml import TomlProblem, read_toml
from inchworm.kinds.settings import Settings, parameter_uses, read_document, validate


class CatalogueSettings(Settings):
    """``[catalogues]``: the databases that three-part names begin with."""

    own: tuple[str, ...] = ()
    others: tuple[str, ...] = ()


class SourceSettings(Settings):
    """The whole file."""

    reads: dict[str, str] = {}
    catalogues: CatalogueSettings = Field(CatalogueSettings())


def declared_in(files: Mapping[str, bytes]) -> Declared:
    """What a project declares; nothing where the file is wrong, which is reported elsewhere."""
    return _declared(files[FILE]) if FILE in files else NOTHING_DECLARED


@lru_cache(maxsize=8)
def _declared(content: bytes) -> Declared:
    try:
        settings = SourceSettings.model_validate(read_toml(content).values)
    except (TomlProblem, ValueError):
        return NOTHING_DECLARED
    return Declared(
        reads=settings.reads,
        own=frozenset(name.lower() for name in settings.catalogues.own),
        others=frozenset(name.lower() for name in settings.catalogues.others),
    )


def check_sources(files: Mapping[str, bytes]) -> tuple[list[Finding], tuple[Use, ...]]:
    """What is wrong with the file, and the parameters that it uses."""
    findings: list[Finding] = []
    if FILE not in files:
        return findings, ()
    text = files[FILE].decode("utf-8", "replace")
    document = read_document(text, None, FILE, findings.append)
    if document is None or validate(SourceSettings, document, None, FILE, findings.append) is None:
        return findings, ()
    reads = document.values.get("reads", {})
    for name, pattern in reads.items():
        if pattern.strip("*/. ") == "":
            findings.append(
                rules.MALFORMED.finding(
                    f"reads.{name} is {pattern!r}, which is every file there is",
                    file=FILE,
                    line=document.line_of(("reads", name)),
                    remedy="Name the folder or server that is read.",
                )
            )
    return findings, parameter_uses(document, FILE)
