"""The switch-over of PostgreSQL: what is live is replaced, and what hangs on it stays.

Objects of PostgreSQL follow the table that they were made on, whatever it is called later. So a
table that takes the place of another one is given everything that hung on the former: rights, row
security, triggers, indexes, comments. Views that read it are told anew to read what has the name
now. Whatever cannot be carried along (a foreign key of another table, a function)
stops the switch-over before it has any effect, and is named. Nothing is ever dropped with what
hangs on it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from msgspec import Struct

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import RelationName
from inchworm.targets.databases.postgres.asking import Session, whole_names
from inchworm.targets.databases.postgres.attached import Attached, attached_to, give, taking_off
from inchworm.targets.databases.postgres.indexes import index_ahead
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted, quoted_one

_READS = """reads AS (
  SELECT DISTINCT r.ev_class AS view, d.refobjid AS source
  FROM pg_depend d JOIN pg_rewrite r ON r.oid = d.objid
  WHERE d.classid = 'pg_rewrite'::regclass AND d.refclassid = 'pg_class'::regclass
    AND r.ev_class <> d.refobjid
)"""
"""The relations that each view reads."""

_VIEWS = f"""
WITH RECURSIVE {_READS}, found AS (
  SELECT view, 1 AS depth FROM reads WHERE source = ANY(?::text[]::regclass[]::oid[])
  UNION
  SELECT reads.view, found.depth + 1 FROM reads JOIN found ON reads.source = found.view
  WHERE found.depth < 100
)
SELECT n.nspname, c.relname, c.relkind::text, pg_get_viewdef(c.oid), max(found.depth),
       min(found.depth) = 1
FROM found JOIN pg_class c ON c.oid = found.view JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE c.relkind IN ('v', 'm')
GROUP BY n.nspname, c.relname, c.relkind, c.oid ORDER BY max(found.depth), 1, 2
"""

_WITH_TYPES = """
WITH target AS (
  SELECT c.oid, n.nspname || '.' || c.relname AS name, c.reltype, t.typarray
  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
  LEFT JOIN pg_type t ON t.oid = c.reltype
  WHERE c.oid = ANY(?::text[]::regclass[]::oid[])
)
"""
"""The beginning of a query about relations, and the types of their rows."""

_DEPENDED_UPON = f"""{_WITH_TYPES}
SELECT t.name, d.classid = 'pg_rewrite'::regclass
FROM target t JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass AND d.refobjid = t.oid
LEFT JOIN pg_class o ON d.classid = 'pg_class'::regclass AND o.oid = d.objid
WHERE CASE d.classid
  WHEN 'pg_type'::regclass THEN d.objid <> t.reltype
  WHEN 'pg_class'::regclass THEN d.deptype NOT IN ('a', 'i') OR o.relkind NOT IN ('i', 'I', 't')
  WHEN 'pg_attrdef'::regclass THEN d.deptype NOT IN ('a', 'i')
  WHEN 'pg_constraint'::regclass THEN d.deptype NOT IN ('a', 'i')
  WHEN 'pg_statistic_ext'::regclass THEN d.deptype NOT IN ('a', 'i')
  WHEN 'pg_publication_rel'::regclass THEN d.deptype NOT IN ('a', 'i')
  ELSE true END
UNION
SELECT t.name, false
FROM target t JOIN pg_depend d
  ON d.refclassid = 'pg_type'::regclass AND d.refobjid IN (t.reltype, t.typarray)
WHERE d.classid <> 'pg_type'::regclass OR d.objid NOT IN (t.reltype, t.typarray)
UNION
SELECT t.name, false FROM target t JOIN pg_inherits i ON i.inhrelid = t.oid
"""
"""Relations on which anything may hang, and whether rules do; what each has by itself is left out.

