"""What happens in a month: each deed is done to the project or an environment, and to the truth."""

from __future__ import annotations

import random
import shutil
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from tests.driver import Answer
from tests.storm.judge import idle
from tests.storm.team import ROUTE, Team, said
from tests.storm.truth import Change, Model, Place, Release, Store, Table, Witness, Wrong

Deed = Callable[[Team, random.Random], Place | None]
"""Does something, where it can be done; the environment that it was done to."""

# ---- the project ---------------------------------------------------------------------------------


def _query(team: Team, chance: random.Random, store: Store, own: str) -> tuple[str, list[str]]:
    tables = sorted({f"src.{c.table}" for c in team.changes if c.what == "make"} - _dropped(team))
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


def _dropped(team: Team) -> set[str]:
    return {f"src.{change.table}" for change in team.changes if change.what == "drop"}


def _upstream(team: Team, name: str) -> set[str]:
    if name not in team.models:
        return {name}
    return {name}.union(*(_upstream(team, each) for each in team.models[name].reads))


def _store(chance: random.Random) -> Store:
    return chance.choice([Store.VIEW, Store.TABLE, Store.TABLE, Store.REBUILT, Store.KEPT])


def add_model(team: Team, chance: random.Random) -> None:
    """A new model."""
    name, store = f"m.t{team.number()}", _store(chance)
    query, reads = _query(team, chance, store, name)
    team.put(Model(name, store, query, tuple(reads)))


def edit_model(team: Team, chance: random.Random) -> None:
    """Another query, or another way to keep it."""
    if team.models:
        old = team.models[chance.choice(sorted(team.models))]
        store = _store(chance) if chance.random() < 0.3 else old.store
        query, reads = _query(team, chance, store, old.name)
        team.put(replace(old, store=store, query=query, reads=tuple(reads)))


def remove_model(team: Team, chance: random.Random) -> None:
    """A model goes that nothing reads."""
    read = {name for model in team.models.values() for name in model.reads}
    free = sorted(set(team.models) - read)
    if free:
        team.remove(chance.choice(free))


def rename_model(team: Team, chance: random.Random) -> None:
    """A model gets another name, and says which it was."""
    if not team.models:
        return
    old = team.models[chance.choice(sorted(team.models))]
    new = f"m.t{team.number()}"
    team.remove(old.name)
    team.put(replace(old, name=new, moved_from=old.name))
    for reader in list(team.models.values()):
        if old.name in reader.reads:
            reads = tuple(new if name == old.name else name for name in reader.reads)
            query = " ".join(new if w == old.name else w for w in reader.query.split(" "))
            team.put(replace(reader, query=query, reads=reads))


def migrate(team: Team, chance: random.Random) -> None:
    """A migration of a source table."""
    what = chance.choice(["make", "add", "add", "rename", "update", "insert", "drop"])
    tables = sorted({c.table for c in team.changes if c.what == "make"})
    tables = [name for name in tables if f"src.{name}" not in _dropped(team)]
    table = chance.choice(tables)
    if what == "make":
        team.change(Change("make", f"s{team.number()}"))
    elif what == "drop":
        read = {name for model in team.models.values() for name in model.reads}
        if len(tables) > 2 and f"src.{table}" not in read:
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


# ---- promoting -----------------------------------------------------------------------------------


def promote(team: Team, chance: random.Random) -> Place | None:
    """A whole bundle goes where it may go."""
    place = team.place(chance)
    release = _release_for(team, place)
    if release is None:
        return None
    _enter(team, place, release, ["promote", release.name, "--to", place.name])
    return place


def promote_some(team: Team, chance: random.Random) -> Place | None:
    """One model goes, or all but one."""
    place = team.place(chance)
    release = _release_for(team, place)
    if release is None or not release.models:
        return None
    name = chance.choice(sorted({*release.models, *place.models}))
    option = chance.choice(["--only", "--except"])
    words = ["promote", release.name, "--to", place.name, option, f"model:{name}"]
    _enter(team, place, release, words, only=option == "--only", name=name)
    return place


