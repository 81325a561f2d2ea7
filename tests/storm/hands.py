"""Deeds of others: rows and files come, somebody changes a database by hand."""

from __future__ import annotations

import random
import shutil
from typing import Any

from tests.storm.team import Team
from tests.storm.truth import Change, Place, Table, Wrong


def rows_come(team: Team, chance: random.Random) -> Place | None:
    """Rows come into a source table, with values in every column."""
    place = team.place(chance)
    if not place.tables:
        return None
    rows_into(team, chance, place)
    return place


def rows_into(team: Team, chance: random.Random, place: Place) -> None:
    """A row comes into a table of an environment."""
    if not place.tables:
        return
    name = chance.choice(sorted(place.tables))
    table = place.tables[name]
    values: dict[str, Any] = {column: team.number() for column in sorted(table.columns)}
    values |= {"grp": chance.choice("ab"), "id": team.number(), "val": chance.randint(0, 12)}
    columns, texts = ", ".join(values), ", ".join(repr(value) for value in values.values())
    if team.by_hand(place, f"INSERT INTO {name} ({columns}) VALUES ({texts})"):
        table.rows.append(values)
        place.mark_behind({name})


def dba_column(team: Team, chance: random.Random) -> Place | None:
    """Somebody adds, renames, widens or drops a column by hand, or takes that back."""
    place = team.place(chance)
    if place.hand is not None:
        if place.hand.undo and team.by_hand(place, place.hand.undo):
            place.hand.off(place.tables)
            place.mark_behind({place.hand.table})
            place.hand = None
        return place
    if not place.tables:
        return None
    table = chance.choice(sorted(place.tables))
    spare = sorted(set(place.tables[table].columns) - {"id", "grp", "val"})
    change = Change("add", table, f"h{team.number()}")
    if chance.random() < 0.2:
        change = Change("widen", table, chance.choice(["val", *spare]))
    elif spare and chance.random() < 0.5:
        column = chance.choice(spare)
        rename = Change("rename", table, column, f"h{team.number()}")
        change = chance.choice([rename, Change("remove", table, column)])
    if team.by_hand(place, change.sql):
        change.on(place.tables)
        if change.what == "widen":
            place.mark_behind({table})
        place.hand = change
    return place


def dba_table(team: Team, chance: random.Random) -> Place | None:
    """Somebody makes a table where a model is going to be, or drops one that was made so."""
    place = team.place(chance)
    if place.made:
        name = sorted(place.made)[0]
        if name not in place.models and team.by_hand(place, f"DROP TABLE {name}"):
            del place.made[name]
        return place
    new = sorted(set(team.models) - set(place.models))
    if not new or not place.models:
        return None
    name = chance.choice(new)
    if team.by_hand(place, f"CREATE TABLE {name} (id INTEGER, grp TEXT, val INTEGER)"):
        place.made[name] = Table({"id": "INTEGER", "grp": "TEXT", "val": "INTEGER"})
        if team.by_hand(place, f"INSERT INTO {name} VALUES (1, 'hand', 1)"):
            place.made[name].rows.append({"id": 1, "grp": "hand", "val": 1})
    return place


def adopt(team: Team, chance: random.Random) -> Place | None:
    """What somebody changed by hand is taken into the project: a rename as one."""
    place = team.place(chance)
    hand = place.hand
    if hand is None or place.ran < len(team.changes) or place.migrates is not team.migrates:
        return None
    schema = hand.table.partition(".")[0]
    wanted = {name: list(columns) for name, columns in place.wanted.items()}
    if schema == "kept" or not team.migrates:
        if wanted != team.wanted or hand.what != "add":
            return None  # what else the project has would go
        return _adopt_structure(team, place, hand, schema)
    answer = team("adopt", place.name, "src")
    if answer.code != 0:
        return place
    files = sorted((team.checkouts[0].folder / "schemas/src/migrations").glob("*_by_hand_in_*.sql"))
    new = [file for file in files if file.stem not in team.files]
    if len(new) != 1:
        raise Wrong(f"adopt wrote {[file.name for file in new]}:\n{answer.text}")
    text = new[0].read_text()
    if hand.what == "rename" and ("RENAME" not in text or "DROP" in text):
        raise Wrong(f"adopt did not know a rename: {text}")
    team.write(f"schemas/src/migrations/{new[0].name}", text)
    team.adopted[len(team.changes)] = place.key
    team.changes.append(hand)
    team.files.append(new[0].stem)
    place.hand = None
    place.by_hand.add(f"taken up {len(team.changes) - 1}")
    return place


