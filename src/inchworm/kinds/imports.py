"""The modules that Python code imports, and cannot do without."""

from __future__ import annotations

import ast
from collections.abc import Iterable, Iterator


def imported_modules(statements: Iterable[ast.stmt]) -> Iterator[tuple[str, int]]:
    """The top-level modules that statements import, each with the line where.

    What is tried, with another way where it fails, is left out; so are relative imports.
    """
    waiting: list[ast.AST] = list(statements)
    while waiting:
        node = waiting.pop()
        if isinstance(node, ast.Import):
            yield from ((alias.name.partition(".")[0], node.lineno) for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            if not node.level and node.module:
                yield node.module.partition(".")[0], node.lineno
        elif isinstance(node, ast.Try) and any(map(_catches_imports, node.handlers)):
            waiting += [*node.orelse, *node.finalbody]
        elif isinstance(node, ast.If) and _is_for_types(node.test):
            waiting += node.orelse
        else:
            waiting += ast.iter_child_nodes(node)


_IMPORT_ERRORS = frozenset({"ImportError", "ModuleNotFoundError", "Exception", "BaseException"})


def _catches_imports(handler: ast.ExceptHandler) -> bool:
    if handler.type is None:
        return True
    names = {node.id for node in ast.walk(handler.type) if isinstance(node, ast.Name)}
    return not names.isdisjoint(_IMPORT_ERRORS)


def _is_for_types(test: ast.expr) -> bool:
    """Whether a condition only holds for whoever checks types."""
    return "TYPE_CHECKING" in {
        node.id if isinstance(node, ast.Name) else node.attr
        for node in ast.walk(test)
        if isinstance(node, ast.Name | ast.Attribute)
    }
