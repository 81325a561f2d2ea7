"""Statements of scripts for a database in which the project's schemas have other names.

A migration is not a query: it may be anything that a database understands, and the parser may not.
So names are replaced in the text itself, token by token, wherever a schema can stand, and no other
letter changes. Where a schema's own name is left in a place that cannot be replaced, such as the
body of a function, the statement is refused: it would reach the schema of somebody else.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property

from msgspec import Struct
from sqlglot import exp
from sqlglot.tokens import Token, TokenType

from inchworm.core.sql.names import fold
from inchworm.core.sql.parse import parse_statements, tokens_of
from inchworm.core.sql.problems import SqlProblem
from inchworm.core.sql.render import to_text

PhysicalSchema = Callable[[str], str]
"""From a schema's logical name, folded, to the one that it has in a database."""

_PLAIN = re.compile(r"[^\W\d][\w$]*")
_WORD_BEFORE_DOT = re.compile(r"""(?<![\w.$"'`\]])(["'`\[]?)([^\W\d][\w$]*)["'`\]]?\s*\.""")
_QUOTED_WORD = re.compile(r"""(["'])([^\W\d][\w$]*)\1""")
_TEXTS = frozenset(
    {
        TokenType.STRING,
        TokenType.HEREDOC_STRING,
        TokenType.RAW_STRING,
        TokenType.BYTE_STRING,
        TokenType.NATIONAL_STRING,
        TokenType.UNICODE_STRING,
    }
)
_OF_RELATIONS = frozenset({"nextval", "currval", "setval", "to_regclass", "pg_get_serial_sequence"})
"""Functions whose text argument is the name of a relation."""
_RELATION_TYPES = frozenset({"regclass", "regtype"})
_NAME_TYPES = re.compile(r"reg[a-z]+", re.IGNORECASE)
"""Types of PostgreSQL whose texts are names."""
_CODE = frozenset({"FUNCTION", "PROCEDURE", "TRIGGER", "MACRO"})
_SEARCHED = frozenset({"search_path", "schema", "current_schema"})
"""Settings whose value is a schema."""


def with_physical_schemas(
    statement: str, physical: PhysicalSchema, dialect: str, target: str
) -> str:
    """A statement of a script for a database whose schemas have other names.

    Within one dialect only the names change, and no other letter. Otherwise the statement is told
    anew in the other dialect.

    Args:
        statement: one statement, without a semicolon.
        physical: the name of each schema there.
        dialect: of the statement.
        target: the dialect of the database.

    Raises:
        SqlProblem: when the statement does not parse, or where a schema's logical name would be
            left in it.
    """
    renamed = _Statement(statement, physical, dialect).renamed()
    if dialect == target:
        return renamed
    (tree,) = parse_statements(renamed, dialect)
    for node in tree.find_all(exp.Table, exp.Column):
        schema = node.args.get("db")
        if isinstance(schema, exp.Identifier):
            schema.set("this", fold(schema, dialect))
            schema.set("quoted", True)
    return to_text(_as_sqlite_names(tree) if target == "sqlite" else tree, target)


class _Replacement(Struct, frozen=True):
    """Text for the characters ``start`` to ``end``, ``end`` included."""

    start: int
    end: int
    text: str


