"""What a notebook's code asks of its helper ``env``, found without running it.

Text is followed as far as it is constant: through names, formats, dictionaries, branches and loops
over constants. Functions are followed where they are called, those of the notebook itself and those
of the project's libraries, with the constants that the call hands them. Other ways to read and
write tables (pandas, connections, Spark) are followed where their SQL can be seen.
"""

from __future__ import annotations

import ast
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from msgspec import Struct, field

from inchworm.core.sql.type_names import normal_type
from inchworm.core.structure.tables import Column
from inchworm.kinds.constant_values import MOST, Values, distinct, texts_of, values_of
from inchworm.kinds.notebook_readers import Other, other_call

HELPER = "inchworm.notebook.env"
_HELPER_CLASS = "inchworm.notebook.Surroundings"
_USUAL_NAME = "env"
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


class Asked(Struct):
    """Every call of the helper."""

    queries: list[tuple[str, Place]] = field(default_factory=list)
    tables: list[tuple[str, Place]] = field(default_factory=list)
    values: list[tuple[str, Place]] = field(default_factory=list)
    stores: list[Stored] = field(default_factory=list)
    measures: list[str] = field(default_factory=list)
    others: list[tuple[Other, Place]] = field(default_factory=list)
    """Other ways of reading and writing tables."""
    functions: dict[str, Place] = field(default_factory=dict)
    """Functions of libraries that are called, by dotted name."""
    missing: list[tuple[str, Place]] = field(default_factory=list)
    """Imports of what the project's libraries do not have, by dotted name."""
    not_followed: list[tuple[str, Place]] = field(default_factory=list)
    """In words what could not be followed."""


class Module(Struct):
    """Code with names of its own: the notebook, or a file of a library."""

    file: str
    constants: dict[str, Values] = field(default_factory=dict)
    """The possible values of names."""
    functions: dict[str, _Function] = field(default_factory=dict)
    imports: dict[str, str] = field(default_factory=lambda: {_USUAL_NAME: HELPER})
    """The full dotted name of the module, or of the object in one, that a name stands for."""
    names: frozenset[str] = frozenset()
    """Of a file of a library, all names that it gives to others."""


