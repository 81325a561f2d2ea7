"""Deeds of those who write the project."""

from __future__ import annotations

import random
from dataclasses import replace

from tests.storm.team import ROUTE, Team
from tests.storm.truth import Change, Model, Store


def _query(team: Team, chance: random.Random, store: Store, own: str) -> tuple[str, list[str]]:
    tables = sources(team)
    others = sorted(name for name in team.models if own not in _upstream(team, name))
    if store.grows:
        source = chance.choice(tables)
        return f"SELECT id, grp, val * {chance.randint(1, 9)} AS val FROM {source}", [source]
    one, two = (chance.choice([*tables, *others, *others]) for _ in range(2))
    number = chance.randint(1, 9)
    return chance.choice(
        [
            (f"SELECT id, grp, val * {number} AS val FROM {one}", [one]),
            (f"SELECT id, grp, val FROM {one} WHERE val > {number}", [one]),
            (
                f"SELECT CAST(count(*) AS INTEGER) AS id, grp, max(val) AS val FROM {one} "
                "GROUP BY grp",
                [one],
            ),
            (
                f"SELECT a.id, a.grp, b.val FROM {one} AS a JOIN {two} AS b ON a.id = b.id",
                [one, two],
            ),
            (f"SELECT id, CAST(:as_of AS TEXT) AS grp, val FROM {one}", [one]),
        ]
    )


def _model(team: Team, chance: random.Random, name: str, store: Store) -> Model:
    """A model; in SQLite a view reads its own schema only."""
    query, reads = _query(team, chance, store, name)
    is_sqlite = team.places["dev"].url.startswith("sqlite")
    if is_sqlite and store is Store.VIEW and any(not each.startswith("m.") for each in reads):
        store = Store.TABLE
    return Model(name, store, query, tuple(reads))


def sources(team: Team) -> list[str]:
    """The tables that the project has, and that are no models."""
    made = {change.table for change in team.changes if change.what == "make"}
    dropped = {change.table for change in team.changes if change.what == "drop"}
    return sorted({*(made - dropped if team.migrates else ()), *team.wanted})


def _read(team: Team) -> set[str]:
    """The tables and models that something reads."""
    return {name for model in team.models.values() for name in model.reads} | {"src.s1", "src.s2"}


def _upstream(team: Team, name: str) -> set[str]:
    if name not in team.models:
        return {name}
    return {name}.union(*(_upstream(team, each) for each in team.models[name].reads))


def _store(chance: random.Random) -> Store:
    return chance.choice([Store.VIEW, Store.TABLE, Store.TABLE, Store.REBUILT, Store.KEPT])


def add_model(team: Team, chance: random.Random) -> None:
    """A new model."""
    name, store = f"m.t{team.number()}", _store(chance)
    team.put(_model(team, chance, name, store))


def edit_model(team: Team, chance: random.Random) -> None:
    """Another query, or another way to keep it."""
    if team.models:
        old = team.models[chance.choice(sorted(team.models))]
        store = _store(chance) if chance.random() < 0.3 else old.store
        team.put(replace(_model(team, chance, old.name, store), moved_from=old.moved_from))


def remove_model(team: Team, chance: random.Random) -> None:
    """A model goes that nothing reads, and with it its check."""
    team.write("checks/low.sql", None)
    free = sorted(set(team.models) - _read(team))
    if free:
        team.remove(chance.choice(free))


def rename_model(team: Team, chance: random.Random) -> None:
    """A model gets another name, and says which it was."""
    if not team.models:
        return
    old = team.models[chance.choice(sorted(team.models))]
    new = f"m.t{team.number()}"
    team.write("checks/low.sql", None)
    team.remove(old.name)
    team.put(replace(old, name=new, moved_from=old.name))
    for reader in list(team.models.values()):
        if old.name in reader.reads:
            reads = tuple(new if name == old.name else name for name in reader.reads)
            query = " ".join(new if w == old.name else w for w in reader.query.split(" "))
            team.put(replace(reader, query=query, reads=reads))


def migrate(team: Team, chance: random.Random) -> None:
    """A migration of a source table; or a wanted structure of it, once there is one."""
    if not team.migrates:
        return want(team, chance, "src")
    what = chance.choice(["make", "add", "add", "rename", "update", "insert", "drop"])
    tables = [name for name in sources(team) if name.startswith("src.")]
    table = chance.choice(tables)
    if what == "make":
        team.change(Change("make", f"src.s{team.number()}"))
    elif what == "drop":
        if table not in _read(team):
            team.change(Change("drop", table))
    elif what == "rename":
        spare = _spare(team, table)
        if spare:
            team.change(Change("rename", table, chance.choice(spare), f"x{team.number()}"))
    elif what == "update":
        team.change(Change("update", table))
    else:
        column = f"x{team.number()}" if what == "add" else str(100_000 + team.number())
        team.change(Change(what, table, column))
    return None


def want(team: Team, chance: random.Random, schema: str = "kept") -> None:
    """Another structure is wanted: a table or column more, or less."""
    tables = [name for name in sources(team) if name.startswith(f"{schema}.")]
    table = chance.choice(tables) if tables else ""
    what = chance.choice(["make", "add", "add", "remove", "drop"] if table else ["make"])
    if what == "make":
        team.want(f"{schema}.k{team.number()}", ["id", "grp", "val"])
    elif what == "add":
        team.want(table, [*team.wanted[table], f"x{team.number()}"])
    elif what == "remove":
        team.want(table, [c for c in team.wanted[table] if c in {"id", "grp", "val"}])
    elif table not in _read(team):
        team.want(table, None)


def take_over(team: Team, chance: random.Random) -> None:
    """The schema ``src`` gets a wanted structure in place of migrations that ran everywhere."""
    ran = all(p.ran in {0, len(team.changes)} and p.hand is None for p in team.places.values())
    if team.migrates and ran and chance.random() < 0.5:
        team.take_over()


def _spare(team: Team, table: str) -> list[str]:
    """The columns of a table that no model reads, as the project has them."""
    columns: list[str] = []
    for change in team.changes:
        if change.table == table and change.what == "add":
            columns.append(change.column)
        elif change.table == table and change.what == "rename":
            columns = [change.other if c == change.column else c for c in columns]
        elif change.table == table and change.what == "remove":
            columns.remove(change.column)
    return columns


def write_check(team: Team, chance: random.Random) -> None:
    """A check of a model comes, changes, or goes; it finds nothing."""
    if not team.models or chance.random() < 0.3:
        team.write("checks/low.sql", None)
        return
    name = chance.choice(sorted(team.models))
    team.write("checks/low.sql", f"SELECT id FROM {name} WHERE val < {-team.number()}\n")


def edit_notebook(team: Team, chance: random.Random) -> None:
    """The notebook computes something else."""
    team.study(chance.randint(1, 9))


# ---- environments --------------------------------------------------------------------------------


def rename_environment(team: Team, chance: random.Random) -> None:
    """An environment gets another name, and says which it had."""
    place = team.place(chance)
    if place.formerly or place.is_unfinished or place.release is None:
        return
    team.write(f"environments/{place.name}.toml", None)
    place.formerly, place.name = place.name, f"{place.key}{team.number()}"
    team.write_environments()


def add_environment(team: Team, chance: random.Random) -> None:
    """An environment comes late."""
    if len(team.route) < len(team.places) and chance.random() < 0.5:
        team.route.append(ROUTE[-1])
        team.write_environments()
