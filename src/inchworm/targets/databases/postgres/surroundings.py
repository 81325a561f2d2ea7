"""What PostgreSQL tells of schemas beyond their structure: code, rights, owners and the like.

Every query gives rows of a name and the statement that would make the thing again; that of rights
also what they are to. What a server gives of itself (an owner's own rights, triggers of foreign
keys) is left out.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from types import MappingProxyType

from inchworm.core.structure.definitions import Definition, Thing
from inchworm.targets.databases.postgres.definitions import Rows

_RELATIONS = """
WITH relation AS (
  SELECT c.oid, n.nspname || '.' || c.relname AS name,
         quote_ident(n.nspname) || '.' || quote_ident(c.relname) AS spelled,
         c.relowner, c.relacl, c.relrowsecurity, c.relforcerowsecurity, c.reloptions
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname = ANY(?)
)
"""

_PRESENT = """
WITH asked AS (SELECT oid, nspacl FROM pg_namespace WHERE nspname = ANY(?)),
relation AS (
  SELECT c.oid, c.relhastriggers,
         c.relrowsecurity OR c.relforcerowsecurity OR c.reloptions IS NOT NULL AS has_options,
         c.relacl IS NOT NULL AS has_rights
  FROM pg_class c WHERE c.relnamespace IN (SELECT oid FROM asked)
)
SELECT CASE WHEN relhastriggers THEN 'trigger' END FROM relation
UNION
SELECT CASE WHEN has_options THEN 'options' END FROM relation
UNION
SELECT CASE WHEN has_rights THEN 'rights' END FROM relation
UNION
SELECT CASE WHEN nspacl IS NOT NULL THEN 'rights' END FROM asked
UNION
SELECT 'rights' WHERE EXISTS (
  SELECT 1 FROM pg_attribute WHERE attacl IS NOT NULL AND attrelid IN (SELECT oid FROM relation))
UNION
SELECT 'policy' WHERE EXISTS (
  SELECT 1 FROM pg_policy WHERE polrelid IN (SELECT oid FROM relation))
UNION
SELECT 'routine' WHERE EXISTS (
  SELECT 1 FROM pg_proc WHERE pronamespace IN (SELECT oid FROM asked))
"""
"""The kinds of things that there are in some schemas, but for owners, whom everything has."""

_ROUTINES = """
SELECT n.nspname || '.' || p.proname || '(' || pg_get_function_identity_arguments(p.oid) || ')',
       pg_get_functiondef(p.oid)
FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
WHERE n.nspname = ANY(?) AND p.prokind IN ('f', 'p')
  AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.objid = p.oid AND d.deptype = 'e')
"""

_TRIGGERS = f"""{_RELATIONS}
SELECT r.name || '.' || t.tgname, pg_get_triggerdef(t.oid) || CASE WHEN t.tgenabled = 'O' THEN ''
       ELSE E';\\nALTER TABLE ' || r.spelled
         || CASE t.tgenabled WHEN 'D' THEN ' DISABLE' WHEN 'R' THEN ' ENABLE REPLICA'
                             ELSE ' ENABLE ALWAYS' END
         || ' TRIGGER ' || quote_ident(t.tgname) END
FROM relation r JOIN pg_trigger t ON t.tgrelid = r.oid WHERE NOT t.tgisinternal
"""

_POLICIES = f"""{_RELATIONS}
SELECT r.name || '.' || p.polname, 'CREATE POLICY ' || quote_ident(p.polname) || ' ON ' || r.spelled
       || CASE WHEN p.polpermissive THEN '' ELSE ' AS RESTRICTIVE' END || ' FOR '
       || CASE p.polcmd WHEN 'r' THEN 'SELECT' WHEN 'a' THEN 'INSERT' WHEN 'w' THEN 'UPDATE'
                        WHEN 'd' THEN 'DELETE' ELSE 'ALL' END
       || ' TO ' || (SELECT string_agg(CASE WHEN m = 0 THEN 'PUBLIC'
                                       ELSE quote_ident(pg_get_userbyid(m)) END, ', ' ORDER BY m)
                     FROM unnest(p.polroles) m)
       || coalesce(' USING (' || pg_get_expr(p.polqual, p.polrelid) || ')', '')
       || coalesce(' WITH CHECK (' || pg_get_expr(p.polwithcheck, p.polrelid) || ')', '')