def promote_killed(team: Team, chance: random.Random) -> Place | None:
    """A promotion is killed; somebody else goes on."""
    place = team.places[chance.choice(ROUTE[:2])]
    release = _release_for(team, place)
    if release is None or team.days:  # its process has the clock of this machine
        return None
    words = ["promote", release.name, "--to", place.name, "--yes", "--json"]
    before = team("status", place.name, "--json").json["environments"][0]
    if not team.kill(*words, who=0, after=chance.uniform(0.2, 1.2)):
        team.log.append("  -> ended before")
    for _ in range(30):
        after = team("status", place.name, "--json", who=1).json
        waiting = [u for u in after["unfinished"] if u["environment"] == place.name]
        if not waiting:
            break
        # simulated services belong to a checkout, so this one goes on
        team("promote", waiting[0]["promotion"], "--yes", "--json", who=1, at=0)
    if after["environments"][0]["number"] != before["number"]:
        id_ = after["environments"][0]["promotion"]
        _took_place(team, place, release, [team("history", id_, "--json", who=1).json])
    else:
        _after_failure(place, release)
    return place


def _release_for(team: Team, place: Place) -> Release | None:
    number = ROUTE.index(place.name)
    if number == 0:
        return team.pack()
    return team.places[ROUTE[number - 1]].release


def _enter(
    team: Team,
    place: Place,
    release: Release,
    words: list[str],
    *,
    only: bool = False,
    name: str | None = None,
) -> None:
    """Carry a promotion out, with the approval that it may need."""
    before = place.copy()
    answer = team(*words, "--yes", "--json")
    document = said(answer)
    if answer.code == 3 and "id" in document:
        document, answer = _approved(team, document["id"])
    if answer.code == 0 and document.get("state") == "done":
        _took_place(team, place, release, [document], only=only, name=name)
        if name is None:
            idle(team, place)
    elif answer.code != 0:
        _refused(answer, document)
        place.is_unfinished |= document.get("state") in {"failed", "partly done"}
        _after_failure(place, release)
    elif document["state"] == "nothing to do":
        _took_place(team, place, release, [document], only=only, name=name)
        if (place.models, place.ran) != (before.models, before.ran):
            raise Wrong(f"nothing to do, says {words}: {before.models} are to be {place.models}")
        place.entered = before.entered
    else:
        raise Wrong(f"{words}: {document['state']} with exit code 0")


def _approved(team: Team, id_: str) -> tuple[Any, Answer]:
    team("approve", id_, "--json", who=0)
    own = team("promote", id_, "--yes", "--json")
    if own.code == 0 and said(own).get("state") == "done":
        changed = [s for s in said(own)["steps"] if _is_of_an_author(s)]
        if changed:
            raise Wrong(f"{id_} went into prod with the approval of its author alone: {changed}")
        return said(own), own
    team("approve", id_, "--json", who=1)
    answer = team("promote", id_, "--yes", "--json")
    return said(answer), answer


def _is_of_an_author(step: Any) -> bool:
    """Whether somebody's work is in a step: not where only the day, or the record, is another."""
    phase, reason = str(step["phase"]), str(step["reason"])
    if phase == "build":
        return reason.startswith(("content changed", "new here", "is moved"))
    return phase == "migrate" or reason == "is not in the bundle any more"


def _refused(answer: Answer, document: Any) -> None:
    """Whatever is refused says why, and what to do."""
    if "error" in document:
        if not document["error"].get("next"):
            raise Wrong(f"no next step: {answer.text[:2000]}")
    elif not document.get("findings") and not document.get("steps"):
        raise Wrong(f"refused without a reason: {answer.text[:2000]}")
    for finding in document.get("findings", []):
        if finding["severity"] == "error" and not finding["remedy"]:
            raise Wrong(f"no remedy: {finding}")