It takes a part of the time that it takes to tell what hangs on them, and mostly nothing does.
"""

_HANGING = f"""{_WITH_TYPES}, hanging AS (
  SELECT g.oid AS target, g.name, d.classid, d.objid, d.objsubid
  FROM target g JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass AND d.refobjid = g.oid
  UNION
  SELECT g.oid, g.name, d.classid, d.objid, d.objsubid
  FROM target g JOIN pg_depend d
    ON d.refclassid = 'pg_type'::regclass AND d.refobjid IN (g.reltype, g.typarray)
  UNION
  SELECT g.oid, g.name, 'pg_class'::regclass, i.inhparent, 0
  FROM target g JOIN pg_inherits i ON i.inhrelid = g.oid
)
SELECT DISTINCT h.name, pg_describe_object(h.classid, h.objid, h.objsubid)
       || coalesce(' of ' || quote_ident(pg_get_userbyid(coalesce(p.proowner, c.relowner))), '')
FROM hanging h
LEFT JOIN pg_proc p ON h.classid = 'pg_proc'::regclass AND p.oid = h.objid
LEFT JOIN pg_class c ON c.oid = CASE h.classid
  WHEN 'pg_class'::regclass THEN h.objid
  WHEN 'pg_rewrite'::regclass THEN (SELECT ev_class FROM pg_rewrite WHERE oid = h.objid)
  WHEN 'pg_constraint'::regclass THEN (SELECT conrelid FROM pg_constraint WHERE oid = h.objid)
  WHEN 'pg_policy'::regclass THEN (SELECT polrelid FROM pg_policy WHERE oid = h.objid)
  WHEN 'pg_trigger'::regclass THEN (SELECT tgrelid FROM pg_trigger WHERE oid = h.objid) END
WHERE NOT EXISTS (
    SELECT 1 FROM pg_rewrite r JOIN pg_class v ON v.oid = r.ev_class
    WHERE h.classid = 'pg_rewrite'::regclass AND r.oid = h.objid AND r.rulename = '_RETURN'
      AND v.relkind = 'v')
  AND NOT EXISTS (
    SELECT 1 FROM pg_class o LEFT JOIN pg_index i ON i.indexrelid = o.oid
    WHERE h.classid = 'pg_class'::regclass AND o.oid = h.objid
      AND (o.oid = h.target OR o.relkind = 't' OR i.indrelid = h.target))
  AND NOT EXISTS (
    SELECT 1 FROM pg_constraint k
    WHERE h.classid = 'pg_constraint'::regclass AND k.oid = h.objid AND k.conrelid = h.target)
  AND NOT EXISTS (
    SELECT 1 FROM pg_trigger t
    WHERE h.classid = 'pg_trigger'::regclass AND t.oid = h.objid AND t.tgrelid = h.target)
  AND NOT EXISTS (
    SELECT 1 FROM pg_policy p
    WHERE h.classid = 'pg_policy'::regclass AND p.oid = h.objid AND p.polrelid = h.target)
  AND NOT EXISTS (
    SELECT 1 FROM pg_statistic_ext s
    WHERE h.classid = 'pg_statistic_ext'::regclass AND s.oid = h.objid AND s.stxrelid = h.target)
  AND NOT EXISTS (
    SELECT 1 FROM pg_publication_rel p
    WHERE h.classid = 'pg_publication_rel'::regclass AND p.oid = h.objid AND p.prrelid = h.target)
  AND NOT EXISTS (
    SELECT 1 FROM pg_attrdef a
    WHERE h.classid = 'pg_attrdef'::regclass AND a.oid = h.objid AND a.adrelid = h.target)
  AND (h.classid <> 'pg_type'::regclass OR h.objid NOT IN (
    SELECT g.reltype FROM target g UNION ALL
    SELECT g.typarray FROM target g WHERE g.typarray IS NOT NULL))
ORDER BY 1, 2
"""


_MATERIALISED = f"""
WITH RECURSIVE {_READS}, found AS (
  SELECT source AS root, view FROM reads WHERE source = ANY(?::text[]::regclass[]::oid[])
  UNION
  SELECT found.root, reads.view FROM found JOIN reads ON reads.source = found.view
)
SELECT n.nspname || '.' || c.relname,
       pg_describe_object('pg_class'::regclass, m.oid, 0)
       || ' of ' || quote_ident(pg_get_userbyid(m.relowner))