class _Statement(Struct, dict=True):
    text: str
    physical: PhysicalSchema
    dialect: str

    def renamed(self) -> str:
        pieces: list[str] = []
        at = 0
        for new in self._replacements():
            pieces += [self.text[at : new.start], new.text]
            at = new.end + 1
        return "".join([*pieces, self.text[at:]])

    @cached_property
    def tokens(self) -> Sequence[Token]:
        return tokens_of(self.text, self.dialect)

    @cached_property
    def tree(self) -> exp.Expr | None:
        """The syntax tree; None where the parser does not understand the statement."""
        try:
            trees = parse_statements(self.text, self.dialect)
        except (SqlProblem, ValueError):
            return None
        return trees[0] if len(trees) == 1 and not isinstance(trees[0], exp.Command) else None

    @cached_property
    def relations(self) -> frozenset[str]:
        """The names and aliases of the relations of the statement."""
        return frozenset(
            fold(node.this, self.dialect)
            for kind in (exp.Table, exp.TableAlias)
            for node in self._identified(kind)
        )

    @cached_property
    def aliases(self) -> frozenset[int]:
        """Where a relation of the statement is named that has a schema's name."""
        if self.tree is None:
            return frozenset()
        qualifiers = (
            column.args["table"]
            for column in self.tree.find_all(exp.Column)
            if isinstance(column.args.get("table"), exp.Identifier) and not column.args.get("db")
        )
        return frozenset(
            qualifier.meta["start"]
            for qualifier in qualifiers
            if "start" in qualifier.meta and fold(qualifier, self.dialect) in self.relations
        )

    def _identified(self, kind: type[exp.Expr]) -> Iterator[exp.Expr]:
        if self.tree is not None:
            yield from (n for n in self.tree.find_all(kind) if isinstance(n.this, exp.Identifier))

    # ---- names --------------------------------------------------------------------------------

    def _replacements(self) -> Iterator[_Replacement]:
        for i, token in enumerate(self.tokens):
            if token.token_type is TokenType.STRING and self._is_rest_of_command(i):
                yield self._rest_of_command(i)
            elif self._is_schema(i):
                new = self._new_name(token)
                if new is not None and token.start not in self.aliases:
                    yield _Replacement(token.start, token.end, new)
            elif token.token_type in _TEXTS:
                yield from self._text(i)

    def _is_schema(self, at: int) -> bool:
        token = self.tokens[at]
        is_name = token.token_type is TokenType.IDENTIFIER or _PLAIN.fullmatch(token.text)
        if not is_name:
            return False
        if self._type(at + 1) is TokenType.DOT:
            is_text = token.token_type in _TEXTS  # which is a name in SQLite alone
            is_decimal = self._type(at + 2) is TokenType.NUMBER
            is_schema = not is_decimal and (not is_text or self.dialect == "sqlite")
            return is_schema and (not self._follows_a_dot(at) or self._follows_a_database(at))
        return self._follows_the_word_schema(at) or self._is_set(at)

    def _follows_a_dot(self, at: int) -> bool:
        return at > 0 and self._type(at - 1) is TokenType.DOT

    def _follows_a_database(self, at: int) -> bool:
        """Whether what stands before the dot is neither a schema nor a relation."""
        first = at - 2
        if first < 0 or self._follows_a_dot(first) or self._new_name(self.tokens[first]):
            return False
        return self.tokens[first].text.lower() not in self.relations

    def _follows_the_word_schema(self, at: int) -> bool:
        """``CREATE SCHEMA IF NOT EXISTS a``, ``IN SCHEMA a, b``, ``SET SCHEMA 'a'``."""
        before = at - 1
        while before >= 1 and self.tokens[before].token_type is TokenType.COMMA:
            before -= 2
        while before >= 0 and self._word(before) in {"IF", "NOT", "EXISTS", "IF NOT EXISTS"}:
            before -= 1
        return before >= 0 and self._word(before) == "SCHEMA"

    def _is_set(self, at: int) -> bool:
        """A name in ``USE a`` or ``SET search_path TO a, b``."""
        if self._word(0) == "USE":
            return at > 0
        words = [self._word(i).lower() for i in range(min(at, 3))]
        return self._word(0) == "SET" and at > 1 and not _SEARCHED.isdisjoint(words)

    def _new_name(self, token: Token) -> str | None:
        is_quoted = token.token_type is not TokenType.VAR and (
            token.token_type in _TEXTS or token.token_type is TokenType.IDENTIFIER
        )
        name = fold(exp.to_identifier(token.text, quoted=is_quoted), self.dialect)
        new = self.physical(name)
        if new == name:
            return None
        as_text = token.token_type in _TEXTS and self.dialect != "sqlite"
        made = exp.Literal.string(new) if as_text else exp.to_identifier(new, quoted=True)
        return made.sql(dialect=self.dialect)

    def _word(self, at: int) -> str:
        return self.tokens[at].text.upper()

    def _type(self, at: int) -> TokenType | None:
        return self.tokens[at].token_type if at < len(self.tokens) else None

    # ---- texts --------------------------------------------------------------------------------

    def _is_rest_of_command(self, at: int) -> bool:
        """Whether the tokenizer gave up after the first word, and took all else for one text."""
        token = self.tokens[at]
        return at == 1 and self.text[: token.end + 1].endswith(token.text)

    def _rest_of_command(self, at: int) -> _Replacement:
        end = self.tokens[at].end
        start = self.tokens[0].end + 1
        rest = self.text[start : end + 1]
        inner = _CommandRest(rest, self.physical, self.dialect)
        return _Replacement(start, end, inner.renamed())

    def _text(self, at: int) -> Iterator[_Replacement]:
        token = self.tokens[at]
        if self._names_a_relation(at):
            schema, dot, rest = token.text.partition(".")
            name = schema.strip('"').lower()
            if dot and self.physical(name) != name:
                quoted = exp.to_identifier(self.physical(name), quoted=True).sql(self.dialect)
                plain = self.physical(name) if _PLAIN.fullmatch(schema) else quoted
                text = exp.Literal.string(f"{plain}.{rest}").sql(dialect=self.dialect)
                yield _Replacement(token.start, token.end, text)
            return
        left = sorted(self._left(token.text)) if self._may_run(at) else []
        if left:
            raise SqlProblem(
                f"names the schema {left[0]} inside a text, where it cannot get the name that it "
                "has in this database",
                token.line,
            )

    def _names_a_relation(self, at: int) -> bool:
        """Whether a text is the argument of ``nextval`` and the like, or cast to ``regclass``."""
        called = self._word(at - 2).lower() if at >= 2 else ""
        cast_to = self._word(at + 2).lower() if at + 2 < len(self.tokens) else ""
        prefix = self._word(at - 1).lower() if at else ""
        return called in _OF_RELATIONS or not _RELATION_TYPES.isdisjoint({cast_to, prefix})

    def _may_run(self, at: int) -> bool:
        """Whether the database may take a text for code or for a name."""
        token = self.tokens[at]
        cast_to = self.tokens[at + 2].text if at + 2 < len(self.tokens) else ""
        if self._type(at + 1) is TokenType.DCOLON and _NAME_TYPES.fullmatch(cast_to):
            return True
        tree = self.tree
        if tree is None or (isinstance(tree, exp.Create) and tree.kind in _CODE):
            return True
        return token.text in self._arguments

    @cached_property
    def _arguments(self) -> frozenset[str]:
        """Texts inside calls of functions that are not plain SQL."""
        if self.tree is None:
            return frozenset()
        return frozenset(
            literal.name
            for call in self.tree.find_all(exp.Anonymous, exp.AnonymousAggFunc)
            for literal in call.find_all(exp.Literal, exp.RawString, exp.Heredoc, exp.ByteString)
        )

    def _left(self, text: str) -> Iterator[str]:
        for pattern in (_WORD_BEFORE_DOT, _QUOTED_WORD):
            for match in pattern.finditer(text):
                name = match.group(2)
                if self.physical(name.lower()) != name.lower():
                    yield name.lower()


class _CommandRest(_Statement, dict=True):
    """The text after the first word of a command that the parser does not know."""

    @cached_property
    def tree(self) -> exp.Expr | None:
        """None: it is no statement of its own."""
        return None

    def _is_rest_of_command(self, at: int) -> bool:
        return False


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
