"""What a notebook's code asks of its helper ``env``, found without running it.

Text is followed as far as it is constant: through names, f-strings and sums. Functions are followed
where they are called, those of the notebook itself and those of the project's libraries, with the
constants that the call hands them.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.tables import Column

_HELPER = "env"
_HELPER_MODULE = "inchworm.notebook"
_METHODS = frozenset({"query", "table", "value", "store", "measure"})
_DEPTH = 20
"""Calls within calls that are followed."""

_Function = ast.FunctionDef | ast.AsyncFunctionDef


class Place(NamedTuple):
    """Where something is asked: a file and a line."""

    file: str
    line: int


class Stored(NamedTuple):
    """A table that the notebook writes, with the columns that it promises."""

    table: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]


@dataclass
class Asked:
    """Every call of the helper."""

    queries: list[tuple[str, Place]] = field(default_factory=list)
    tables: list[tuple[str, Place]] = field(default_factory=list)
    values: list[tuple[str, Place]] = field(default_factory=list)
    stores: list[Stored] = field(default_factory=list)
    measures: list[str] = field(default_factory=list)
    not_followed: list[tuple[str, Place]] = field(default_factory=list)
    """In words what could not be followed."""


@dataclass
class Module:
    """Code with names of its own: the notebook, or a file of a library."""

    file: str
    constants: dict[str, str] = field(default_factory=dict)
    functions: dict[str, _Function] = field(default_factory=dict)
    imports: dict[str, str] = field(default_factory=dict)
    """The full dotted name of the module, or of the object in one, that a name stands for."""
    helpers: set[str] = field(default_factory=lambda: {_HELPER})


@dataclass
class CodeReader:
    """Follows the statements of one notebook.

    Args:
        dialect: the dialect of the types that stored columns promise.
        shared: files by path, the libraries among them.
    """

    dialect: str
    shared: Mapping[str, bytes]
    asked: Asked = field(default_factory=Asked)
    _libraries: dict[str, Module | None] = field(default_factory=dict)
    _called: set[int] = field(default_factory=set)
    _inside: list[int] = field(default_factory=list)

    def read(self, module: Module, statements: list[ast.stmt]) -> None:
        """Follow the statements of a cell, in the order in which they run."""
        for statement in statements:
            self._statement(module, statement)

    def finish(self, module: Module) -> None:
        """Functions that nobody called with constants are looked through as they are."""
        for function in module.functions.values():
            if id(function) not in self._called:
                self._follow(module, function, {})

    # ---- statements ---------------------------------------------------------------------------

    def _statement(self, module: Module, statement: ast.stmt) -> None:
        match statement:
            case ast.FunctionDef() | ast.AsyncFunctionDef():
                module.functions[statement.name] = statement
                return
            case ast.Import() | ast.ImportFrom():
                _note_import(module, statement)
                return
            case ast.Assign(targets=[ast.Name(id=name)], value=value):
                self._calls(module, value)
                _assign(module.constants, name, value)
                return
            case ast.If() | ast.For() | ast.AsyncFor() | ast.While() | ast.Try() | ast.With():
                self._block(module, statement)
                return
        self._calls(module, statement)
        _forget(module.constants, statement)

    def _block(self, module: Module, statement: ast.stmt) -> None:
        """A statement with statements inside; what they assign may or may not have happened."""
        is_loop = isinstance(statement, ast.For | ast.AsyncFor | ast.While)
        if is_loop:
            _forget(module.constants, statement)
        for child in ast.iter_child_nodes(statement):
            if isinstance(child, ast.stmt):
                self._statement(module, child)
            elif isinstance(child, ast.ExceptHandler):
                for inner in child.body:
                    self._statement(module, inner)
            else:
                self._calls(module, child)
        if not isinstance(statement, ast.With):
            _forget(module.constants, statement)

    def _calls(self, module: Module, node: ast.AST) -> None:
        for call in _in_order(node):
            match call.func:
                case ast.Attribute(value=ast.Name(id=name), attr=attr) if name in module.helpers:
                    self._helper_call(module, attr, call)
                    continue
            function = self._function(module, call.func)
            if function is not None:
                self._follow(*function, self._bound(module, function[1], call))

    def _follow(self, module: Module, function: _Function, bound: Mapping[str, str | None]) -> None:
        """Look through a function, its parameters being constants, or ``None`` for the helper."""
        self._called.add(id(function))
        if id(function) in self._inside or len(self._inside) >= _DEPTH:
            return
        parameters = {argument.arg for argument in _parameters(function)}
        inner = Module(
            file=module.file,
            constants={n: t for n, t in module.constants.items() if n not in parameters}
            | {n: text for n, text in bound.items() if text is not None},
            functions=dict(module.functions),
            imports=dict(module.imports),
            helpers=(module.helpers - parameters) | {n for n, t in bound.items() if t is None},
        )
        if _HELPER in parameters and _HELPER not in bound:
            inner.helpers.add(_HELPER)  # by its usual name, whoever calls it
        self._inside.append(id(function))
        for statement in function.body:
            self._statement(inner, statement)
        self._inside.pop()

    def _bound(self, module: Module, function: _Function, call: ast.Call) -> dict[str, str | None]:
        names = [argument.arg for argument in _parameters(function)]
        given = [*zip(names, call.args, strict=False)]
        given += [(k.arg, k.value) for k in call.keywords if k.arg is not None]
        defaults = function.args.defaults
        bound: dict[str, str | None] = {}
        for name, value in zip(names[len(names) - len(defaults) :], defaults, strict=False):
            text = text_of(value, module.constants)
            if text is not None:
                bound[name] = text
        for name, value in given:
            bound.pop(name, None)
            if isinstance(value, ast.Name) and value.id in module.helpers:
                bound[name] = None
            elif (text := text_of(value, module.constants)) is not None:
                bound[name] = text
        return bound

    # ---- what a name means --------------------------------------------------------------------

    def _function(self, module: Module, func: ast.expr) -> tuple[Module, _Function] | None:
        dotted = _dotted(func)
        if dotted is None:
            return None
        first, _, rest = dotted.partition(".")
        if not rest and first in module.functions:
            return module, module.functions[first]
        if first not in module.imports:
            return None
        full = ".".join(filter(None, (module.imports[first], rest)))
        where, _, name = full.rpartition(".")
        library = self._library(where)
        if library is None or name not in library.functions:
            return None
        return library, library.functions[name]

    def _library(self, dotted: str) -> Module | None:
        """The project's own module of that name, if there is one that can be read."""
        if not dotted:
            return None
        if dotted not in self._libraries:
            self._libraries[dotted] = None  # for modules that import each other
            self._libraries[dotted] = self._read_library(dotted)
        return self._libraries[dotted]

    def _read_library(self, dotted: str) -> Module | None:
        base = f"library/{dotted.replace('.', '/')}"
        for path in (f"{base}.py", f"{base}/__init__.py"):
            content = self.shared.get(path)
            if content is None:
                continue
            try:
                tree = ast.parse(content)
            except (SyntaxError, ValueError):
                return None  # reported with the library
            module = Module(file=path)
            for statement in tree.body:
                if isinstance(statement, _Function | ast.Import | ast.ImportFrom):
                    self._statement(module, statement)
                elif isinstance(statement, ast.Assign) and len(statement.targets) == 1:
                    target = statement.targets[0]
                    if isinstance(target, ast.Name):
                        _assign(module.constants, target.id, statement.value)
            return module
        return None

    # ---- the helper ---------------------------------------------------------------------------

    def _helper_call(self, module: Module, method: str, call: ast.Call) -> None:
        if method not in _METHODS:
            return
        place = Place(module.file, call.lineno)
        given = {k.arg: k.value for k in call.keywords if k.arg}
        argument = call.args[0] if call.args else next(iter(given.values()), None)
        first = None if argument is None else text_of(argument, module.constants)
        if first is None:
            reason = f"the first argument of env.{method} is not constant"
            self.asked.not_followed.append((reason, place))
            return
        match method:
            case "query":
                self.asked.queries.append((first, place))
            case "table":
                self.asked.tables.append((first.lower(), place))
            case "value":
                self.asked.values.append((first, place))
            case "measure":
                self.asked.measures.append(first)
            case "store":
                columns = self._columns(module, given.get("columns"))
                key = _names(given.get("key"), module.constants)
                self.asked.stores.append(Stored(first.lower(), columns, key))

    def _columns(self, module: Module, node: ast.expr | None) -> tuple[Column, ...]:
        if not isinstance(node, ast.Dict):
            return ()
        pairs = [
            (text_of(name, module.constants), text_of(value, module.constants))
            for name, value in zip(node.keys, node.values, strict=True)
            if name is not None
        ]
        return tuple(
            Column(name.lower(), normal_type(kind, self.dialect))
            for name, kind in pairs
            if name is not None and kind is not None
        )