FROM found JOIN pg_class m ON m.oid = found.view AND m.relkind = 'm'
JOIN pg_class c ON c.oid = found.root JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE NOT EXISTS (SELECT 1 FROM reads WHERE reads.source = found.root AND reads.view = found.view)
ORDER BY 1, 2
"""
"""Materialised views that read relations through views of whomever."""


class ViewShapeChanged(TargetError):
    """A view cannot be replaced where it stands, because its columns would become others."""


class _View(Struct, frozen=True, kw_only=True):
    """A view of somebody that reads what is replaced."""

    name: str
    query: str
    is_direct: bool
    attached: Attached

    @property
    def sql(self) -> str:
        return _view_sql(self.name, self.attached.options, self.query)


def _view_sql(name: str, options: str, query: str) -> str:
    return f"VIEW {quoted(name)}{f' WITH ({options})' if options else ''} AS {query}"


def drop_views(session: Session, names: Sequence[str]) -> None:
    """Drop views that may read each other, and nothing else."""
    if names:
        session.execute(_dropping(names))


def _dropping(views: Sequence[str]) -> str:
    return f"DROP VIEW {', '.join(map(quoted, views))}"


def hanging_on(session: Session, names: Collection[str]) -> dict[str, tuple[str, ...]]:
    """Objects that hang on relations and cannot be carried along, in the server's words."""
    with whole_names(session):
        return _hanging(session, _depended_upon(session, names))


def _hanging(session: Session, upon: Mapping[str, bool]) -> dict[str, tuple[str, ...]]:
    hanging: dict[str, list[str]] = {}
    with whole_names(session):
        asked = [[quoted(name) for name in sorted(upon)]]
        rows = session.rows(_HANGING, asked) if upon else []
        rows += session.rows(_MATERIALISED, asked) if True in upon.values() else []
    for name, described in rows:
        hanging.setdefault(name, []).append(described)
    return {name: tuple(those) for name, those in hanging.items()}


def _depended_upon(session: Session, names: Collection[str]) -> dict[str, bool]:
    """Relations on which anything may hang, each with whether rules do, such as those of views."""
    upon: dict[str, bool] = {}
    if names:
        for name, has_rules in session.rows(_DEPENDED_UPON, [[quoted(n) for n in sorted(names)]]):
            upon[name] = has_rules or upon.get(name, False)
    return upon


def prepare(session: Session, switches: Sequence[Switch]) -> None:
    """Make ahead what takes long: the indexes of tables, on those that take their places."""
    kinds = session.kinds([each for s in switches for each in (s.name, s.staging) if each])
    index_ahead(
        session,
        {
            switch.name: switch.staging
            for switch in switches
            if switch.staging is not None
            and kinds.get(switch.name) == kinds.get(switch.staging) == "table"
        },
    )


def switch_over(session: Session, switches: Sequence[Switch]) -> None:
    """Put what was built beside in place. Called inside a transaction.

    Raises:
        TargetError: when something cannot be carried along, or the server refuses.
    """
    lock(session, [switch.name for switch in switches], are_all=True)
    session.execute("SAVEPOINT switch_over")
    try:
        _SwitchOver(session, switches).run(views_stay=True)
    except ViewShapeChanged:  # then the views have to go first, and come again
        session.execute("ROLLBACK TO SAVEPOINT switch_over")
        _SwitchOver(session, switches).run(views_stay=False)


def lock(session: Session, names: Sequence[RelationName], *, are_all: bool) -> None:
    """Wait for the locks, always in one order, before anybody is asked what tables have.

    Otherwise a right or an index that somebody gives a table meanwhile would be lost. Views come
    before what they read, as for whoever reads by them: then neither waits for the other. To lock a
    view by its name would lock all that it reads, too; to leave it in its schema locks it alone.

    Args:
        session: in a transaction.
        names: the relations that are replaced or changed.
        are_all: whether nothing else is changed in the transaction that somebody may hold.
    """
    kinds = session.kinds(names)
    locks = [
        f"ALTER VIEW {quoted(view)} SET SCHEMA {quoted_one(view.schema)}"
        for view in _replaced_views(session, kinds)
    ]
    if tables := sorted(name for name, kind in kinds.items() if kind == "table"):
        locks.append(f"LOCK TABLE {', '.join(map(quoted, tables))}")
    session.take_locks(locks, are_all=are_all)