def _took_place(
    team: Team,
    place: Place,
    release: Release,
    documents: list[Any],
    *,
    only: bool = False,
    name: str | None = None,
) -> None:
    """The truth after a promotion."""
    new = dict(place.models)
    for each in {*release.models, *place.models}:
        is_chosen = name is None or (each == name) is only
        is_held = each in place.holds or each in _held_before(team, place, release)
        if is_chosen and not is_held:
            new.pop(each, None)
            if each in release.models:
                new[each] = release.models[each]
    built = _built(documents)
    _migrated(place, release, documents, ran=not only)
    _composed(team, place, new, built)
    place.enter(release)
    team.entered_ledger.add(place.name)
    if name is None:
        place.by_hand.discard("restored")


def _held_before(team: Team, place: Place, release: Release) -> set[str]:
    """The models that a hold kept otherwise where a bundle comes from: they stay here, too."""
    number = ROUTE.index(place.name)
    before = team.places[ROUTE[number - 1]]
    if not number or before.release is not release:
        return set()
    return {n for n in before.holds if before.models.get(n) != release.models.get(n)}


def _built(documents: list[Any]) -> set[str]:
    steps = [step for document in documents for step in document["steps"]]
    return {s["part"].removeprefix("model:") for s in steps if s["phase"] == "build"}


def _composed(team: Team, place: Place, new: dict[str, Model], built: set[str]) -> None:
    for name in {*place.models, *new}:
        old, now = place.models.get(name), new.get(name)
        former = place.models.get(now.moved_from) if now else None
        if now and now.store is Store.KEPT and (old or former) not in {None, now}:
            place.behind.add(name)  # its rows of before stay as they were, on purpose
    place.behind -= {n for n in built if n in new and new[n].store is not Store.KEPT}
    place.behind &= set(new)
    place.models = new
    for name in built:
        place.day[name] = team.today


def _migrated(place: Place, release: Release, documents: list[Any], *, ran: bool) -> None:
    """Whatever migrations changed of rows has to be in what reads them, or be said."""
    if not ran:
        return
    for number in range(place.ran, len(release.changes)):
        change = release.changes[number]
        if release.adopted.get(number) == place.name:
            place.by_hand.discard(f"taken up {number}")
        else:
            change.on(place.tables)
            _unseen(place, release, change, documents)
    place.ran = max(place.ran, len(release.changes))


def _unseen(place: Place, release: Release, change: Change, documents: list[Any]) -> None:
    """A model that keeps its rows does not see old ones that a migration writes: to be said."""
    if change.what not in {"update", "insert"}:
        return
    text = " ".join(f["message"] for d in documents for f in d.get("findings", []))
    for name, after in release.models.items():
        before = place.models.get(after.moved_from) or place.models.get(name)
        keeps = before is not None and before.store is after.store is Store.KEPT
        if not keeps or name in place.holds or f"src.{change.table}" not in after.reads:
            continue
        place.behind.add(name)
        if "findings" in documents[-1] and name not in text:
            raise Wrong(f"{name} does not see what {change.sql} changes: not said")


def _after_failure(place: Place, release: Release) -> None:
    """Find out how many migrations ran; everything else has to be as before."""
    trial = place.copy()
    with Witness(place.url) as witness:
        for number in range(place.ran, len(release.changes)):
            if _fits(trial, witness):
                break
            release.changes[number].on(trial.tables)
        else:
            number = len(release.changes)
    if number != place.ran:
        place.tables, place.ran = trial.tables, number
        place.mark_behind({f"src.{name}" for name in place.tables})


def _fits(place: Place, witness: Witness) -> bool:
    for name, table in place.tables.items():
        columns = witness.columns(f"src.{name}")
        if sorted(columns) != sorted(table.columns):
            return False
        names = ", ".join(sorted(columns))
        if witness.rows(f"SELECT {names} FROM src.{name}") != table.content:
            return False
    return witness.relations("src") >= {f"src.{name}" for name in place.tables}