def text_of(node: ast.expr, constants: Mapping[str, str]) -> str | None:
    """The text of a string that is constant, f-strings of constants included."""
    match node:
        case ast.Constant(value=str(text)):
            return text
        case ast.Name(id=name):
            return constants.get(name)
        case ast.FormattedValue(value=value, conversion=-1, format_spec=None):
            return text_of(value, constants)
        case ast.JoinedStr(values=pieces):
            texts = [text_of(piece, constants) for piece in pieces]
            return None if None in texts else "".join(t for t in texts if t is not None)
        case ast.BinOp(left=left, op=ast.Add(), right=right):
            one, other = text_of(left, constants), text_of(right, constants)
            return None if one is None or other is None else one + other
    return None


def _names(node: ast.expr | None, constants: Mapping[str, str]) -> tuple[str, ...]:
    items = node.elts if isinstance(node, ast.List | ast.Tuple) else []
    return tuple(t.lower() for item in items if (t := text_of(item, constants)) is not None)


def _assign(constants: dict[str, str], name: str, value: ast.expr) -> None:
    text = text_of(value, constants)
    constants.pop(name, None)
    if text is not None:
        constants[name] = text


def _forget(constants: dict[str, str], statement: ast.stmt) -> None:
    """Names that a statement gives values that are not followed."""
    for node in ast.walk(statement):
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store | ast.Del):
            constants.pop(node.id, None)