def _adopt_structure(team: Team, place: Place, hand: Change, schema: str) -> Place:
    answer = team("adopt", place.name, schema)
    if answer.code != 0:
        return place
    text = (team.checkouts[0].folder / f"schemas/{schema}/tables.sql").read_text()
    if hand.column not in text:
        raise Wrong(f"adopt did not write {hand.column}: {text}")
    team.want(hand.table, [*team.wanted[hand.table], hand.column])
    place.hand = None
    place.by_hand.add(f"taken up {hand.table}.{hand.column}")
    return place


def grant(team: Team, chance: random.Random) -> Place | None:
    """Somebody lets a role read a model."""
    place = team.place(chance)
    if not place.url.startswith("postgresql") or not place.models:
        return None
    name = chance.choice(sorted(place.models))
    team.by_hand(place, "CREATE ROLE storm_reader")
    if team.by_hand(place, f"GRANT SELECT ON {name} TO storm_reader"):
        place.grants.add(name)
        place.was_granted = True
    return place


def file_comes(team: Team, chance: random.Random) -> Place | None:
    """A file lies there that a flow takes."""
    place = team.place(chance)
    number = team.number()
    row = {"id": number, "grp": chance.choice("ab"), "val": chance.randint(0, 12)}
    file = team.incoming(place) / f"f{number}.csv"
    file.write_text(f"id,grp,val\n{row['id']},{row['grp']},{row['val']}\n")
    team.log.append(f"$ echo id,grp,val {','.join(map(str, row.values()))} > {file}")
    place.files[file.name] = row
    return None


def back_up(team: Team, chance: random.Random) -> Place | None:
    """A backup of an environment is made, or the last one is restored."""
    place = team.place(chance)
    if place.url.startswith("postgresql"):
        return None
    folder = team.folder / "backups" / place.key
    live = team.folder / place.key
    if place.key not in team.backups:
        if place.release is not None:
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(live, folder)
            team.backups[place.key] = place.copy()
            team.log.append(f"$ cp -r {live} {folder}")
        return None
    restored = team.backups.pop(place.key)
    shutil.rmtree(live)
    shutil.copytree(folder, live)
    team.log.append(f"$ cp -r {folder} {live}")
    team.places[place.key] = restored
    restored.by_hand.add("restored")
    restored.files = dict(place.files)
    restored.may_lose = place.may_lose
    if restored.name != place.name:
        restored.name, restored.formerly = place.name, restored.name
    team.write_environments()
    is_older = restored.entered != place.entered
    (told,) = team("status", place.name, "--json", is_judge=True).json["environments"]
    is_known = team.has_ledger_of(place.key) and place.by_ledger == team.ledger
    if is_older and is_known and told["unknown_there"] is None:
        raise Wrong(f"status does not tell that {place.name} was restored: {told}")
    return restored


def days_pass(team: Team, chance: random.Random) -> Place | None:
    """A night passes."""
    team.days += chance.randint(1, 3)
    return None


def another_ledger(team: Team, chance: random.Random) -> None:
    """Somebody goes on who has a ledger of their own."""
    name = "ledger" if team.ledger != "ledger" else "own"
    team.use_ledger(name)
    team.log.append(f"$ # the project's ledger is {name}.sqlite now")


def lose_ledger(team: Team, chance: random.Random) -> Place | None:
    """The ledger is lost, and rebuilt."""
    place = team.place(chance)
    if place.release is None:
        return None
    for file in team.folder.glob(f"{team.ledger}.sqlite*"):
        file.unlink()
    team.log.append(f"$ rm {team.ledger}.sqlite*")
    team.entered_by[team.ledger].clear()
    team("ledger", "rebuild", "--json", code=0)
    return place
