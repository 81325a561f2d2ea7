"""What changed between two versions of an API, for those who call it or are called by it.

Documents are OpenAPI 3, parsed. Of requests and answers the fields of JSON objects are compared.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

_METHODS = frozenset({"get", "put", "post", "delete", "patch", "head", "options", "trace"})
_DEPTH = 20
"""References that are followed one after another."""

Api = Mapping[str, Any]


class ApiChange(NamedTuple):
    """One difference.

    Attributes:
        what: ``gone``, ``added``, ``retyped`` or ``required``.
        item: an operation, such as ``POST /notices``, or a field of it.
        breaks: whether somebody who relies on the version before would fail.
    """

    what: str
    item: str
    detail: str
    breaks: bool


def api_changes(before: Api, after: Api) -> Iterator[ApiChange]:
    """Every difference between two versions of an API that others can see."""
    old, new = _operations(before), _operations(after)
    for name in sorted({*old, *new}):
        if name not in new:
            yield ApiChange("gone", name, "", breaks=True)
        elif name not in old:
            yield ApiChange("added", name, "", breaks=False)
        else:
            yield from _request(name, _body(before, old[name]), _body(after, new[name]))
            yield from _answer(name, _answered(before, old[name]), _answered(after, new[name]))


class _Fields(NamedTuple):
    """The fields of a JSON object: the type of each, and those that have to be there."""

    types: Mapping[str, str]
    required: frozenset[str]


def _request(name: str, old: _Fields, new: _Fields) -> Iterator[ApiChange]:
    yield from _fields(name, "request", old, new)
    for field in sorted(new.required - old.required):
        detail = "of the request is required now"
        yield ApiChange("required", f"{name} {field}", detail, breaks=True)


def _answer(name: str, old: _Fields, new: _Fields) -> Iterator[ApiChange]:
    yield from _fields(name, "answer", old, new)
    for field in sorted((old.required - new.required) & new.types.keys()):
        detail = "of the answer was always there"
        yield ApiChange("loosened", f"{name} {field}", detail, breaks=True)


def _fields(name: str, where: str, old: _Fields, new: _Fields) -> Iterator[ApiChange]:
    for field in sorted({*old.types, *new.types}):
        item = f"{name} {field}"
        if field not in new.types:
            yield ApiChange("gone", item, f"of the {where}", breaks=True)
        elif field not in old.types:
            yield ApiChange("added", item, f"to the {where}", breaks=False)
        elif old.types[field] != new.types[field]:
            detail = f"{old.types[field]} is {new.types[field]} now"
            yield ApiChange("retyped", item, detail, breaks=True)


def _operations(api: Api) -> dict[str, Api]:
    paths = _mapping(api.get("paths"))
    return {
        f"{method.upper()} {path}": _mapping(operation)
        for path, methods in paths.items()
        for method, operation in _mapping(methods).items()
        if method in _METHODS
    }


def _body(api: Api, operation: Api) -> _Fields:
    return _of_content(api, _followed(api, operation.get("requestBody")))


def _answered(api: Api, operation: Api) -> _Fields:
    """The fields of the answers of success, all together."""
    answers = [
        _of_content(api, _followed(api, answer))
        for code, answer in sorted(_mapping(operation.get("responses")).items())
        if str(code).startswith("2")
    ]
    types = {name: kind for answer in answers for name, kind in answer.types.items()}
    required = frozenset.intersection(*(a.required for a in answers)) if answers else frozenset()
    return _Fields(types, required)


def _of_content(api: Api, body: Api) -> _Fields:
    for kind, media in _mapping(body.get("content")).items():
        if "json" in kind:
            return _of_schema(api, _mapping(media).get("schema"))
    return _Fields({}, frozenset())


def _of_schema(api: Api, schema: Any) -> _Fields:
    """The fields of an object, those of ``allOf`` and of the items of a list, too."""
    resolved = _followed(api, schema)
    types: dict[str, str] = {}
    required: set[str] = set()
    inner = [*(resolved.get("allOf") or []), *([resolved["items"]] if "items" in resolved else [])]
    for part in inner:
        fields = _of_schema(api, part)
        types |= fields.types
        required |= fields.required
    for name, field in _mapping(resolved.get("properties")).items():
        types[name] = _type(_followed(api, field))
    required |= {str(name) for name in resolved.get("required") or [] if isinstance(name, str)}
    return _Fields(types, frozenset(required))


def _type(field: Api) -> str:
    kind = field.get("type", "object")
    listed = " or ".join(map(str, kind)) if isinstance(kind, list) else str(kind)
    return f"{listed} ({field['format']})" if "format" in field else listed


def _followed(api: Api, node: Any) -> Api:
    """A node, or what a reference into the document leads to."""
    at = _mapping(node)
    for _ in range(_DEPTH):
        reference = at.get("$ref")
        if not isinstance(reference, str) or not reference.startswith("#/"):
            return at
        target: Any = api
        for key in reference.removeprefix("#/").split("/"):
            target = _mapping(target).get(key.replace("~1", "/").replace("~0", "~"))
        at = _mapping(target)
    return {}


def _mapping(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, Mapping) else {}