class CodeReader(Struct):
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
            case ast.Import() | ast.ImportFrom():
                self._import(module, statement)
            case ast.Assign(targets=[ast.Name(id=name)], value=value):
                self._calls(module, value)
                self._assign(module, name, value)
            case ast.AnnAssign(target=ast.Name(id=name), value=ast.expr() as value):
                self._calls(module, value)
                self._assign(module, name, value)
            case ast.AugAssign(target=ast.Name(id=name) as target, op=op, value=value):
                self._calls(module, value)
                before = ast.Name(id=target.id, ctx=ast.Load())
                self._assign(module, name, ast.BinOp(left=before, op=op, right=value))
            case ast.If():
                self._calls(module, statement.test)
                self._either(module, statement.body, statement.orelse)
            case ast.For() | ast.AsyncFor():
                self._loop(module, statement)
            case ast.While() | ast.Try() | ast.With() | ast.AsyncWith() | ast.Match():
                self._block(module, statement)
            case _:
                self._calls(module, statement)
                _forget(module.constants, statement)

    def _assign(self, module: Module, name: str, value: ast.expr) -> None:
        """A name gets the values of an expression, or stands for the same thing as another."""
        values = values_of(value, module.constants)
        named = value.func if isinstance(value, ast.Call) else value
        meant = self._meant(module, named)
        function = module.functions.get(value.id) if isinstance(value, ast.Name) else None
        for known in (module.constants, module.functions, module.imports):
            known.pop(name, None)
        if values is not None:
            module.constants[name] = values
        elif function is not None:
            module.functions[name] = function
        elif isinstance(value, ast.Call):
            if meant == _HELPER_CLASS:
                module.imports[name] = HELPER
            elif meant is not None:
                module.imports[name] = f"{meant}()"
        elif meant is not None:
            module.imports[name] = meant

    def _either(self, module: Module, *ways: list[ast.stmt]) -> None:
        """Statements of which one list runs: afterwards each name has the values of all ways."""
        before, after = dict(module.constants), []
        for way in ways:
            module.constants = dict(before)
            self.read(module, way)
            after.append(module.constants)
        first, *others = after
        module.constants = {
            name: distinct(first[name], *(other[name] for other in others))
            for name in first
            if all(name in other for other in others)
        }

    def _loop(self, module: Module, loop: ast.For | ast.AsyncFor) -> None:
        """A loop; over constants, its body once for each of them."""
        self._calls(module, loop.iter)
        items = values_of(loop.iter, module.constants)
        if items is not None and len(items) == 1 and _is_listed(items[0]):
            for item in items[0]:
                _forget(module.constants, loop.target)
                _unpack(module.constants, loop.target, item)
                self.read(module, loop.body)
            self.read(module, loop.orelse)
            return
        self._block(module, loop)

    def _block(self, module: Module, statement: ast.stmt) -> None:
        """A statement with statements inside; what they assign may or may not have happened."""
        if isinstance(statement, ast.For | ast.AsyncFor | ast.While):
            _forget(module.constants, statement)
        for child in ast.iter_child_nodes(statement):
            if isinstance(child, ast.stmt):
                self._statement(module, child)
            elif isinstance(child, ast.ExceptHandler | ast.match_case):
                self.read(module, child.body)
            elif isinstance(child, ast.withitem):
                self._calls(module, child)
                if isinstance(child.optional_vars, ast.Name):
                    self._assign(module, child.optional_vars.id, child.context_expr)
            else:
                self._calls(module, child)
        if not isinstance(statement, ast.With | ast.AsyncWith):
            _forget(module.constants, statement)

    def _calls(self, module: Module, node: ast.AST) -> None:
        for call in _in_order(node):
            meant = self._meant(module, call.func)
            owner, _, method = (meant or "").rpartition(".")
            if owner == HELPER:
                self._helper_call(module, method, call)
                continue
            function = self._function(module, call.func)
            if function is not None:
                if function[0] is not module and meant is not None:
                    self.asked.functions.setdefault(meant, Place(module.file, call.lineno))
                self._follow(*function, self._bound(module, function[1], call))
                continue
            for other in other_call(call, meant, module.constants):
                self.asked.others.append((other, Place(module.file, call.lineno)))

    def _follow(
        self, module: Module, function: _Function, bound: Mapping[str, Values | str]
    ) -> None:
        """Look through a function with the values, or names of objects, of its parameters."""
        self._called.add(id(function))
        if id(function) in self._inside or len(self._inside) >= _DEPTH:
            return
        parameters = {argument.arg for argument in _parameters(function)}
        objects = {n: meant for n, meant in bound.items() if isinstance(meant, str)}
        values = {n: v for n, v in bound.items() if not isinstance(v, str)}
        inner = Module(
            file=module.file,
            constants=_without(module.constants, parameters) | values,
            functions=dict(module.functions),
            imports=_without(module.imports, parameters) | objects,
        )
        if _USUAL_NAME in parameters and _USUAL_NAME not in bound:
            inner.imports[_USUAL_NAME] = HELPER  # by its usual name, whoever calls it
        self._inside.append(id(function))
        self.read(inner, function.body)
        self._inside.pop()

    def _bound(
        self, module: Module, function: _Function, call: ast.Call
    ) -> dict[str, Values | str]:
        """The values of a call's arguments, or the objects that they name, by parameter."""
        names = [argument.arg for argument in _parameters(function)]
        defaults = function.args.defaults
        bound: dict[str, Values | str] = {}
        for name, value in zip(names[len(names) - len(defaults) :], defaults, strict=False):
            values = values_of(value, module.constants)
            if values is not None:
                bound[name] = values
        given = [*zip(names, call.args, strict=False)]
        given += [(k.arg, k.value) for k in call.keywords if k.arg is not None]
        for name, value in given:
            bound.pop(name, None)
            values = values_of(value, module.constants)
            meant = self._meant(module, value)
            if values is not None:
                bound[name] = values
            elif meant is not None:
                bound[name] = meant
        return bound

    # ---- what a name means --------------------------------------------------------------------

    @staticmethod
    def _meant(module: Module, node: ast.AST) -> str | None:
        """The full dotted name of what a name stands for; None of one that was never imported."""
        dotted = _dotted(node)
        if dotted is None:
            return None
        first, dot, rest = dotted.partition(".")
        root, _, called = first.partition("(")
        if root not in module.imports:
            return None
        return module.imports[root] + ("()" if called else "") + dot + rest

    def _import(self, module: Module, statement: ast.Import | ast.ImportFrom) -> None:
        """Note what names stand for; imports of what a library does not have are missing."""
        place = Place(module.file, statement.lineno)
        if isinstance(statement, ast.Import):
            for alias in statement.names:
                name = alias.asname or alias.name.partition(".")[0]
                module.imports[name] = alias.name if alias.asname else name
                if self._is_ours(alias.name) and not self._has_module(alias.name):
                    self.asked.missing.append((alias.name, place))
            return
        base = statement.module or ""
        if statement.level:  # relative: from .levels import load, in library/riverlib/x.py
            package = module.file.removeprefix("library/").split("/")[: -statement.level]
            base = ".".join([*package, *filter(None, [base])])
        for alias in statement.names:
            full = f"{base}.{alias.name}"
            module.imports[alias.asname or alias.name] = full
            if alias.name != "*" and self._is_ours(base) and not self._has(base, alias.name):
                self.asked.missing.append((full, place))

    def _is_ours(self, dotted: str) -> bool:
        """Whether a module belongs to one of the project's libraries."""
        folder = f"library/{dotted.partition('.')[0]}/"
        return any(path.startswith(folder) for path in self.shared)

    def _has_module(self, dotted: str) -> bool:
        base = f"library/{dotted.replace('.', '/')}"
        is_file = f"{base}.py" in self.shared or f"{base}/__init__.py" in self.shared
        return is_file or any(path.startswith(f"{base}/") for path in self.shared)

    def _has(self, base: str, name: str) -> bool:
        """Whether a library's module has a function, class, value or module of that name."""
        if self._has_module(f"{base}.{name}"):
            return True
        library = self._library(base)
        if library is None:  # a folder without code of its own; or code that cannot be read
            file = f"library/{base.replace('.', '/')}"
            return f"{file}.py" in self.shared or f"{file}/__init__.py" in self.shared
        return name in library.names or "*" in library.names

    def _function(self, module: Module, func: ast.expr) -> tuple[Module, _Function] | None:
        dotted = _dotted(func)
        if dotted is None:
            return None
        if dotted in module.functions:
            return module, module.functions[dotted]
        where, _, name = (self._meant(module, func) or "").rpartition(".")
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
            module = Module(file=path, names=frozenset(_names_made(tree)))
            for statement in tree.body:
                if isinstance(statement, _Function | ast.Import | ast.ImportFrom):
                    self._statement(module, statement)
                elif isinstance(statement, ast.Assign) and len(statement.targets) == 1:
                    target = statement.targets[0]
                    if isinstance(target, ast.Name):
                        self._assign(module, target.id, statement.value)
            return module
        return None

    # ---- the helper ---------------------------------------------------------------------------

    def _helper_call(self, module: Module, method: str, call: ast.Call) -> None:
        if method not in _METHODS:
            return
        place = Place(module.file, call.lineno)
        given = {k.arg: k.value for k in call.keywords if k.arg}
        argument = call.args[0] if call.args else next(iter(given.values()), None)
        texts = None if argument is None else texts_of(argument, module.constants)
        if texts is None:
            reason = f"the first argument of env.{method} is not constant"
            self.asked.not_followed.append((reason, place))
            return
        for text in texts:
            self._asked_for(module, method, text, given, place)

    def _asked_for(
        self, module: Module, method: str, text: str, given: Mapping[str, ast.expr], place: Place
    ) -> None:
        match method:
            case "query":
                self.asked.queries.append((text, place))
            case "table":
                self.asked.tables.append((text.lower(), place))
            case "value":
                self.asked.values.append((text, place))
            case "measure":
                self.asked.measures.append(text)
            case "store":
                columns = self._columns(module, given.get("columns"))
                key = _names(given.get("key"), module.constants)
                self.asked.stores.append(Stored(text.lower(), columns, key))

    def _columns(self, module: Module, node: ast.expr | None) -> tuple[Column, ...]:
        values = None if node is None else values_of(node, module.constants)
        if values is None or len(values) != 1 or not isinstance(values[0], dict):
            return ()
        return tuple(
            Column(str(name).lower(), normal_type(str(kind), self.dialect))
            for name, kind in values[0].items()
        )