def _note_import(module: Module, statement: ast.Import | ast.ImportFrom) -> None:
    if isinstance(statement, ast.Import):
        for alias in statement.names:
            name = alias.asname or alias.name.partition(".")[0]
            module.imports[name] = alias.name if alias.asname else name
        return
    base = statement.module or ""
    if statement.level:  # relative: from .levels import load, in library/riverlib/x.py
        package = module.file.removeprefix("library/").split("/")[: -statement.level]
        base = ".".join([*package, *filter(None, [base])])
    for alias in statement.names:
        name = alias.asname or alias.name
        module.imports[name] = f"{base}.{alias.name}"
        if base == _HELPER_MODULE and alias.name == _HELPER:
            module.helpers.add(name)


def _parameters(function: _Function) -> list[ast.arg]:
    return [*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs]


def _dotted(node: ast.expr) -> str | None:
    match node:
        case ast.Name(id=name):
            return name
        case ast.Attribute(value=value, attr=attr):
            before = _dotted(value)
            return f"{before}.{attr}" if before else None
    return None


def _in_order(node: ast.AST) -> Iterator[ast.Call]:
    """All calls within, inner ones and those written first before the others."""
    for child in ast.iter_child_nodes(node):
        yield from _in_order(child)
    if isinstance(node, ast.Call):
        yield node