def roll_back(team: Team, chance: random.Random) -> Place | None:
    """The latest promotion is taken back; of a rollback, too."""
    place = team.place(chance)
    back = place.entered[-1:] if place.is_unfinished else place.entered[-2:-1]
    if place.name == "prod" or not back:
        return None
    release, models, ran = back[0].release, back[0].models, back[0].ran
    answer = team("rollback", place.name, "--because", "it was wrong", "--yes", "--json")
    document = said(answer)
    if answer.code != 0 or document.get("state") not in {"done", "nothing to do"}:
        _refused(answer, document)
        return place
    for number in reversed(range(ran, place.ran)):
        change = team.changes[number]
        if not change.undo or number in team.adopted:
            break
        if change.loses(place.tables):
            raise Wrong(f"the rollback lost rows: {change.undo}\n{document['findings']}")
        change.off(place.tables)
        place.ran = number
    for number in range(place.ran, ran):
        team.changes[number].on(place.tables)
        place.ran = number + 1
    place.models = dict(models)
    place.behind |= {m.name for m in models.values() if m.store is not Store.VIEW}
    place.holds = dict(back[0].holds)
    if document["state"] == "done":
        place.enter(release)
    return place


# ---- holds ---------------------------------------------------------------------------------------


def hold(team: Team, chance: random.Random) -> Place | None:
    """A model is kept as it is."""
    place = team.place(chance)
    if place.name == "prod" or not place.models:
        return None
    name = chance.choice(sorted(place.models))
    words = ["hold", f"model:{name}", "--in", place.name, "--because", "to see", "--yes", "--json"]
    answer = team(*words)
    if answer.code == 0 and said(answer)["state"] == "done":
        place.holds[name] = place.models[name]
        _composed(team, place, dict(place.models), _built([said(answer)]))
        place.enter(place.entered[-1].release)
    return place


def lift(team: Team, chance: random.Random) -> Place | None:
    """A hold ends: that model becomes what the bundle there says, and nothing else does."""
    place = team.place(chance)
    if not place.holds or place.name == "prod":
        return None
    name = chance.choice(sorted(place.holds))
    answer = team("hold", f"model:{name}", "--in", place.name, "--lift", "--yes", "--json")
    if answer.code != 0:
        _refused(answer, said(answer))
        return place
    del place.holds[name]
    new = {n: m for n, m in place.models.items() if n != name}
    release = place.entered[-1].release
    if name in release.models:
        new[name] = release.models[name]
    _composed(team, place, new, _built([said(answer)]))
    place.enter(release)
    return place


# ---- runs ----------------------------------------------------------------------------------------


def run(team: Team, chance: random.Random) -> Place | None:
    """The pipeline is run."""
    place = team.place(chance)
    if not place.models or place.ran == 0:
        return None
    answer = team("run", "nightly", "--in", place.name, "--yes", "--json")
    document = said(answer)
    if isinstance(document, dict) and "text" in document:
        document = _last_line(answer)
    if answer.code != 0:
        return place
    built = {
        s["part"].removeprefix("model:")
        for s in document.get("steps", [])
        if s["work"] == "build" and s["state"] == "done"
    }
    kept = {n for n in built & set(place.models) if place.models[n].store.grows}
    place.mark_behind(built)
    place.behind -= built - kept
    for name in built:
        place.day[name] = team.today
    return place


def _last_line(answer: Answer) -> Any:
    import json

    lines = [json.loads(line) for line in answer.out.splitlines() if line.startswith("{")]
    return next((line for line in reversed(lines) if "steps" in line), {})


# ---- hands of others -----------------------------------------------------------------------------


def rows_come(team: Team, chance: random.Random) -> Place | None:
    """Rows come into a source table, with values in every column."""
    place = team.place(chance)
    if not place.tables:
        return None
    name = chance.choice(sorted(place.tables))
    table = place.tables[name]
    values: dict[str, Any] = {column: team.number() for column in sorted(table.columns)}
    values |= {"grp": chance.choice("ab"), "id": team.number(), "val": chance.randint(0, 12)}
    columns, texts = ", ".join(values), ", ".join(repr(value) for value in values.values())
    if team.by_hand(place, f"INSERT INTO src.{name} ({columns}) VALUES ({texts})"):
        table.rows.append(values)
        place.mark_behind({f"src.{name}"})
    return place


