"""What belongs to relations of PostgreSQL, as statements for those that take their places.

Rights on a relation and its columns, row security with its policies, triggers, indexes, statistics,
comments, storage options, membership in publications and the owner. One query says which kinds of
things there are, as readers may be waiting; another one each tells those, however many relations.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from inchworm.targets.databases.postgres.asking import TARGETS, Session, by_name, whole_names
from inchworm.targets.databases.postgres.indexes import Index, indexes_of, indexing
from inchworm.targets.databases.quoting import quoted

_RIGHTS = f"""{TARGETS}
SELECT t.name, CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee))
       END, x.privilege_type, x.is_grantable, ''
FROM target t, aclexplode(t.relacl) x WHERE x.grantee <> t.relowner
UNION ALL
SELECT t.name, CASE WHEN x.grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(x.grantee))
       END, x.privilege_type, x.is_grantable, quote_ident(a.attname)
FROM target t JOIN pg_attribute a ON a.attrelid = t.oid, aclexplode(a.attacl) x
WHERE NOT a.attisdropped AND x.grantee <> t.relowner
"""

_RELATIONS = f"""{TARGETS}
SELECT t.name, t.relrowsecurity, t.relforcerowsecurity, quote_ident(pg_get_userbyid(t.relowner)),
       t.relowner = (SELECT oid FROM pg_roles WHERE rolname = current_user),
       coalesce(array_to_string(t.reloptions, ', '), ''),
       array_remove(ARRAY[
         CASE WHEN c.relhasindex THEN 'indexes' END,
         CASE WHEN c.relhastriggers THEN 'triggers' END,
         CASE WHEN c.relreplident <> 'd' THEN 'replica identities' END,
         CASE WHEN c.relacl IS NOT NULL OR EXISTS (
           SELECT 1 FROM pg_attribute a WHERE a.attrelid = t.oid AND a.attacl IS NOT NULL
         ) THEN 'rights' END,
         CASE WHEN EXISTS (
           SELECT 1 FROM pg_attribute a WHERE a.attrelid = t.oid AND a.attnum > 0
           AND (a.attstattarget >= 0 OR a.attoptions IS NOT NULL)
         ) THEN 'column settings' END,
         CASE WHEN EXISTS (SELECT 1 FROM pg_policy p WHERE p.polrelid = t.oid) THEN 'policies' END,
         CASE WHEN EXISTS (
           SELECT 1 FROM pg_statistic_ext s WHERE s.stxrelid = t.oid
         ) THEN 'statistics' END,
         CASE WHEN EXISTS (
           SELECT 1 FROM pg_publication_rel r WHERE r.prrelid = t.oid
         ) THEN 'publications' END,
         CASE WHEN EXISTS (
           SELECT 1 FROM pg_description d
           WHERE d.objoid = t.oid AND d.classoid = 'pg_class'::regclass
         ) THEN 'comments' END
       ], NULL)
FROM target t JOIN pg_class c ON c.oid = t.oid
"""
"""What is true of a relation by itself, and the kinds of things that belong to it."""

_POLICIES = f"""{TARGETS}
SELECT t.name, quote_ident(p.polname), p.polpermissive,
       CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE'
                     WHEN 'd' THEN 'DELETE' ELSE 'ALL' END,
       array(SELECT CASE WHEN r = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(r)) END
             FROM unnest(p.polroles) r ORDER BY 1),
       pg_get_expr(p.polqual, p.polrelid), pg_get_expr(p.polwithcheck, p.polrelid)
FROM target t JOIN pg_policy p ON p.polrelid = t.oid ORDER BY t.name, p.polname
"""

_TRIGGERS = f"""{TARGETS}
SELECT t.name, quote_ident(g.tgname), pg_get_triggerdef(g.oid), g.tgenabled::text
FROM target t JOIN pg_trigger g ON g.tgrelid = t.oid
WHERE NOT g.tgisinternal ORDER BY t.name, g.tgname
"""

_STATISTICS = f"""{TARGETS}
SELECT t.name, n.nspname || '.' || s.stxname, pg_get_statisticsobjdef(s.oid)
FROM target t JOIN pg_statistic_ext s ON s.stxrelid = t.oid
JOIN pg_namespace n ON n.oid = s.stxnamespace ORDER BY 1, 2
"""

_COLUMN_SETTINGS = f"""{TARGETS}
SELECT t.name, quote_ident(a.attname), setting
FROM target t JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum > 0 AND NOT a.attisdropped,
LATERAL (VALUES (CASE WHEN a.attstattarget >= 0 THEN 'SET STATISTICS ' || a.attstattarget END),
                (CASE WHEN a.attoptions IS NOT NULL
                      THEN 'SET (' || array_to_string(a.attoptions, ', ') || ')' END)
        ) AS settings(setting)
