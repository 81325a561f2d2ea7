"""The switch-over of a run: what it built goes live, and looks like what was live."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct

from inchworm.core.errors import TargetError
from inchworm.core.identifiers import PartId, RelationName
from inchworm.core.rendered import Store
from inchworm.engine.running.site import RunSite
from inchworm.targets.databases.protocols import Switch
from inchworm.targets.databases.quoting import quoted, quoted_one


class StoredTable(Struct, frozen=True, kw_only=True):
    """Rows that a notebook gave to one of its tables.

    Attributes:
        key: columns by which a row replaces another; without any, all rows are replaced.
        columns: the columns that the rows have.
    """

    table: RelationName
    key: tuple[str, ...]
    columns: tuple[str, ...]
    rows: int


def switch_over(
    tables: Sequence[RelationName],
    renewed: Sequence[PartId],
    views: Sequence[RelationName],
    site: RunSite,
) -> None:
    """Put staged tables in place of the live ones, in one transaction; staged views are removed.

    A run changes rows and never the structure: that is for promotions, which tell everybody.

    Args:
        tables: staged tables, by logical name.
        renewed: models whose view is put in place anew, with the values of the run's day.
        views: staged views that have served.
        site: where they are staged.

    Raises:
        TargetError: when a table would have other columns than the live one, or the database
            refuses.
    """
    _switch_over(tables, views, (), site, renewed)


def publish(stored: Sequence[StoredTable], site: RunSite) -> None:
    """Have all rows that a notebook stored go live, in one transaction.

    Rows with a key are put to those that are there, replacing those with the same key; rows without
    one are in a table of their own, which is switched over.

    Raises:
        TargetError: when the database refuses.
    """
    whole = [each.table for each in stored if not each.key]
    _switch_over(whole, (), [each for each in stored if each.key], site)


def _switch_over(
    tables: Sequence[RelationName],
    views: Sequence[RelationName],
    merged: Sequence[StoredTable],
    site: RunSite,
    renewed: Sequence[PartId] = (),
) -> None:
    _check_same_columns([*tables, *(part.relation for part in renewed)], site)
    physical = [site.physical(name) for name in (*tables, *(p.relation for p in renewed))]
    names = site.staging.replaced_names(physical, keep_former=True)
    new_views = [_view(part, names, site) for part in renewed]
    switches = [
        Switch(
            name=site.physical(name),
            staging=site.staged(name),
            store=Store.TABLE,
            view_sql=None,
            replaced=names[site.physical(name)],
        )
        for name in tables
    ]
    switches += new_views
    gone = [*views, *(each.table for each in merged)]

    def switch() -> None:
        with site.database.transaction():
            site.database.take_turn()
            for each in merged:
                _merge(each, site)
            site.staging.discard([site.physical(name) for name in gone])
            if switches:
                site.staging.supersede([switch.name for switch in switches])
                site.database.switch_over(switches)
                site.staging.switched(switches, keep_replaced=False)
            if new_views:
                site.structures.record_models({switch.name: switch.name for switch in new_views})

    site.database.prepare(switches)
    with site.context.switching:
        site.database.locking(switch)


def _view(part: PartId, names: Mapping[RelationName, RelationName], site: RunSite) -> Switch:
    """The switch by which a view gets the values of the run's day."""
    name = site.physical(part.relation)
    return Switch(
        name=name,
        staging=site.staged(part.relation),
        store=Store.VIEW,
        view_sql=site.sql(site.rendered.model(part).sql, site.physical),
        replaced=names[name],
    )


def _merge(stored: StoredTable, site: RunSite) -> None:
    """Put staged rows to those of the live table, in place of those with the same key."""
    live, staged = quoted(site.physical(stored.table)), quoted(site.staged(stored.table))
    same = " AND ".join(f"here.{quoted_one(k)} = new.{quoted_one(k)}" for k in stored.key)
    names = ", ".join(map(quoted_one, stored.columns))
    site.database.execute(
        f"DELETE FROM {live} AS here WHERE EXISTS (SELECT 1 FROM {staged} AS new WHERE {same})"
    )
    site.database.execute(f"INSERT INTO {live} ({names}) SELECT {names} FROM {staged}")


def _check_same_columns(tables: Sequence[RelationName], site: RunSite) -> None:
    physical = {name: (site.physical(name), site.staged(name)) for name in tables}
    tables_by_name = site.database.tables([each for pair in physical.values() for each in pair])
    for name, (live, staged) in physical.items():
        if live not in tables_by_name or live in site.context.changed_by_hand:
            continue
        before, after = (
            {c.name: c.type for c in tables_by_name[each].columns} for each in (live, staged)
        )
        if before == after:
            continue
        changed = sorted(
            column
            for column in before.keys() | after.keys()
            if before.get(column) != after.get(column)
        )
        raise TargetError(
            f"{name} would have other columns than it has: "
            + ", ".join(
                f"{column} is {before.get(column, 'not there')} and would be "
                f"{after.get(column, 'gone')}"
                for column in changed
            )
            + ".",
            next="Nothing went live. Something upstream has another type now (see inchworm drift "
            f"{site.environment.name}). Promote what runs there again, which builds what reads it: "
            f"inchworm promote {site.prepared.bundle.name} --to {site.environment.name}",
        )