def dba_column(team: Team, chance: random.Random) -> Place | None:
    """Somebody adds or renames a column by hand, or takes that back."""
    place = team.place(chance)
    if place.hand is not None:
        if team.by_hand(place, place.hand.undo):
            place.hand.off(place.tables)
            place.hand = None
        return place
    if not place.tables:
        return None
    table = chance.choice(sorted(place.tables))
    spare = sorted(set(place.tables[table].columns) - {"id", "grp", "val"})
    change = Change("add", table, f"h{team.number()}")
    if spare and chance.random() < 0.5:
        change = Change("rename", table, chance.choice(spare), f"h{team.number()}")
    if team.by_hand(place, change.sql):
        change.on(place.tables)
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
    if place.hand is None or place.ran < len(team.changes):
        return None
    answer = team("adopt", place.name, "src")
    if answer.code != 0:
        return place
    files = sorted((team.checkouts[0].folder / "schemas/src/migrations").glob("*_by_hand_in_*.sql"))
    new = [file for file in files if file.stem not in team.files]
    if len(new) != 1:
        raise Wrong(f"adopt wrote {[file.name for file in new]}:\n{answer.text}")
    text = new[0].read_text()
    if place.hand.what == "rename" and ("RENAME" not in text or "DROP" in text):
        raise Wrong(f"adopt did not know a rename: {text}")
    team.write(f"schemas/src/migrations/{new[0].name}", text)
    team.adopted[len(team.changes)] = place.name
    team.changes.append(place.hand)
    team.files.append(new[0].stem)
    place.hand = None
    place.by_hand.add(f"taken up {len(team.changes) - 1}")
    return place


def back_up(team: Team, chance: random.Random) -> Place | None:
    """A backup of an environment is made, or the last one is restored."""
    place = team.place(chance)
    if place.url.startswith("postgresql"):
        return None
    folder = team.folder / "backups" / place.name
    live = team.folder / place.name
    if place.name not in team.backups:
        if place.release is not None:
            shutil.rmtree(folder, ignore_errors=True)
            shutil.copytree(live, folder)
            team.backups[place.name] = place.copy()
            team.log.append(f"$ cp -r {live} {folder}")
        return None
    kept = team.backups.pop(place.name)
    shutil.rmtree(live)
    shutil.copytree(folder, live)
    team.log.append(f"$ cp -r {folder} {live}")
    team.places[place.name] = kept
    kept.by_hand.add("restored")
    is_older = kept.entered != place.entered
    (told,) = team("status", place.name, "--json", is_judge=True).json["environments"]
    if is_older and team.has_ledger_of(place.name) and told["unknown_there"] is None:
        raise Wrong(f"status does not tell that {place.name} was restored: {told}")
    return kept


def days_pass(team: Team, chance: random.Random) -> Place | None:
    """A night passes."""
    team.days += chance.randint(1, 3)
    return None


def lose_ledger(team: Team, chance: random.Random) -> Place | None:
    """The ledger is lost, and rebuilt."""
    place = team.place(chance)
    if place.release is None:
        return None
    for file in team.folder.glob("ledger.sqlite*"):
        file.unlink()
    team.log.append("$ rm ledger.sqlite*")
    team.entered_ledger.clear()
    team("ledger", "rebuild", "--json", code=0)
    return place


DEEDS: dict[str, tuple[Deed, int]] = {
    "add a model": (add_model, 8),
    "edit a model": (edit_model, 8),
    "remove a model": (remove_model, 2),
    "rename a model": (rename_model, 2),
    "migrate": (migrate, 6),
    "promote": (promote, 14),
    "promote some": (promote_some, 5),
    "promote, killed": (promote_killed, 3),
    "roll back": (roll_back, 4),
    "hold": (hold, 3),
    "lift": (lift, 3),
    "run": (run, 4),
    "rows come": (rows_come, 8),
    "a column by hand": (dba_column, 2),
    "a table by hand": (dba_table, 2),
    "adopt": (adopt, 2),
    "days pass": (days_pass, 2),
    "lose the ledger": (lose_ledger, 1),
    "back up": (back_up, 3),
}
"""Each deed, and how often it is done."""
