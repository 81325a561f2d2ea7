"""Items of services that somebody changed by hand: what differs, and how that is written as source.

A document is compared leaf by leaf. A path leads to a leaf: keys of objects, and indexes of lists.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from msgspec import Struct

from inchworm.core.parameters.matrix import references, substitute
from inchworm.core.parameters.values import Type, Value

Path = tuple[str | int, ...]

ABSENT = object()
"""Stands for a leaf that is not there."""

_SHORTEST = 4
"""Characters of a value that is recognised inside a text; a shorter one may be there by chance."""


class Leaf(Struct, frozen=True, kw_only=True):
    """A leaf that is not what was put there.

    Attributes:
        was: what a promotion put there, or :data:`ABSENT`.
        now: what is there, or :data:`ABSENT`.
    """

    path: Path
    was: Any
    now: Any

    @property
    def dotted(self) -> str:
        """The path in one text: ``steps.1.timeout``."""
        return ".".join(map(str, self.path))


def changed_leaves(was: Any, now: Any, path: Path = ()) -> Iterator[Leaf]:
    """Every leaf in which two documents differ, in order; a list of another length is one leaf."""
    if isinstance(was, Mapping) and isinstance(now, Mapping):
        for key in (*was, *(key for key in now if key not in was)):
            yield from changed_leaves(was.get(key, ABSENT), now.get(key, ABSENT), (*path, key))
    elif isinstance(was, list) and isinstance(now, list) and len(was) == len(now):
        for at, (one, other) in enumerate(zip(was, now, strict=True)):
            yield from changed_leaves(one, other, (*path, at))
    elif was is ABSENT or now is ABSENT or was != now:
        yield Leaf(path=path, was=was, now=now)


class NewValue(Struct, frozen=True, kw_only=True):
    """A parameter whose value somebody changed by changing the item: it is all of a leaf."""

    parameter: str
    value: Any


def turned_back(source: Any, now: Any, values: Mapping[str, Value]) -> Any:
    """What a leaf of the source has to be so that it becomes what is there.

    Args:
        source: the leaf as it is written, or :data:`ABSENT`.
        now: what is there.
        values: the environment's values that the part uses.

    Returns:
        The leaf with references to parameters; or a :class:`NewValue`, where the source is one
        reference and nothing else.
    """
    if isinstance(source, str) and len(references(source)) == 1:
        (name,) = references(source)
        if source == f"${{{name}}}" and substitute(source, values) != now:
            return NewValue(parameter=name, value=now)
    return _with_references(now, values)


def _with_references(now: Any, values: Mapping[str, Value]) -> Any:
    """Texts in which values of the environment stand as references, the longest first."""
    if isinstance(now, Mapping):
        return {key: _with_references(each, values) for key, each in now.items()}
    if isinstance(now, list):
        return [_with_references(each, values) for each in now]
    if not isinstance(now, str):
        return now
    known = sorted(
        ((value.text, name) for name, value in values.items() if value.type is not Type.SECRET),
        key=lambda pair: -len(pair[0]),
    )
    for text, name in known:
        if now == text:
            return f"${{{name}}}"
        if len(text) >= _SHORTEST and text in now:
            now = now.replace(text, f"${{{name}}}")
    return now


def with_leaf(document: Any, path: Path, value: Any) -> Any:
    """A document with another value at a path that it has; it is copied as far as it changes."""
    if not path:
        return value
    first, *rest = path
    changed: Any = list(document) if isinstance(document, list) else dict(document)
    changed[first] = with_leaf(document[first], tuple(rest), value)
    return changed


def leaf_at(document: Any, path: Path) -> Any:
    """What a document has at a path; :data:`ABSENT` where it has nothing."""
    for step in path:
        try:
            document = document[step]
        except (KeyError, IndexError, TypeError):
            return ABSENT
    return document