def _replaced_views(session: Session, kinds: Mapping[str, str]) -> list[RelationName]:
    """The views that a switch-over tells anew, each before those that it reads.

    Args:
        session: in the transaction of the switch-over.
        kinds: ``table`` or ``view`` for what is replaced.
    """
    direct = [
        f"{schema}.{table}"
        for schema, table, kind, _, _, is_direct in _reading(
            session, _depended_upon(session, kinds)
        )
        if is_direct and kind == "v"
    ]
    own = [name for name, kind in kinds.items() if kind == "view"]
    outermost_first = dict.fromkeys([*reversed(direct), *own])
    existing = session.kinds(list(map(RelationName, outermost_first)))
    return [RelationName(name) for name in outermost_first if existing.get(name) == "view"]


def _reading(session: Session, upon: Mapping[str, bool]) -> list[tuple[Any, ...]]:
    """The views that read relations, also by way of others: innermost first."""
    read = [quoted(name) for name, has_rules in upon.items() if has_rules]
    if not read:
        return []
    with whole_names(session):
        return session.rows(_VIEWS, [read])


@contextmanager
def views_made_again(
    session: Session, names: Sequence[RelationName], own: Collection[str]
) -> Iterator[None]:
    """Take views upon relations away, and make them again at the end of the block.

    Args:
        names: the relations.
        own: views among them, or upon them, that are not made again here.
    """
    kinds = session.kinds(names)
    existing = [name for name in names if name in kinds]
    mine = attached_to(session, [name for name in existing if kinds[name] == "view"])
    views = _views_upon(session, _depended_upon(session, existing), own)
    _refuse(hanging_on(session, [view.name for view in views]))
    drop_views(session, [view.name for view in views])
    yield
    after = session.kinds(list(map(RelationName, mine)))
    give(session, {name: given for name, given in mine.items() if name in after}, after)
    for view in views:
        session.execute(f"CREATE {view.sql}")
    others = {view.name: view.attached for view in views}
    give(session, others, dict.fromkeys(others, "view"))


