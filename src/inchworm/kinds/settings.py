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
    described = ["about"] if getattr(settings, "about", "") else []
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
        for detail in _of_one_kind_each(error):
            path = _path(detail)
            message, remedy = _explain(model, path, detail)
            report(
                rules.MALFORMED.finding(
                    message, part=part, file=file, line=document.line_of(path) or 1, remedy=remedy
                )
            )
        return None


def _path(detail: Any) -> KeyPath:
    """Where an error is; of a setting with several types, without the type that did not fit."""
    return tuple(key for key in detail["loc"] if key not in _TYPES)


def _of_one_kind_each(error: ValidationError) -> list[Any]:
    """The errors, of a setting with several types only the first."""
    first: dict[KeyPath, Any] = {}
    for detail in error.errors():
        first.setdefault(_path(detail), detail)
    return list(first.values())


_TYPES = frozenset({"str", "int", "float", "bool", "decimal", "constrained-str", "function-after"})
"""How the library names the types of a setting that has several."""


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
        case "literal_error" | "enum":
            expected = detail["ctx"]["expected"].replace("'", "")
            return f"{where} is {detail['input']!r}", f"Write one of {expected}."
        case "value_error":
            reason = detail["msg"].removeprefix("Value error, ")
            return f"{where} {reason[0].lower()}{reason[1:]}", rules.MALFORMED.remedy
        case "dict_type" | "model_type" | "model_attributes_type":
            return f"{where} must be a table", f"Write [{where}], and its settings below."
    return f"{where} {_must(detail)}", rules.MALFORMED.remedy


def _must(detail: Any) -> str:
    """What a value must be, in words of our own: those of the library say nothing to a user."""
    kind, context = str(detail["type"]), detail.get("ctx", {})
    for ending, bound in _BOUNDS.items():
        if kind == ending:
            return f"must be {bound} {context.get(_LIMITS[ending])}"
    if kind in {"too_short", "too_long", "string_too_short", "string_too_long"}:
        few = "at least" if "short" in kind else "at most"
        return f"must have {few} {context.get('min_length', context.get('max_length'))}"
    if kind == "string_pattern_mismatch":
        return f"must look like {context['pattern']}"
    return _MUST.get(kind.rpartition("_")[0], "has the wrong form")


_BOUNDS = {
    "greater_than_equal": "at least",
    "greater_than": "more than",
    "less_than_equal": "at most",
    "less_than": "less than",
}
_LIMITS = {
    "greater_than_equal": "ge",
    "greater_than": "gt",
    "less_than_equal": "le",
    "less_than": "lt",
}
_MUST = {
    "string": "must be a text",
    "int": "must be a whole number",
    "int_from": "must be a whole number",
    "float": "must be a number",
    "decimal": "must be a number",
    "bool": "must be true or false",
    "list": "must be a list",
    "tuple": "must be a list",
    "set": "must be a list",
    "frozen_set": "must be a list",
}


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
