"""Deeds that change what is live: promotions, rollbacks, holds."""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Any

from tests.driver import Answer
from tests.storm.advice import advised
from tests.storm.hands import rows_into
from tests.storm.judge import compared, idle, recorded
from tests.storm.team import ROUTE, Team, said
from tests.storm.truth import Change, Model, Place, Release, Store, Table, Wanted, Witness, Wrong


def promote(team: Team, chance: random.Random) -> Place | None:
    """A whole bundle goes where it may go."""
    place = team.place(chance)
    release = _release_for(team, place)
    if release is None:
        return None
    _enter(team, place, release, ["promote", release.name, "--to", place.name])
    return place


def promote_by_exception(team: Team, chance: random.Random) -> Place | None:
    """Somebody who may lets a bundle in that nobody approved."""
    place = team.places["prod"]
    release = _release_for(team, place)
    if release is None:
        return None
    words = ["promote", release.name, "--to", place.name, "--exception", "--because", "a flood"]
    refused = team(*words, "--yes", "--json", who=0)  # who may not
    if refused.code == 0 and said(refused).get("state") != "nothing to do":
        raise Wrong(f"lena let {release.name} in by exception: {refused.text[:1000]}")
    _enter(team, place, release, words, who=1)
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
    _enter(team, place, release, words)
    return place


def promote_killed(team: Team, chance: random.Random) -> Place | None:
    """A promotion is killed; somebody else goes on."""
    place = team.places[chance.choice(ROUTE[:2])]
    release = _release_for(team, place)
    if release is None:
        return None
    words = ["promote", release.name, "--to", place.name, "--yes", "--json"]
    before = team("status", place.name, "--json").json["environments"][0]
    if not team.kill(*words, who=0, after=chance.uniform(0.02, 0.9)):
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
        _took_place(team, place, release, [team("history", id_, "--json", who=1).json], words)
    else:
        _after_failure(place, release)
    return place


def promote_later(team: Team, chance: random.Random) -> Place | None:
    """A draft waits, rows come meanwhile, and then it is carried out."""
    place = team.place(chance)
    release = _release_for(team, place)
    if release is None or place.key == "prod":
        return None
    words = ["promote", release.name, "--to", place.name]
    drafted = said(team(*words, "--draft", "--json"))
    if drafted.get("id") is None:
        return place
    for _ in range(chance.randint(1, 3)):
        rows_into(team, chance, place)
    answer = team("promote", drafted["id"], "--yes", "--json")
    document = said(answer)
    if answer.code == 0 and document.get("state") == "done":
        _took_place(team, place, release, [document], words)
    elif answer.code == 4:
        _enter(team, place, release, words)
    else:
        _refused(answer, document)
        place.is_unfinished |= document.get("state") in {"failed", "partly done"}
        _after_failure(place, release)
    return place


def _release_for(team: Team, place: Place) -> Release | None:
    before = team.before(place)
    return team.pack() if before is None else before.release


def _enter(
    team: Team, place: Place, release: Release, words: list[str], *, who: int = 0, tries: int = 3
) -> None:
    """Carry a promotion out, with the approval that it may need; do what a refusal advises."""
    before = place.copy()
    answer = team(*words, "--yes", "--json", who=who, at=0)
    document = said(answer)
    if answer.code == 3 and "id" in document:
        document, answer = _approved(team, document["id"])
    if answer.code == 0 and document.get("state") == "done":
        _took_place(team, place, release, [document], words)
        recorded(team, place, document["id"])
        if not place.is_partly:
            idle(team, place)
            compared(team, place)
    elif answer.code != 0:
        _refused(answer, document)
        place.is_unfinished |= document.get("state") in {"failed", "partly done"}
        _after_failure(place, release)
        if tries and answer.code == 3 and _went_before(team, document, tries - 1):
            _enter(team, place, release, words, who=who, tries=tries - 1)
        on = advised(team, place, words, document) if tries and answer.code == 1 else None
        if on is not None:
            _enter(team, place, release, on, who=who, tries=tries - 1)
    elif document["state"] == "nothing to do":
        _took_place(team, place, release, [document], words)
        if (place.models, place.ran) != (before.models, before.ran):
            raise Wrong(f"nothing to do, says {words}: {before.models} are to be {place.models}")
        place.entered = before.entered
    else:
        raise Wrong(f"{words}: {document['state']} with exit code 0")


