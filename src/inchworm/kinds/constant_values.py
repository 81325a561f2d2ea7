"""Constant expressions of Python, worked out without running them.

A value may be one of several: of ``a if x else b`` both are possible. Whatever is not constant, or
has too many possible values, has none that are known.
"""

from __future__ import annotations

import ast
import re
import textwrap
from collections.abc import Callable, Iterable, Mapping
from itertools import product
from typing import Any

Values = tuple[Any, ...]
"""The possible values of an expression."""
Names = Mapping[str, Values]

MOST = 64
"""Possible values of one expression that are told apart."""
_LONGEST = 100_000
"""Letters or items of a value; a longer one is not worked out."""
_WIDTH = re.compile(r"\d{4,}")
"""A width in a format that asks for more than anybody would."""

_OF_TEXTS = """
    format format_map join strip lstrip rstrip lower upper title replace removeprefix removesuffix
    split splitlines
"""
_OF_COLLECTIONS = "get items keys values copy"
_METHODS = frozenset([*_OF_TEXTS.split(), *_OF_COLLECTIONS.split()])
"""Methods of texts, lists and dictionaries that give the same whenever they are called."""
_FUNCTIONS: Mapping[str, Callable[..., Any]] = {
    "str": str,
    "int": int,
    "len": len,
    "list": list,
    "tuple": tuple,
    "sorted": sorted,
    "reversed": lambda items: list(reversed(items)),
    "enumerate": lambda items, start=0: list(enumerate(items, start)),
    "zip": lambda *items: list(zip(*items, strict=False)),
    "range": lambda *bounds: list(range(*bounds)[: _LONGEST + 1]),
    "dict": dict,
    "dedent": textwrap.dedent,
    "textwrap.dedent": textwrap.dedent,
}


_CONVERSIONS: Mapping[int, Callable[[Any], Any]] = {
    -1: lambda value: value,
    ord("s"): str,
    ord("r"): repr,
    ord("a"): ascii,
}


def values_of(node: ast.expr, names: Names) -> Values | None:
    """The possible values of an expression; None if it is not constant.

    Args:
        node: the expression.
        names: the possible values of names.
    """
    match node:
        case ast.Constant(value=value):
            return (value,)
        case ast.Name(id=name):
            return names.get(name)
        case ast.NamedExpr(value=value):
            return values_of(value, names)
        case ast.IfExp(body=body, orelse=orelse):
            return _either([body, orelse], names)
        case ast.BoolOp(values=values):
            return _either(values, names)
        case ast.Tuple(elts=items) | ast.List(elts=items):
            return _combined(items, names, lambda *each: list(each))
        case ast.Dict(keys=keys, values=items):
            if any(key is None for key in keys):
                return None
            pairs = [part for pair in zip(keys, items, strict=True) for part in pair if part]
            return _combined(pairs, names, lambda *e: dict(zip(e[::2], e[1::2], strict=True)))
    return _of_operation(node, names)


def _of_operation(node: ast.expr, names: Names) -> Values | None:
    match node:
        case ast.JoinedStr(values=pieces):
            return _combined(pieces, names, lambda *texts: "".join(texts))
        case ast.FormattedValue(value=value, conversion=conversion, format_spec=spec):
            parts = [value, spec] if spec is not None else [value]
            convert = _CONVERSIONS[conversion]
            return _combined(parts, names, lambda one, how="": format(convert(one), _narrow(how)))
        case ast.BinOp(left=left, op=ast.Add(), right=right):
            return _combined([left, right], names, lambda one, other: one + other)
        case ast.BinOp(left=left, op=ast.Mod(), right=right):
            return _combined([left, right], names, _percent)
        case ast.Subscript(value=value, slice=index) if not isinstance(index, ast.Slice):
            return _combined([value, index], names, lambda one, at: one[at])
        case ast.Call(func=func, args=args, keywords=keywords):
            return _of_call(func, args, keywords, names)
    return None


def _of_call(
    func: ast.expr, args: list[ast.expr], keywords: list[ast.keyword], names: Names
) -> Values | None:
    if any(k.arg is None for k in keywords) or any(isinstance(a, ast.Starred) for a in args):
        return None
    given = [k.arg for k in keywords if k.arg is not None]
    parts = [*args, *(k.value for k in keywords)]
    called = ast.unparse(func)
    if called in _FUNCTIONS and called not in names:
        function = _FUNCTIONS[called]
        return _combined(
            parts, names, lambda *e: function(*e[: len(args)], **_named(given, e[len(args) :]))
        )
    if isinstance(func, ast.Attribute) and func.attr in _METHODS:
        method = func.attr

        def call(owner: Any, *each: Any) -> Any:
            if not isinstance(owner, str | list | dict):
                raise TypeError(method)
            if method.startswith("format"):
                _narrow(owner)
            if len(owner) * max((len(e) for e in each if isinstance(e, str)), default=1) > _LONGEST:
                raise ValueError(method)
            value = getattr(owner, method)(*each[: len(args)], **_named(given, each[len(args) :]))
            return value if isinstance(value, str | list | dict | int) else list(value)

        return _combined([func.value, *parts], names, call)
    return None


def _named(names: list[str], values: Iterable[Any]) -> dict[str, Any]:
    return dict(zip(names, values, strict=True))


def _narrow(text: Any) -> Any:
    if _WIDTH.search(str(text)):
        raise ValueError("width")
    return text


def _percent(text: Any, values: Any) -> Any:
    if not isinstance(text, str):
        raise TypeError("%")
    return _narrow(text) % (tuple(values) if isinstance(values, list) else values)


def _either(nodes: Iterable[ast.expr], names: Names) -> Values | None:
    several: list[Values] = []
    for node in nodes:
        values = values_of(node, names)
        if values is None:
            return None
        several.append(values)
    together = distinct(*several)
    return together if len(together) <= MOST else None


def distinct(*several: Values) -> Values:
    """Values of several sources together, each once, in their order."""
    together: list[Any] = []
    for values in several:
        together += [value for value in values if value not in together]
    return tuple(together)


def _combined(
    nodes: Iterable[ast.expr], names: Names, combine: Callable[..., Any]
) -> Values | None:
    """The values that a combination of expressions can have."""
    parts = [values_of(node, names) for node in nodes]
    if any(part is None for part in parts):
        return None
    values: list[Any] = []
    for each in product(*(part for part in parts if part is not None)):
        try:
            value = combine(*each)
        except (TypeError, ValueError, KeyError, IndexError, AttributeError, OverflowError):
            return None  # it would fail when it runs, too
        if hasattr(value, "__len__") and len(value) > _LONGEST:
            return None
        if value not in values:
            values.append(value)
        if len(values) > MOST:
            return None
    return tuple(values)


def texts_of(node: ast.expr, names: Names) -> tuple[str, ...] | None:
    """The possible values of an expression, if all of them are texts."""
    values = values_of(node, names)
    if values is None or not all(isinstance(value, str) for value in values):
        return None
    return values
