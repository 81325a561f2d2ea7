"""OpenAPI documents as they are written: JSON, or YAML with the types of JSON.

OpenAPI limits YAML to the JSON schema of YAML 1.2, with texts as keys: ``200:`` is the key "200",
and a date or ``no`` is a text.
"""

from __future__ import annotations

import re
from math import isfinite
from typing import Any

import yaml

_LARGEST = 1_000_000
"""Values of a document, those that aliases repeat counted each time."""

_JSON = {
    "null": (r"~|null|Null|NULL|", ["~", "n", "N", ""]),
    "bool": (r"true|True|TRUE|false|False|FALSE", list("tTfF")),
    "int": (r"-?(0|[1-9][0-9]*)", list("-0123456789")),
    "float": (r"-?(0|[1-9][0-9]*)(\.[0-9]*)?([eE][-+]?[0-9]+)?", list("-0123456789")),
    "merge": (r"<<", ["<"]),
}
"""The types of texts without quotes, and with which letters those begin."""


class ApiUnreadable(Exception):
    """A document is none, or has what JSON does not have.

    Args:
        reason: what is wrong, in words.
        line: where, from 1.
    """

    def __init__(self, reason: str, line: int | None = None) -> None:
        super().__init__(reason)
        self.reason = reason
        self.line = line


# in C where libyaml is there: API documents can be large
class _Loader(getattr(yaml, "CSafeLoader", yaml.SafeLoader)):  # type: ignore[misc]
    """Reads YAML with the types of JSON."""

    def construct_mapping(self, node: yaml.MappingNode, deep: bool = False) -> dict[str, Any]:
        """An object; each key is a text, as it is written."""
        self.flatten_mapping(node)
        for key, _ in node.value:
            if not isinstance(key, yaml.ScalarNode):
                raise yaml.constructor.ConstructorError(
                    None, None, "a key has to be a text", key.start_mark
                )
        return {key.value: self.construct_object(value, deep=deep) for key, value in node.value}


def _tag(name: str) -> str:
    return f"tag:yaml.org,2002:{name}"


_Loader.yaml_implicit_resolvers = {}
for _name, (_pattern, _letters) in _JSON.items():
    _Loader.add_implicit_resolver(_tag(_name), re.compile(rf"(?:{_pattern})\Z"), _letters)
_Loader.yaml_constructors = {
    tag: construct
    for tag, construct in _Loader.yaml_constructors.items()
    if tag in {None, *map(_tag, ("null", "bool", "int", "float", "str", "seq", "map"))}
}


def read_api_document(content: bytes) -> Any:
    """The values of a document.

    Raises:
        ApiUnreadable: when it is no YAML, has other types than JSON, or repeats itself without end.
    """
    try:
        document = yaml.load(content.decode("utf-8"), Loader=_Loader)
        _count(document, {})
    except UnicodeDecodeError as error:
        raise ApiUnreadable("it is not UTF-8") from error
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        reason = str(getattr(error, "problem", error))
        raise ApiUnreadable(reason, None if mark is None else mark.line + 1) from error
    except RecursionError as error:
        raise ApiUnreadable("it is nested too deep") from error
    except ValueError as error:
        raise ApiUnreadable("a number in it has too many digits") from error
    return document


def _count(value: Any, counted: dict[int, int]) -> int:
    """How many values there are in one, repeated ones counted each time.

    Args:
        value: the value.
        counted: the numbers that are known, by the identity of the object; 0 of those around it.
    """
    if isinstance(value, float) and not isfinite(value):
        raise ApiUnreadable("a number in it is too large")
    if not isinstance(value, dict | list):
        return 1
    known = counted.get(id(value))
    if known == 0:
        raise ApiUnreadable("an alias in it stands for what it is in")
    if known is None:
        counted[id(value)] = 0
        inner = value.values() if isinstance(value, dict) else value
        known = counted[id(value)] = 1 + sum(_count(each, counted) for each in inner)
        if known > _LARGEST:
            raise ApiUnreadable(f"with what aliases repeat it has more than {_LARGEST:,} values")
    return known