WHERE setting IS NOT NULL ORDER BY t.name, a.attnum, setting
"""

_REPLICA_IDENTITIES = f"""{TARGETS}
SELECT t.name, CASE c.relreplident WHEN 'f' THEN 'FULL' WHEN 'n' THEN 'NOTHING'
       ELSE 'USING INDEX ' || quote_ident(i.relname) END
FROM target t JOIN pg_class c ON c.oid = t.oid
LEFT JOIN pg_index x ON x.indrelid = t.oid AND x.indisreplident
LEFT JOIN pg_class i ON i.oid = x.indexrelid
WHERE c.relkind IN ('r', 'p') AND c.relreplident <> 'd'
"""

_PUBLICATIONS = f"""{TARGETS}
SELECT t.name, quote_ident(p.pubname), coalesce(' (' || (
         SELECT string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum)
         FROM unnest(r.prattrs) n JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = n
       ) || ')', '') || coalesce(' WHERE (' || pg_get_expr(r.prqual, t.oid) || ')', '')
FROM target t JOIN pg_publication_rel r ON r.prrelid = t.oid
JOIN pg_publication p ON p.oid = r.prpubid ORDER BY 1, 2
"""

_OLD_PUBLICATIONS = f"""{TARGETS}
SELECT t.name, quote_ident(p.pubname), ''
FROM target t JOIN pg_publication_rel r ON r.prrelid = t.oid
JOIN pg_publication p ON p.oid = r.prpubid ORDER BY 1, 2
"""
"""The same of servers before 15, whose publications always have whole tables."""

_COMMENTS = f"""{TARGETS}
SELECT t.name, coalesce(quote_ident(a.attname), ''), quote_literal(d.description)
FROM target t JOIN pg_description d ON d.objoid = t.oid AND d.classoid = 'pg_class'::regclass
LEFT JOIN pg_attribute a ON a.attrelid = d.objoid AND a.attnum = d.objsubid AND d.objsubid > 0
ORDER BY 1, 2
"""

_COLUMNS = f"""{TARGETS}
SELECT t.name, quote_ident(a.attname) FROM target t JOIN pg_attribute a ON a.attrelid = t.oid
WHERE a.attnum > 0 AND NOT a.attisdropped
"""

_LIMITED_PUBLICATIONS = 150_000
"""The first server version whose publications can have columns and rows of a table."""

_ENABLED = {
    "D": "DISABLE TRIGGER",
    "R": "ENABLE REPLICA TRIGGER",
    "A": "ENABLE ALWAYS TRIGGER",
}


class _Right(Struct, frozen=True, kw_only=True):
    who: str
    privilege: str
    grantable: bool
    column: str

    def grant(self, name: str) -> str:
        again = " WITH GRANT OPTION" if self.grantable else ""
        return f"GRANT {self._what} ON {quoted(name)} TO {self.who}{again}"

    def revoke(self, name: str) -> str:
        return f"REVOKE {self._what} ON {quoted(name)} FROM {self.who}"

    @property
    def _what(self) -> str:
        return f"{self.privilege} ({self.column})" if self.column else self.privilege


class Attached(Struct, frozen=True, kw_only=True):
    """What belongs to a relation, and what follows a relation that takes its place.

    Attributes:
        security: statements that turn row security on, and make its policies.
        indexes: those that no constraint needs.
        statistics: statements that make extended statistics, and name the index by which rows
            are told apart in replication.
        columns: settings of columns, such as ``SET STATISTICS 500``.
        triggers: statements that make triggers.
        publications: statements that put the relation into publications.
        comments: the text on the relation itself (``""``) and on its columns, quoted.
        leaving: statements that take names away from the former relation first.
        options: of a view, such as ``security_barrier=true``.
    """

    rights: frozenset[_Right]
    owner: str | None
    security: tuple[str, ...]
    indexes: tuple[Index, ...]
    statistics: tuple[str, ...]
    columns: tuple[tuple[str, str], ...]
    triggers: tuple[str, ...]
    publications: tuple[str, ...]
    comments: tuple[tuple[str, str], ...]
    leaving: tuple[str, ...]
    options: str

    @property
    def of_its_own(self) -> tuple[str, ...]:
        """Statements for what no relation of another kind or name can be given unasked."""
        return (*self.publications, *self.security, *self.triggers)

    @property
    def names_columns(self) -> bool:
        """Whether anything of it is of single columns."""
        return bool(self.columns or self.comments) or any(right.column for right in self.rights)

    @property
    def without_storage(self) -> Attached:
        """What a relation of another kind or name is given: rights, owner and comments."""
        return replace(self, indexes=(), statistics=(), columns=(), options="")


def attached_to(session: Session, names: Sequence[str]) -> dict[str, Attached]:
    """Everything that relations have, as statements for those that take their places."""
    if not names:
        return {}
    asked = [[quoted(name) for name in names]]
    with whole_names(session):
        relations = session.rows(_RELATIONS, asked)
        things = {kind for *_, kinds in relations for kind in kinds}

        def of(kind: str, query: str) -> Mapping[str, list[tuple[Any, ...]]]:
            return by_name(session.rows(query, asked) if kind in things else ())

        statistics = of("statistics", _STATISTICS)
        triggers = of("triggers", _TRIGGERS)
        policies = of("policies", _POLICIES)
        comments = of("comments", _COMMENTS)
        columns = of("column settings", _COLUMN_SETTINGS)
        identities = of("replica identities", _REPLICA_IDENTITIES)
        rights = _rights(session, names) if "rights" in things else {}
        indexes = indexes_of(session, names) if "indexes" in things else {}
        publications = publications_of(session, names if "publications" in things else ())
    attached: dict[str, Attached] = {}
    for name, secured, forced, owner, is_ours, options, _ in relations:
        table = f"ALTER TABLE {quoted(name)}"
        security = [f"{table} ENABLE ROW LEVEL SECURITY"] if secured else []
        security += [f"{table} FORCE ROW LEVEL SECURITY"] if forced else []
        attached[name] = Attached(
            rights=rights.get(name, frozenset()),
            owner=None if is_ours else owner,
            security=(*security, *_policies(name, policies[name])),
            indexes=indexes.get(name, ()),
            statistics=(
                *(sql for _, sql in statistics[name]),
                *(f"{table} REPLICA IDENTITY {identity}" for (identity,) in identities[name]),
            ),
            columns=tuple((column, setting) for column, setting in columns[name]),
            triggers=tuple(_made_triggers(name, triggers[name])),
            publications=tuple(
                f"ALTER PUBLICATION {publication} ADD TABLE {quoted(name)}{limits}"
                for publication, limits in publications.get(name, ())
            ),
            comments=tuple((column, text) for column, text in comments[name]),
            leaving=(
                *(
                    f"ALTER PUBLICATION {publication} DROP TABLE {quoted(name)}"
                    for publication, _ in publications.get(name, ())
                ),
                *(f"DROP INDEX {quoted(index.name)}" for index in indexes.get(name, ())),
                *(f"DROP STATISTICS {quoted(statistic)}" for statistic, _ in statistics[name]),
            ),
            options=options,
        )
    return attached


def publications_of(session: Session, names: Sequence[str]) -> Mapping[str, list[tuple[Any, ...]]]:
    """The publications that tables are in by name: each quoted, with its columns and condition."""
    if not names:
        return {}
    ((version,),) = session.rows("SELECT current_setting('server_version_num')::int")
    query = _PUBLICATIONS if version >= _LIMITED_PUBLICATIONS else _OLD_PUBLICATIONS
    with whole_names(session):
        return by_name(session.rows(query, [[quoted(name) for name in names]]))


def _rights(session: Session, names: Sequence[str]) -> dict[str, frozenset[_Right]]:
    rights = by_name(session.rows(_RIGHTS, [[quoted(name) for name in names]]))
    return {
        name: frozenset(
            _Right(who=who, privilege=privilege, grantable=again, column=column)
            for who, privilege, again, column in rows
        )
        for name, rows in rights.items()
    }


def _policies(name: str, rows: Sequence[tuple[Any, ...]]) -> Iterator[str]:
    for policy, permissive, command, roles, using, check in rows:
        yield (
            f"CREATE POLICY {policy} ON {quoted(name)} "
            f"AS {'PERMISSIVE' if permissive else 'RESTRICTIVE'} FOR {command} "
            f"TO {', '.join(roles)}"
            + (f" USING ({using})" if using is not None else "")
            + (f" WITH CHECK ({check})" if check is not None else "")
        )


def _made_triggers(name: str, rows: Sequence[tuple[Any, ...]]) -> Iterator[str]:
    for trigger, sql, enabled in rows:
        yield sql
        if enabled in _ENABLED:
            yield f"ALTER TABLE {quoted(name)} {_ENABLED[enabled]} {trigger}"


def taking_off(session: Session, name: str) -> Iterator[str]:
    """Statements that take off a table what its successor's predecessor gives it: by name.

    A table that was live before has the triggers, policies and row security of that time.
    """
    asked, table = [[quoted(name)]], quoted(name)
    with whole_names(session):
        triggers, policies = session.rows(_TRIGGERS, asked), session.rows(_POLICIES, asked)
        ((_, secured, forced, *_),) = session.rows(_RELATIONS, asked)
    for _, trigger, *_ in triggers:
        yield f"DROP TRIGGER {trigger} ON {table}"
    for _, policy, *_ in policies:
        yield f"DROP POLICY {policy} ON {table}"
    if forced:
        yield f"ALTER TABLE {table} NO FORCE ROW LEVEL SECURITY"
    if secured:
        yield f"ALTER TABLE {table} DISABLE ROW LEVEL SECURITY"


def give(session: Session, given: Mapping[str, Attached], kinds: Mapping[str, str]) -> None:
    """Give relations what their predecessors had, and nothing that those had not.

    Args:
        session: in a transaction.
        given: by relation.
        kinds: ``table`` or ``view`` for each.
    """
    if not given:
        return
    names, asked = list(given), [[quoted(name) for name in given]]
    with whole_names(session):
        things = {kind for *_, those in session.rows(_RELATIONS, asked) for kind in those}
        rights = _rights(session, names) if "rights" in things else {}
        made = indexes_of(session, names) if "indexes" in things else {}
        has_columns = any(attached.names_columns for attached in given.values())
        columns = by_name(session.rows(_COLUMNS, asked) if has_columns else ())
    for name, attached in given.items():
        has, own = rights.get(name, frozenset()), {column for (column,) in columns[name]}
        indexes = indexing(name, attached.indexes, made.get(name, ()))
        for statement in (
            *(indexes if kinds[name] == "table" else ()),
            *_giving(name, attached, kinds[name], own, has),
        ):
            session.execute(statement)


def _giving(
    name: str, attached: Attached, kind: str, columns: Collection[str], has: frozenset[_Right]
) -> Iterator[str]:
    if kind == "table":
        for column, setting in attached.columns:
            if column in columns:
                yield f"ALTER TABLE {quoted(name)} ALTER COLUMN {column} {setting}"
        yield from (*attached.security, *attached.statistics, *attached.publications)
    yield from attached.triggers
    if kind == "table" and attached.options:
        yield f"ALTER TABLE {quoted(name)} SET ({attached.options})"
    for column, text in attached.comments:
        if not column:
            yield f"COMMENT ON {kind.upper()} {quoted(name)} IS {text}"
        elif column in columns:
            yield f"COMMENT ON COLUMN {quoted(name)}.{column} IS {text}"
    for right in sorted(has - attached.rights, key=repr):
        yield right.revoke(name)  # a right by default that the predecessor had not
    for right in sorted(attached.rights - has, key=repr):
        if not right.column or right.column in columns:
            yield right.grant(name)
    if attached.owner is not None:
        yield f"ALTER TABLE {quoted(name)} OWNER TO {attached.owner}"