def _went_before(team: Team, document: Any, tries: int) -> bool:
    """Promote first where a refusal says that a bundle has to go, if it says so."""
    on = str(document.get("error", {}).get("next", "")).split(" ")
    places = [
        p for p in team.places.values() if on[:2] == ["inchworm", "promote"] and on[-1] == p.name
    ]
    releases = [r for r in team.packed if len(on) == 5 and r.name == on[2]]
    if not places or not releases:
        return False
    _enter(team, places[0], releases[-1], on[1:], tries=tries)
    return places[0].release is releases[-1] and not places[0].is_partly


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
    team: Team, place: Place, release: Release, documents: list[Any], words: list[str]
) -> None:
    """The truth after a promotion."""
    chosen = _chosen(place, release, words)
    new = dict(place.models)
    for each in {*release.models, *place.models}:
        is_held = each in place.holds or each in _held_before(team, place, release)
        if chosen(each) and not is_held:
            new.pop(each, None)
            if each in release.models:
                new[each] = release.models[each]
    built = _built(documents)
    if "--overwrite" in words:
        # a table that no migration changes keeps it, and it stays known
        changed = {*place.wanted, *release.wanted}
        pending = release.changes[place.ran :] if release.migrates else ()
        changed |= {each.table for each in pending if each.what not in {"update", "insert"}}
        if place.hand is not None and place.hand.table in filter(chosen, changed):
            place.hand = None
        place.made = {name: table for name, table in place.made.items() if name not in new}
    if chosen("src"):
        _migrated(place, release, documents)
    structured(place, {n: c for n, c in release.wanted.items() if chosen(n)}, release, chosen)
    if chosen("flows"):
        place.has_flows, place.factor = True, release.factor
    place.unpassed = _held_before(team, place, release)
    _composed(team, place, new, built)
    place.is_partly = len(words) > 4 and words[4] in {"--only", "--except"}
    place.enter(release)
    if any(document["state"] == "done" for document in documents):
        team.entered_by[team.ledger].add(place.key)
        place.by_ledger = team.ledger
    if not place.is_partly:
        place.by_hand.discard("restored")


def _chosen(place: Place, release: Release, words: list[str]) -> Callable[[str], bool]:
    """Whether a model, a table of a schema, a schema or the flows were to go."""
    if len(words) < 6 or words[4] not in {"--only", "--except"}:
        return lambda name: True
    named = words[5].removeprefix("model:")
    if words[4] == "--except":
        excluded = {w.removeprefix("model:") for w in words[5:]}
        return lambda name: name not in excluded
    names = {named}
    if "--with-upstream" in words:
        waiting = {named}
        while waiting:
            model = release.models.get(waiting.pop())
            new = set(model.reads) - names if model else set()
            names |= new
            waiting |= new
    schemas = {name.partition(".")[0] for name in names} - {"m"}
    return lambda name: name in names or name.partition(".")[0] in schemas


def _held_before(team: Team, place: Place, release: Release) -> set[str]:
    """The models that a hold kept otherwise where a bundle comes from: they stay here, too."""
    before = team.before(place)
    if before is None or before.release is not release:
        return set()
    names = {*before.holds, *before.unpassed}
    return {n for n in names if before.models.get(n) != release.models.get(n)}


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
    moved = {n: model.moved_from for n, model in new.items() if n not in place.models}
    place.grants |= {name for name, former in moved.items() if former in place.grants}
    place.grants &= set(new)
    place.models = new
    for name in built:
        place.day[name] = team.today


def structured(
    place: Place, wanted: Wanted, release: Release, chosen: Callable[[str], bool]
) -> None:
    """Wanted structures came about: with the rows that there were, and no value lost unsaid."""
    for name in set(place.wanted) - set(wanted):
        if not chosen(name) or (name.startswith("src.") and release.migrates):
            continue  # a schema that is managed by migrations again keeps what it has
        if place.tables.pop(name).rows and name not in place.may_lose:
            raise Wrong(f"{place.name}: {name} was not wanted any more, and had rows")
        del place.wanted[name]
    for name, columns in wanted.items():
        table = place.tables.setdefault(name, Table({}))
        for column in set(table.columns) - set(columns):
            is_lost = any(row.get(column) is not None for row in table.rows)
            if is_lost and not {name, f"{name}.{column}"} & place.may_lose:
                raise Wrong(f"{place.name}: {name} lost values of {column}")
        table.columns = dict.fromkeys(columns, "INTEGER")
        table.rows = [{c: row.get(c) for c in columns} for row in table.rows]
        place.wanted[name] = columns
    if chosen("src"):
        place.migrates = release.migrates
        if release.migrates:
            place.wanted = {n: c for n, c in place.wanted.items() if not n.startswith("src.")}
    place.by_hand -= {f"taken up {name}.{c}" for name, its in wanted.items() for c in its}


