"""Settings read from TOML, validated by pydantic, with findings that point at the line."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from inchworm.core.checks import rules
from inchworm.core.checks.findings import Finding
from inchworm.core.errors import did_you_mean
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Use
from inchworm.core.parameters.matrix import references
from inchworm.core.parts import Part
from inchworm.core.toml import KeyPath, TomlDocument, TomlProblem, read_toml


class Settings(BaseModel):
    """Base of all settings: unknown keys are errors, values cannot change."""

    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True)


def documented(
    settings: Settings, columns: Mapping[str, Settings] | None = None
) -> tuple[str, ...]:
    """The names of the descriptions that a part and its columns have."""
    described = [name for name in ("about", "owner") if getattr(settings, name, "")]
    columns_described = [
        f"column:{n.lower()}" for n, s in (columns or {}).items() if getattr(s, "about", "")
    ]
    return (*described, *columns_described)


S = TypeVar("S", bound=Settings)
Report = Callable[[Finding], None]


def read_document(
    content: bytes | str, part: PartId | None, file: str, report: Report
) -> TomlDocument | None:
    """The TOML document, or None after reporting why there is none."""
    try:
        return read_toml(content)
    except TomlProblem as problem:
        report(rules.UNREADABLE.finding(problem.reason, part=part, file=file, line=problem.line))
        return None


def read_part(model: type[S], part: Part, report: Report) -> tuple[S, TomlDocument] | None:
    """Settings of a part that is one TOML file."""
    document = read_document(part.main.content, part.id, part.main.path, report)
    if document is None:
        return None
    settings = validate(model, document, part.id, part.main.path, report)
    return None if settings is None else (settings, document)


def validate(
    model: type[S], document: TomlDocument, part: PartId | None, file: str, report: Report
) -> S | None:
    """The settings, or None after reporting everything that is wrong with them."""
    try:
        return model.model_validate(document.values)
    except ValidationError as error:
        for detail in error.errors():
            path: KeyPath = tuple(key for key in detail["loc"])
            message, remedy = _explain(model, path, detail)
            report(
                rules.MALFORMED.finding(
                    message, part=part, file=file, line=document.line_of(path) or 1, remedy=remedy
                )
            )
        return None


_SECRET_KEYS = frozenset({"credentials", "password", "token"})
"""Where a secret may stand: it is only ever handed on as a reference from there."""


_EXPECTED = {"timeout": "duration", "retries": "integer", "threads": "integer", "memory": "text"}
"""The type of parameter that can be the whole of a setting."""


def parameter_uses(document: TomlDocument, file: str) -> tuple[Use, ...]:
    """Every ``${name}`` in the strings of a document, with its line."""
    uses: list[Use] = []

    def visit(value: Any, path: KeyPath) -> None:
        match value:
            case dict():
                for key, item in value.items():
                    visit(item, (*path, key))
            case list():
                for i, item in enumerate(value):
                    visit(item, (*path, i))
            case str():
                line = document.line_of(path)
                safe = not _SECRET_KEYS.isdisjoint(path)
                expects = (
                    _EXPECTED.get(str(path[-1]), "") if references(value) == [value[2:-1]] else ""
                )
                uses.extend(Use(n, file, line, safe, expects) for n in references(value))

    visit(document.values, ())
    return tuple(uses)


def _explain(model: type[Settings], path: KeyPath, detail: Any) -> tuple[str, str]:
    """A pydantic error in words: what is wrong, and what to do."""
    where = _dotted(path)
    match detail["type"]:
        case "missing":
            return f"{where} is missing", f"Add {where} = ..."
        case "extra_forbidden":
            known = _known_keys(model, path)
            offer = f"Remove it. Known here: {', '.join(known)}." if known else "Remove it."
            return f"{where} is not a setting", did_you_mean(str(path[-1]), known, offer)
        case "literal_error":
            expected = detail["ctx"]["expected"].replace("'", "")
            return f"{where} is {detail['input']!r}", f"Write one of {expected}."
    message = detail["msg"].removeprefix("Value error, ").removeprefix("Input ")
    return f"{where} {message[0].lower()}{message[1:]}", rules.MALFORMED.remedy


def _known_keys(model: type[Settings], path: KeyPath) -> list[str]:
    at: Any = model
    for key in path[:-1]:
        if isinstance(at, type) and issubclass(at, BaseModel) and key in at.model_fields:
            at = _inner_model(at.model_fields[str(key)].annotation) or at
    fields = at.model_fields if isinstance(at, type) and issubclass(at, BaseModel) else {}
    return [field.alias or name for name, field in fields.items()]


def _inner_model(annotation: Any) -> type[BaseModel] | None:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return annotation
    for argument in getattr(annotation, "__args__", ()):
        inner = _inner_model(argument)
        if inner is not None:
            return inner
    return None


def _dotted(path: KeyPath) -> str:
    text = ""
    for key in path:
        text += f"[{key}]" if isinstance(key, int) else f".{key}" if text else key
    return text or "the file"
