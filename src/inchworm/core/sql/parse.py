"""From text to syntax trees, keeping line numbers."""

from __future__ import annotations

import re
import sys
from collections.abc import Iterable

import sqlglot
from msgspec import Struct
from sqlglot import exp
from sqlglot.errors import SqlglotError
from sqlglot.tokens import Token, TokenType

from inchworm.core.conflicts import UNRESOLVED, conflict_line
from inchworm.core.sql.declared import Declaring
from inchworm.core.sql.names import line_of
from inchworm.core.sql.only_reads import STATEMENTS, check_only_reads
from inchworm.core.sql.problems import NotAQuery, SqlProblem

_OPEN, _CLOSE = "/*---", "---*/"
MAYBE_PARAMETER = re.compile(r"(?<![:\w]):[A-Za-z_]")
"""Text without this has no named parameter."""
_CASE_COUNTS = frozenset({TokenType.VAR, TokenType.IDENTIFIER, TokenType.STRING})
_OPERANDS = frozenset(
    {
        TokenType.VAR,
        TokenType.IDENTIFIER,
        TokenType.STRING,
        TokenType.NUMBER,
        TokenType.R_PAREN,
        TokenType.R_BRACKET,
    }
)


class SqlText(Struct, frozen=True):
    """A ``.sql`` file split into its settings comment and its SQL.

    Both keep their line numbers: what was cut away is replaced by empty lines.
    """

    settings: str
    sql: str


def split_settings(text: str) -> SqlText:
    """Separate a leading ``/*--- ... ---*/`` settings comment from the SQL.

    Raises:
        SqlProblem: when the comment is not closed.
    """
    stripped = text.lstrip()
    if not stripped.startswith(_OPEN):
        return SqlText("", text)
    start = len(text) - len(stripped)
    end = text.find(_CLOSE, start)
    if end < 0:
        line = text.count("\n", 0, start) + 1
        raise SqlProblem(f"the settings comment is not closed with {_CLOSE}", line)
    settings = text[start + len(_OPEN) : end]
    lead = "\n" * text.count("\n", 0, start)
    rest = "\n" * text.count("\n", 0, end) + text[end + len(_CLOSE) :]
    return SqlText(lead + settings, rest)


def parse_statements(text: str, dialect: str) -> list[exp.Expr]:
    """All statements of a script.

    Raises:
        SqlProblem: when the text does not parse.
    """
    _allow_deep_trees()
    try:
        trees = sqlglot.parse(_with_dollars(text, dialect), read=dialect)
        whole = [_with_actions(statement, dialect) for statement in trees if statement is not None]
        if _EMPTY_PART.search(text):
            _check_names(whole)
        return [_with_dotted(s) for s in whole] if MAYBE_PARAMETER.search(text) else whole
    except SqlglotError as error:
        raise _problem(error, text) from error
    except SqlProblem:
        raise
    except RecursionError as error:
        raise SqlProblem("is nested too deeply to be read", None) from error
    except Exception as error:  # one text that the parser fails on ends nothing else
        raise SqlProblem(f"cannot be read: the parser fails on it ({error})", None) from error


def _with_actions(statement: exp.Expr, dialect: str) -> exp.Expr:
    """``ALTER TABLE t DROP c`` as a tree, also in dialects whose parser keeps it as a text."""
    actions = statement.args.get("actions") if isinstance(statement, exp.Alter) else None
    if not any(isinstance(action, exp.Command) for action in actions or []):
        return statement
    try:
        return sqlglot.parse_one(statement.sql(dialect=dialect), read="postgres")
    except SqlglotError:
        return statement


_EMPTY_PART = re.compile(r"\.\s*\.")


def _check_names(statements: Iterable[exp.Expr]) -> None:
    """Refuse names of tables with two dots in a row, which no database reads, but the parser."""
    for statement in statements:
        for table in statement.find_all(exp.Table):
            if any(table.args.get(part) == "" for part in ("db", "catalog")):
                reason = f"a name has nothing between two dots, near {table.name}"
                raise SqlProblem(reason, line_of(table))


def _with_dollars(text: str, dialect: str) -> str:
    """DuckDB's own spelling ``$name`` for our ``:name``, of the same length.

    DuckDB also has ``alias: expression``, for which its parser takes the colon of ``SELECT :name``.
    A colon is a parameter's when a name follows it at once, and no operand stands before it.
    """
    if dialect != "duckdb" or not MAYBE_PARAMETER.search(text):
        return text
    characters = list(text)
    tokens = sqlglot.tokenize(text, read=dialect)
    for before, colon, name in zip([None, *tokens], tokens, tokens[1:], strict=False):
        if (
            colon.token_type is TokenType.COLON
            and name.start == colon.end + 1
            and name.text.isidentifier()
            and (before is None or before.token_type not in _OPERANDS)
        ):
            characters[colon.start] = "$"
    return "".join(characters)


def _with_dotted(statement: exp.Expr) -> exp.Expr:
    """``:nightly.batch`` is one parameter, though it parses as a field of another one."""
    for placeholder in list(statement.find_all(exp.Placeholder)):
        at: exp.Expr = placeholder
        name = str(placeholder.this)
        while isinstance(at.parent, exp.Dot) and isinstance(at.parent.expression, exp.Identifier):
            at = at.parent
            name = f"{name}.{at.expression.name}"
        if at is not placeholder:
            at.replace(exp.Placeholder(this=name))
    return statement


