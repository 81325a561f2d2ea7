"""Everything in a schema of PostgreSQL that is not among its definitions."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from inchworm.core.structure.left_out import LeftOut
from inchworm.targets.databases.postgres.definitions import Rows

_NOT_OF_EXTENSION = (
    "NOT EXISTS (SELECT 1 FROM pg_depend e WHERE e.objid = {}.oid AND e.deptype = 'e')"
)

_PLAIN = f"""
SELECT CASE p.prokind WHEN 'p' THEN 'procedure' WHEN 'a' THEN 'aggregate' ELSE 'function' END,
       p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')'
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("p")}
UNION ALL
SELECT 'trigger', c.relname || ' ' || t.tgname
FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND NOT t.tgisinternal
UNION ALL
SELECT 'rule', c.relname || ' ' || r.rulename
FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND r.rulename <> '_RETURN'
UNION ALL
SELECT 'statistics', s.stxname
FROM pg_statistic_ext s JOIN pg_namespace n ON n.oid = s.stxnamespace WHERE n.nspname = ANY(?)
UNION ALL
SELECT 'operator', o.oprname || ' (' || format_type(o.oprleft, NULL) || ', '
       || format_type(o.oprright, NULL) || ')'
FROM pg_operator o JOIN pg_namespace n ON n.oid = o.oprnamespace
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("o")}
UNION ALL
SELECT 'collation', l.collname
FROM pg_collation l JOIN pg_namespace n ON n.oid = l.collnamespace
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("l")}
  AND NOT EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attcollation = l.oid)
UNION ALL
SELECT 'text search configuration', g.cfgname
FROM pg_ts_config g JOIN pg_namespace n ON n.oid = g.cfgnamespace
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("g")}
UNION ALL
SELECT 'option', c.relname || ' ' || o
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace, unnest(c.reloptions) o
WHERE n.nspname = ANY(?) AND c.relkind IN ('r', 'p', 'v', 'm')
UNION ALL
SELECT 'unlogged table', c.relname
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND c.relkind = 'r' AND c.relpersistence = 'u'
UNION ALL
SELECT 'comment', pg_describe_object(d.classoid, d.objoid, d.objsubid)
FROM pg_description d
WHERE d.classoid <> 'pg_class'::regclass AND (
    EXISTS (SELECT 1 FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
            WHERE d.classoid = 'pg_proc'::regclass AND p.oid = d.objoid AND n.nspname = ANY(?)
              AND {_NOT_OF_EXTENSION.format("p")})
    OR EXISTS (SELECT 1 FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
               WHERE d.classoid = 'pg_type'::regclass AND t.oid = d.objoid AND n.nspname = ANY(?))
    OR EXISTS (SELECT 1 FROM pg_constraint k JOIN pg_namespace n ON n.oid = k.connamespace
               WHERE d.classoid = 'pg_constraint'::regclass AND k.oid = d.objoid
                 AND n.nspname = ANY(?)))
ORDER BY 1, 2
"""

_LOSING = f"""
SELECT 'partition', c.relname || ' of ' || p.relname, 'tables that stand by themselves',
       'partitions'
FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND c.relispartition AND c.relkind IN ('r', 'p', 'f')
UNION ALL
SELECT 'partitioned table', c.relname, 'a table without partitions', 'partitions'
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND c.relkind = 'p'
UNION ALL
SELECT 'inheritance', c.relname || ' of ' || p.relname, 'tables that stand by themselves',
       'inheritance'
FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_class p ON p.oid = i.inhparent
JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND NOT c.relispartition AND c.relkind IN ('r', 'f')
UNION ALL
SELECT 'row security', c.relname || coalesce(' ' || p.polname, ''),
       'a table open to all its readers', 'row-security'
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
LEFT JOIN pg_policy p ON p.polrelid = c.oid
WHERE n.nspname = ANY(?) AND (c.relrowsecurity OR p.oid IS NOT NULL)
UNION ALL
SELECT 'foreign table', c.relname, 'no table at all', 'foreign-tables'
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = ANY(?) AND c.relkind = 'f'
UNION ALL
SELECT 'collation', l.collname, 'columns of a collation that is not there', 'types'
FROM pg_collation l JOIN pg_namespace n ON n.oid = l.collnamespace
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("l")}
  AND EXISTS (SELECT 1 FROM pg_attribute a WHERE a.attcollation = l.oid)
UNION ALL
SELECT 'type', t.typname, 'columns of a type that is not there', 'types'
FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
WHERE n.nspname = ANY(?) AND t.typtype IN ('r', 'm', 'b') AND t.typelem = 0
  AND {_NOT_OF_EXTENSION.format("t")}
ORDER BY 1, 2
"""

_USED_FUNCTIONS = f"""
SELECT DISTINCT p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')',
       pg_describe_object(d.classid, d.objid, 0)
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
JOIN pg_depend d ON d.refclassid = 'pg_proc'::regclass AND d.refobjid = p.oid
WHERE n.nspname = ANY(?) AND {_NOT_OF_EXTENSION.format("p")}
  AND d.classid IN ('pg_constraint'::regclass, 'pg_attrdef'::regclass, 'pg_class'::regclass,
                    'pg_rewrite'::regclass, 'pg_type'::regclass)
ORDER BY 1, 2
"""


def read_left_out(rows: Rows, schema: str) -> Iterator[LeftOut]:
    """What a schema has that its definitions do not make again.

    Args:
        rows: runs a query with values for its ``?``.
        schema: its real name.
    """
    used: dict[str, str] = {}
    for name, user in _asked(rows, _USED_FUNCTIONS, schema):
        used.setdefault(name, user)
    for kind, name in _asked(rows, _PLAIN, schema):
        if name in used:
            loss = f"nothing that {used[name]} could call"
            yield LeftOut(kind=kind, name=name, loss=loss, accepted_as="functions")
        else:
            yield LeftOut(kind=kind, name=name)
    for kind, name, loss, word in _asked(rows, _LOSING, schema):
        yield LeftOut(kind=kind, name=name, loss=loss, accepted_as=word)


def _asked(rows: Rows, query: str, schema: str) -> list[tuple[Any, ...]]:
    return rows(query, [[schema]] * query.count("?"))