def _names(node: ast.expr | None, constants: Mapping[str, Values]) -> tuple[str, ...]:
    values = None if node is None else values_of(node, constants)
    listed = values[0] if values is not None and len(values) == 1 else ()
    return tuple(str(name).lower() for name in listed) if _is_listed(listed) else ()


def _is_listed(value: Any) -> bool:
    return isinstance(value, list | tuple | dict) and len(value) <= MOST


def _unpack(constants: dict[str, Values], target: ast.expr, value: Any) -> None:
    """Give the names of a loop's target their values."""
    if isinstance(target, ast.Name):
        constants[target.id] = (value,)
    elif isinstance(target, ast.Tuple | ast.List) and isinstance(value, list | tuple):
        for inner, part in zip(target.elts, value, strict=False):
            _unpack(constants, inner, part)


def _without(names: Mapping[str, Any], left_out: Iterable[str]) -> dict[str, Any]:
    return {name: value for name, value in names.items() if name not in set(left_out)}


def _forget(constants: dict[str, Values], node: ast.AST) -> None:
    """Names that a statement gives values that are not followed."""
    for inner in ast.walk(node):
        if isinstance(inner, ast.Name) and isinstance(inner.ctx, ast.Store | ast.Del):
            constants.pop(inner.id, None)


def _names_made(tree: ast.Module) -> Iterator[str]:
    """All names that a module gives to others; ``*`` where it takes over those of another one."""
    for node in ast.walk(tree):
        match node:
            case (
                ast.FunctionDef(name=name)
                | ast.AsyncFunctionDef(name=name)
                | ast.ClassDef(name=name)
            ):
                yield name
            case ast.Import(names=aliases) | ast.ImportFrom(names=aliases):
                for alias in aliases:
                    yield alias.asname or alias.name.partition(".")[0]
            case ast.Name(id=name, ctx=ast.Store()):
                yield name


def _parameters(function: _Function) -> list[ast.arg]:
    return [*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs]


def _dotted(node: ast.AST) -> str | None:
    """``a.b.c`` of a name with attributes; a call in between is ``()``."""
    match node:
        case ast.Name(id=name):
            return name
        case ast.Attribute(value=value, attr=attr):
            before = _dotted(value)
            return f"{before}.{attr}" if before else None
        case ast.Call(func=func):
            before = _dotted(func)
            return f"{before}()" if before else None
    return None


def _in_order(node: ast.AST) -> Iterator[ast.Call]:
    """All calls within, inner ones and those written first before the others."""
    for child in ast.iter_child_nodes(node):
        yield from _in_order(child)
    if isinstance(node, ast.Call):
        yield node