def _migrated(place: Place, release: Release, documents: list[Any]) -> None:
    """Whatever migrations changed of rows has to be in what reads them, or be said."""
    if not release.migrates:
        return
    for number in range(place.ran, len(release.changes)):
        change = release.changes[number]
        if release.adopted.get(number) == place.key:
            place.by_hand.discard(f"taken up {number}")
            readers = {m.name for m in place.models.values() if change.table in m.reads}
            place.behind -= readers if change.what == "widen" else set()
        else:
            taken = change.takes(place.tables)
            if taken and not {taken, change.table} & place.may_lose:
                raise Wrong(f"{place.name}: {change.sql} took rows away")
            change.on(place.tables)
            _unseen(place, release, change, documents)
    place.ran = max(place.ran, len(release.changes))


def _unseen(place: Place, release: Release, change: Change, documents: list[Any]) -> None:
    """A model that keeps its rows does not see old ones that a migration writes: to be said."""
    if change.what not in {"update", "insert"}:
        return
    text = " ".join(f["message"] for d in documents for f in d.get("findings", []))
    for name, after in release.models.items():
        moves = after.moved_from not in place.holds  # what is held stays, and this one is new
        before = place.models.get(name) or (place.models.get(after.moved_from) if moves else None)
        keeps = before is not None and before.store is after.store is Store.KEPT
        if not keeps or name in place.holds or change.table not in after.reads:
            continue
        place.behind.add(name)
        if "findings" in documents[-1] and name not in text:
            raise Wrong(f"{name} does not see what {change.sql} changes: not said")


def _after_failure(place: Place, release: Release) -> None:
    """Find out how many migrations ran; everything else has to be as before."""
    trial = place.copy()
    changes = release.changes if release.migrates else ()
    with Witness(place.url) as witness:
        for number in range(place.ran, len(changes)):
            if _fits(trial, witness):
                break
            changes[number].on(trial.tables)
        else:
            number = max(place.ran, len(changes))
    if number != place.ran:
        place.tables, place.ran = trial.tables, number
        place.mark_behind(set(place.tables))


def _fits(place: Place, witness: Witness) -> bool:
    for name, table in place.tables.items():
        columns = witness.columns(name)
        if sorted(columns) != sorted(table.columns):
            return False
        names = ", ".join(sorted(columns))
        if witness.rows(f"SELECT {names} FROM {name}") != table.content:
            return False
    return witness.relations("src") >= {n for n in place.tables if n.startswith("src.")}


def roll_back(team: Team, chance: random.Random) -> Place | None:
    """The latest promotion is taken back; of a rollback, too."""
    place = team.place(chance)
    back = place.entered[-1:] if place.is_unfinished else place.entered[-2:-1]
    if place.key == "prod" or not back:
        return None
    release, models, ran = back[0].release, back[0].models, back[0].ran
    answer = team("rollback", place.name, "--because", "it was wrong", "--yes", "--json")
    document = said(answer)
    if answer.code != 0 or document.get("state") not in {"done", "nothing to do"}:
        _refused(answer, document)
        return place
    structured(place, dict(back[0].wanted), back[0].release, lambda name: True)
    place.has_flows, place.factor = back[0].has_flows, back[0].factor
    for number in reversed(range(ran, place.ran)):
        change = team.changes[number]
        if not change.undo or number in team.adopted:
            break
        if change.loses(place.tables) and change.table not in place.may_lose:
            raise Wrong(f"the rollback lost rows: {change.undo}\n{document['findings']}")
        change.off(place.tables)
        place.ran = number
    for number in range(place.ran, ran):
        team.changes[number].on(place.tables)
        place.ran = number + 1
    place.day |= {n: d for n, d in back[0].day.items() if place.models.get(n) != models.get(n)}
    place.day |= {n: back[0].day[n] for n in _built([document]) & set(back[0].day)}
    place.models = dict(models)
    if place.was_granted:  # what was removed comes back with its rights
        with Witness(place.url) as witness:
            place.grants = {name for name in models if witness.may_read("storm_reader", name)}
    place.behind |= {m.name for m in models.values() if m.store is not Store.VIEW}
    place.holds = dict(back[0].holds)
    if document["state"] == "done":
        place.enter(release)
        place.by_ledger = team.ledger
    return place


# ---- holds ---------------------------------------------------------------------------------------


def hold(team: Team, chance: random.Random) -> Place | None:
    """A model is kept as it is."""
    place = team.place(chance)
    if place.key == "prod" or not place.models:
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
    if not place.holds or place.key == "prod":
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
