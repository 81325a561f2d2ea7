"""From logical SQL to what one database runs: parameters become literals, logical names real ones.

Values enter through the syntax tree and never as text, so a hostile value stays a value.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import TypeVar

from sqlglot import exp
from sqlglot.tokenizer_core import Token, TokenType

from inchworm.core.sql.names import fold, table_name
from inchworm.core.sql.parse import parse_statements, tokens_of
from inchworm.core.values import Type, Value

_DEEP = 100

Query = TypeVar("Query", bound=exp.Expr)


def parameters_in(query: exp.Expr) -> list[str]:
    """The named parameters (``:name``) of a query, sorted."""
    return sorted({p.this for p in query.find_all(exp.Placeholder) if isinstance(p.this, str)})


def line_of_parameter(name: str, text: str) -> int | None:
    """The line on which ``:name`` first stands; the syntax tree does not know it."""
    found = re.search(rf":{re.escape(name)}\b", text)
    return text.count("\n", 0, found.start()) + 1 if found else None


def literal(value: Value) -> exp.Expr:
    """A value as a typed literal.

    Raises:
        ValueError: for a secret, which must never stand in SQL text.
    """
    if value.type is Type.SECRET:
        raise ValueError("a secret cannot be used in SQL")
    match value.plain:
        case None:
            return exp.Null()
        case bool():
            return exp.Boolean(this=value.plain)
        case dt.datetime():
            kind = "TIMESTAMPTZ" if value.plain.tzinfo else "TIMESTAMP"
            return exp.cast(exp.Literal.string(value.text), kind)
        case dt.date():
            return exp.cast(exp.Literal.string(value.text), "DATE")
        case dt.timedelta():
            seconds = str(int(value.plain.total_seconds()))
            return exp.Interval(this=exp.Literal.string(seconds), unit=exp.Var(this="SECOND"))
        case int() | Decimal():
            number = exp.Literal.number(str(abs(value.plain)))
            return exp.Paren(this=exp.Neg(this=number)) if value.plain < 0 else number
    return exp.Literal.string(value.text)


def with_values(query: Query, values: Mapping[str, Value]) -> Query:
    """A copy of the query with its named parameters replaced by literals.

    Raises:
        KeyError: with the name of a parameter that has no value.
        ValueError: when a parameter is a secret.
    """
    copy: Query = query.copy()
    for placeholder in list(copy.find_all(exp.Placeholder)):
        if isinstance(placeholder.this, str):
            placeholder.replace(literal(values[placeholder.this]))
    return copy


def with_tables(query: Query, real_name: Callable[[str], str], dialect: str) -> Query:
    """A copy of the query that reads each ``schema.table`` under the name it really has.

    A renamed table keeps its old name as alias, so that qualified columns go on working.
    """
    copy: Query = query.copy()
    for table in list(copy.find_all(exp.Table)):
        if not isinstance(table.this, exp.Identifier) or not table.args.get("db"):
            continue
        logical = table_name(table, dialect)
        real = real_name(logical)
        if real == logical:
            continue
        schema, _, name = real.rpartition(".")
        if not table.args.get("alias"):
            table.set("alias", exp.TableAlias(this=table.this.copy()))
        table.set("this", exp.to_identifier(name, quoted=True))
        table.set("db", exp.to_identifier(schema, quoted=True))
    for column in copy.find_all(exp.Column):
        if column.args.get("db"):
            column.set("catalog", None)
            column.set("db", None)
    return copy


def with_real_names(
    statement: str, real_schema: Callable[[str], str], dialect: str, target: str
) -> str:
    """A statement of a script for a database whose schemas have other names.

    Within one dialect only the names change, and no other letter. Otherwise the statement is told
    anew in the other dialect.

    Raises:
        SqlProblem: when the statement does not parse.
    """
    if dialect == target:
        return _with_names_replaced(statement, real_schema, dialect)
    (tree,) = parse_statements(statement, dialect)
    for node in list(tree.find_all(exp.Table, exp.Column)):
        schema = node.args.get("db")
        if isinstance(schema, exp.Identifier):
            real = real_schema(fold(schema, dialect))
            node.set("db", exp.to_identifier(real, quoted=True))
    return to_text(_as_sqlite_names(tree) if target == "sqlite" else tree, target)


def _as_sqlite_names(tree: exp.Expr) -> exp.Expr:
    """SQLite wants an index's schema before its own name, and none before a referred table."""
    for reference in tree.find_all(exp.Reference):
        table = reference.find(exp.Table)
        if table is not None:
            table.set("db", None)
    index = tree.this if isinstance(tree, exp.Create) else None
    if isinstance(index, exp.Index) and isinstance(index.args.get("table"), exp.Table):
        on = index.args["table"]
        index.set("this", exp.table_(index.this, db=on.args.get("db")))
        on.set("db", None)
        for column in index.find_all(exp.Ordered):  # an index of SQLite has its nulls first
            column.set("nulls_first", not column.args.get("desc"))
    return tree


_NAME = frozenset({TokenType.VAR, TokenType.IDENTIFIER})
_OF_SEQUENCES = frozenset({"nextval", "currval", "setval"})


def _with_names_replaced(statement: str, real_schema: Callable[[str], str], dialect: str) -> str:
    """Every ``schema.`` replaced, also in texts that stand for a sequence's name."""
    tokens = tokens_of(statement, dialect)
    pieces: list[str] = []
    at = 0
    for i, token in enumerate(tokens):
        following = tokens[i + 1].token_type if i + 1 < len(tokens) else None
        before = tokens[i - 1].token_type if i else None
        if following is TokenType.DOT and before is not TokenType.DOT and token.token_type in _NAME:
            is_quoted = token.token_type is TokenType.IDENTIFIER
            name = fold(exp.to_identifier(token.text, quoted=is_quoted), dialect)
            new = exp.to_identifier(real_schema(name), quoted=True).sql(dialect=dialect)
            if real_schema(name) == name:
                continue
        elif token.token_type is TokenType.STRING and _names_a_relation(tokens, i):
            schema, dot, rest = token.text.partition(".")
            if not dot or real_schema(schema.lower()) == schema.lower():
                continue
            new = exp.Literal.string(f"{real_schema(schema.lower())}.{rest}").sql(dialect=dialect)
        else:
            continue
        pieces += [statement[at : token.start], new]
        at = token.end + 1
    return "".join([*pieces, statement[at:]])


def _names_a_relation(tokens: Sequence[Token], at: int) -> bool:
    """Whether a text is the argument of ``nextval`` and the like, or cast to ``regclass``."""
    called = tokens[at - 2].text.lower() if at >= 2 else ""
    cast_to = tokens[at + 2].text.lower() if at + 2 < len(tokens) else ""
    return called in _OF_SEQUENCES or cast_to == "regclass"


def to_text(query: exp.Expr, dialect: str) -> str:
    """SQL text without comments: the same meaning always gives the same text.

    On readable lines, unless it is nested so deeply that laying it out would take minutes.
    """
    return query.sql(dialect=dialect, pretty=not _is_deep(query), comments=False)


def _is_deep(query: exp.Expr) -> bool:
    waiting = [(query, 0)]
    while waiting:
        node, depth = waiting.pop()
        if depth > _DEEP:
            return True
        waiting.extend((child, depth + 1) for child in node.iter_expressions())
    return False