class _SwitchOver:
    def __init__(self, session: Session, switches: Sequence[Switch]) -> None:
        self.session = session
        self.switches = switches
        self.kinds = session.kinds([switch.name for switch in switches])
        existing = [switch.name for switch in switches if switch.name in self.kinds]
        own = {name for s in switches for name in (s.name, s.staging) if name is not None}
        formers = {s.former for s in switches if s.former is not None}
        with whole_names(session):
            self.attached = attached_to(session, sorted({*existing, *formers}))
            upon = _depended_upon(session, existing)
            self.views = _views_upon(session, upon, own)
            tables = {name: each for name, each in upon.items() if self.kinds[name] == "table"}
            _refuse(_hanging(session, tables))
        removed = {switch.name for switch in switches if switch.staging is None}
        removed -= {switch.former for switch in switches if switch.former is not None}
        published = {name: self.attached[name].publications for name in removed & set(existing)}
        _refuse({name: statements for name, statements in published.items() if statements})

    def run(self, *, views_stay: bool) -> None:
        """Replace everything.

        Args:
            views_stay: whether views are told anew where they stand, with all that hangs on them.
        """
        self._free_views(views_stay)
        self._tables()
        staged = [s for s in self.switches if s.staging is not None and s.store == "view"]
        drop_views(
            self.session, [switch.staging for switch in staged if switch.staging is not None]
        )
        for switch in staged:
            before = self.attached.get(switch.name)
            options = before.options if before and self.kinds[switch.name] == "view" else ""
            self._make(_view_sql(switch.name, options, switch.view_sql or ""), views_stay)
        given: dict[str, Attached] = {
            switch.name: attached
            for switch in self.switches
            if (attached := self._given(switch, views_stay)) is not None
        }
        give(self.session, given, {switch.name: switch.store for switch in self.switches})
        for view in self.views:
            if not views_stay or view.is_direct:
                self._make(view.sql, views_stay)
        if not views_stay:
            others = {view.name: view.attached for view in self.views}
            give(self.session, others, dict.fromkeys(others, "view"))

    def _make(self, view: str, views_stay: bool) -> None:
        self.session.execute(f"CREATE {'OR REPLACE ' if views_stay else ''}{view}")

    def _free_views(self, views_stay: bool) -> None:
        """Drop views that give way, all together, as they may read each other."""
        own = [switch for switch in self.switches if self.kinds.get(switch.name) == "view"]
        if views_stay:
            if any(switch.staging is None or switch.store != "view" for switch in own):
                raise ViewShapeChanged("a view gives way to something else")
            return
        views = [*(switch.name for switch in own), *(view.name for view in self.views)]
        _refuse(hanging_on(self.session, views))
        if views:  # those that read others were not locked before
            self.session.take_locks([_dropping(views)], are_all=True)

    def _tables(self) -> None:
        for switch in self.switches:
            if self.kinds.get(switch.name) == "table":
                if switch.staging is not None:
                    for statement in self.attached[switch.name].leaving:
                        self.session.execute(statement)
                self._rename(switch.name, switch.replaced)
            if switch.staging is not None and switch.store == "table":
                if switch.was_live:
                    for statement in taking_off(self.session, switch.staging):
                        self.session.execute(statement)
                self._rename(switch.staging, switch.name)

    def _rename(self, old: str, new: str) -> None:
        table = new.partition(".")[2]
        self.session.execute(f"ALTER TABLE {quoted(old)} RENAME TO {quoted_one(table)}")

    def _given(self, switch: Switch, views_stay: bool) -> Attached | None:
        """The objects that the successor of a relation is given; None if none has to be."""
        if switch.former is not None:
            return self._inherited(switch.name, switch.former)
        attached = self.attached.get(switch.name)
        if switch.staging is None or attached is None:
            return None
        was = self.kinds[switch.name]
        if was == switch.store:
            return None if was == "view" and views_stay else attached
        if attached.of_its_own:
            raise TargetError(
                f"{switch.name} becomes a {switch.store}, which cannot have what the {was} has: "
                f"{attached.of_its_own[-1]}",
                next="Nothing was changed by it. Take it away there by hand, or leave the store "
                "of the model as it is.",
            )
        return attached.without_storage

    def _inherited(self, name: RelationName, former: RelationName) -> Attached:
        """The rights, owner and comments that a relation takes over from another name."""
        attached = self.attached[former]
        if attached.of_its_own:
            raise TargetError(
                f"{former} becomes {name}, and what it has would stay behind: "
                f"{attached.of_its_own[-1]}",
                next="Nothing was changed by it. Have its owner take it away, promote, and put it "
                "on the new name.",
            )
        return attached.without_storage


def _refuse(hanging: Mapping[str, Sequence[str]]) -> None:
    if hanging:
        named = "; ".join(f"{', '.join(those)} on {name}" for name, those in hanging.items())
        raise TargetError(
            f"these hang on what is replaced and cannot be carried along: {named}.",
            next="Nothing was changed by it. Have their owners take them away, and put them on "
            "again afterwards.",
        )


def _views_upon(
    session: Session, upon: Mapping[str, bool], leave_out: Collection[str]
) -> list[_View]:
    """Views that read some relations, each after those that it reads itself."""
    views = {
        f"{schema}.{table}": (kind, query, is_direct)
        for schema, table, kind, query, _, is_direct in _reading(session, upon)
        if f"{schema}.{table}" not in leave_out
    }
    for name, (kind, _, _) in views.items():
        if kind == "m":
            raise TargetError(
                f"{name} is a materialised view upon what this promotion replaces.",
                next="Make it a plain view or a model, or drop it and make it again by hand.",
            )
    attached = attached_to(session, list(views))
    return [
        _View(name=name, query=query, is_direct=is_direct, attached=attached[name])
        for name, (_, query, is_direct) in views.items()
    ]
