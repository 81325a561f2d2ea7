"""Constant expressions of notebooks, worked out without running them."""

from __future__ import annotations

import ast
from typing import Any

import pytest

from inchworm.kinds.constant_values import values_of

NAMES: dict[str, tuple[Any, ...]] = {
    "table": ("raw.gauge",),
    "either": ("a", "b"),
    "by_name": ({"one": "raw.one", "two": "raw.two"},),
}

CONSTANT = {
    "'a' 'b'": ("ab",),
    "table": ("raw.gauge",),
    "f'SELECT {either} FROM {table}'": ("SELECT a FROM raw.gauge", "SELECT b FROM raw.gauge"),
    "f'{7:03d} {table!r}'": ("007 'raw.gauge'",),
    "'SELECT ' + either": ("SELECT a", "SELECT b"),
    "'%s of %s' % (either, table)": ("a of raw.gauge", "b of raw.gauge"),
    "'%(x)s' % {'x': table}": ("raw.gauge",),
    "'{} {n}'.format(table, n=1)": ("raw.gauge 1",),
    "by_name['two']": ("raw.two",),
    "by_name.get('two')": ("raw.two",),
    "'x' if flag else 'y'": ("x", "y"),
    "', '.join(['a', either])": ("a, a", "a, b"),
    "textwrap.dedent('  x')": ("x",),
    "' x '.strip().upper()": ("X",),
    "list(by_name.items())[0]": (("one", "raw.one"),),
    "[1, 2][1]": (2,),
}


@pytest.mark.parametrize(("code", "values"), CONSTANT.items())
def test_constant_expressions(code: str, values: tuple[Any, ...]) -> None:
    """All values that are possible, and no others."""
    found = values_of(ast.parse(code, mode="eval").body, NAMES)
    assert found is not None
    assert [v if not isinstance(v, list) else tuple(v) for v in found] == list(values)


@pytest.mark.parametrize(
    "code",
    [
        "unknown",
        "f'{unknown}'",
        "open('x').read()",
        "'%s %s' % ('a',)",
        "by_name['three']",
        "'x' if flag else unknown",
        "'{:99999999999}'.format(1)",
        "f'{1:99999999999}'",
        "'%99999999999d' % 1",
        "list(range(10 ** 9))",
        "len(range(2_000_000_000))",
        "__import__('os').getcwd()",
        "().__class__",
        "{**unknown}",
        "'x'.join(*unknown)",
    ],
)
def test_whatever_is_not_constant_has_no_value(code: str) -> None:
    """And nothing is run, and no memory filled, to find that out."""
    assert values_of(ast.parse(code, mode="eval").body, NAMES) is None


def test_too_many_values_are_none() -> None:
    """They multiply with every part."""
    names = {"x": tuple(range(20))}
    assert values_of(ast.parse("f'{x}{x}'", mode="eval").body, names) is None