def parse_query(text: str, dialect: str, declared: Declaring | None = None) -> exp.Query:
    """The one SELECT that a model or a check consists of.

    Args:
        text: the query.
        dialect: its dialect.
        declared: the names of the own database among them are taken out of three-part names.

    Raises:
        SqlProblem: when the text does not parse, or is not exactly one query.
        WritingQuery: when a part of it writes: a statement in a CTE, SELECT INTO, a call.
        NameFromParameter: when a parameter stands where a name has to.
    """
    _allow_deep_trees()
    statements = parse_statements(text, dialect)
    if not statements:
        raise SqlProblem("has no SELECT", None)
    if len(statements) > 1:
        raise SqlProblem(
            "has more than one statement; a model is one SELECT", line_of(statements[1])
        )
    query = statements[0].unnest() if isinstance(statements[0], exp.Paren) else statements[0]
    if isinstance(query, exp.Pivot):  # DuckDB's statement form
        return exp.select("*").from_(exp.Subquery(this=query))
    if not isinstance(query, exp.Query):
        if isinstance(query, STATEMENTS):
            raise NotAQuery(f"is {query.key.upper()}, not a SELECT", line_of(query))
        raise SqlProblem("has no SELECT", line_of(query))
    check_only_reads(query, text)
    if declared is not None and _THREE_PARTS.search(text):
        _leave_own_catalogue(query, declared)
    return query


_PART = r"""(?:\w+|"[^"]*"|`[^`]*`|\[[^]]*\])"""
_THREE_PARTS = re.compile(rf"\.\s*{_PART}\s*\.")
"""Text without it has no name of three parts."""


def _leave_own_catalogue(query: exp.Expr, declared: Declaring) -> None:
    """Take the name of the environment's own database out of three-part names."""
    named = [n for n in query.find_all(exp.Table, exp.Column) if n.args.get("catalog") is not None]
    own = declared().own if named else frozenset()
    for node in named:
        if node.args["catalog"].name.lower() in own:
            node.set("catalog", None)


_DEEPEST = 10_000
"""Calls that a walk over a syntax tree may nest: generated queries are hundreds of levels deep,
and each level takes several calls. Since 3.11 a call of Python takes no room of the C stack."""


def _allow_deep_trees() -> None:
    """Let whatever walks over a tree that is about to be parsed nest as deeply as the tree."""
    if sys.getrecursionlimit() < _DEEPEST:
        sys.setrecursionlimit(_DEEPEST)


def tokens_of(text: str, dialect: str) -> list[Token]:
    """The tokens of a text, each with its place in it.

    Raises:
        SqlProblem: when the text cannot be cut into tokens.
    """
    _allow_deep_trees()
    try:
        return sqlglot.tokenize(text, read=dialect)
    except SqlglotError as error:
        raise _problem(error, text) from error


def split_script(text: str, dialect: str) -> list[str]:
    """The statements of a script as written, without changing a character between semicolons.

    Raises:
        SqlProblem: when the text cannot be cut into tokens.
    """
    tokens = tokens_of(text, dialect)
    pieces: list[str] = []
    start: int | None = None
    end = 0
    for token in tokens:
        if token.token_type is TokenType.SEMICOLON:
            if start is not None:
                pieces.append(text[start : end + 1])
            start = None
            continue
        start = token.start if start is None else start
        end = token.end
    if start is not None:
        pieces.append(text[start : end + 1])
    return pieces


_DEFINES = frozenset({"CREATE", "ALTER", "DROP", "COMMENT", "GRANT", "REVOKE"})


def only_defines(text: str, dialect: str) -> bool:
    """Whether a script has statements about structure and rights alone, and none about rows.

    Raises:
        SqlProblem: when the text cannot be cut into tokens.
    """
    at_start = True
    for token in tokens_of(text, dialect):
        if at_start and token.text.upper() not in _DEFINES | {";"}:
            return False
        at_start = token.token_type is TokenType.SEMICOLON
    return True


def meaning(text: str, dialect: str) -> str:
    """A script without comments and layout, so that only a change of meaning changes its checksum.

    Raises:
        SqlProblem: when the text cannot be cut into tokens.
    """
    tokens = tokens_of(text, dialect)
    return "\n".join(
        f"{t.token_type.name} {t.text if t.token_type in _CASE_COUNTS else t.text.upper()}"
        for t in tokens
    )


def _problem(error: SqlglotError, text: str) -> SqlProblem:
    if (conflict := conflict_line(text)) is not None:
        return SqlProblem(UNRESOLVED, conflict)
    details = getattr(error, "errors", None)
    if details:
        first = details[0]
        near = (first.get("highlight") or "").strip()
        reason = str(first.get("description") or "cannot be read").rstrip(".")
        reason = "unexpected text" if reason.startswith("Invalid expression") else _plain(reason)
        return SqlProblem(f"{reason} near {near!r}" if near else reason, first.get("line"))
    return SqlProblem(_plain(str(error).splitlines()[0]) if str(error) else "cannot be read", None)


def _plain(reason: str) -> str:
    """The parser speaks of its own classes; keep only what a writer of SQL understands."""
    plain = reason.split(" for <class", 1)[0].split(" but got <Token", 1)[0]
    return plain.replace("Required keyword: 'this'", "an expression is")