FROM relation r JOIN pg_policy p ON p.polrelid = r.oid
"""

_OPTIONS = f"""{_RELATIONS}
SELECT r.name, concat_ws(E';\\n',
  CASE WHEN r.relrowsecurity THEN 'ALTER TABLE ' || r.spelled || ' ENABLE ROW LEVEL SECURITY' END,
  CASE WHEN r.relforcerowsecurity
       THEN 'ALTER TABLE ' || r.spelled || ' FORCE ROW LEVEL SECURITY' END,
  'ALTER TABLE ' || r.spelled || ' SET (' || array_to_string(r.reloptions, ', ') || ')')
FROM relation r
WHERE r.relrowsecurity OR r.relforcerowsecurity OR r.reloptions IS NOT NULL
"""

_OWNERS = f"""{_RELATIONS}
SELECT r.name, 'ALTER TABLE ' || r.spelled || ' OWNER TO ' || quote_ident(pg_get_userbyid(relowner))
FROM relation r
UNION ALL
SELECT n.nspname || '.(schema)', 'ALTER SCHEMA ' || quote_ident(n.nspname) || ' OWNER TO '
       || quote_ident(pg_get_userbyid(n.nspowner))
FROM pg_namespace n WHERE n.nspname = ANY(?)
"""

_RIGHTS = f"""{_RELATIONS}, acl AS (
  SELECT r.name, r.name AS whole, r.spelled AS on_what, x.*, r.relowner AS owner, '' AS col
  FROM relation r, aclexplode(r.relacl) x
  UNION ALL
  SELECT r.name || '.' || a.attname, r.name, r.spelled, x.*, r.relowner,
         ' (' || quote_ident(a.attname) || ')'
  FROM relation r JOIN pg_attribute a ON a.attrelid = r.oid, aclexplode(a.attacl) x
  WHERE NOT a.attisdropped
  UNION ALL
  SELECT n.nspname || '.(schema)', n.nspname || '.(schema)', 'SCHEMA ' || quote_ident(n.nspname),
         x.*, n.nspowner, ''
  FROM pg_namespace n, aclexplode(n.nspacl) x WHERE n.nspname = ANY(?)
), granted AS (
  SELECT name, whole, on_what, privilege_type || col AS privilege,
         CASE WHEN grantee = 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END AS who,
         CASE WHEN is_grantable THEN ' WITH GRANT OPTION' ELSE '' END AS again
  FROM acl WHERE grantee <> owner
)
SELECT name || ' to ' || who,
       string_agg('GRANT ' || privilege || ' ON ' || on_what || ' TO ' || who || again, E';\\n'
                  ORDER BY privilege), whole
FROM granted GROUP BY name, whole, who
"""

_QUERIES: Mapping[Thing, tuple[str, int]] = MappingProxyType(
    {
        Thing.ROUTINE: (_ROUTINES, 1),
        Thing.TRIGGER: (_TRIGGERS, 1),
        Thing.POLICY: (_POLICIES, 1),
        Thing.OPTIONS: (_OPTIONS, 1),
        Thing.OWNER: (_OWNERS, 2),
        Thing.RIGHTS: (_RIGHTS, 2),
    }
)
"""The query of each kind of thing, and how often it asks for the schemas."""


def read_surroundings(rows: Rows, schemas: Sequence[str]) -> Iterator[Definition]:
    """Routines, triggers, policies, options, owners and rights of some schemas.

    Args:
        rows: runs a query with values for its ``?``; names without a schema must not be found.
        schemas: their real names.
    """
    present = {Thing.OWNER, *(kind for (kind,) in rows(_PRESENT, [list(schemas)]))}
    for thing, (query, times) in _QUERIES.items():
        if thing not in present:
            continue
        for name, sql, *relation in rows(query, [list(schemas)] * times):
            needs = tuple(map(str, relation))
            yield Definition(thing=thing, name=str(name), sql=str(sql).strip(), needs=needs)
