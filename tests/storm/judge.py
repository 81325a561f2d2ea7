"""Holds the databases, and what the tool says of them, against the truth."""

from __future__ import annotations

from tests.storm.team import Team
from tests.storm.truth import Place, Store, Witness, Wrong


def judge(team: Team, place: Place) -> None:
    """Judge an environment: its rows, whether it is fresh, and what is said of it.

    Raises:
        Wrong: when something is not as it has to be.
    """
    with Witness(place.url) as witness:
        _rows(place, witness)
        _fresh(team, place, witness)
    _drift(team, place)


def _rows(place: Place, witness: Witness) -> None:
    every = place.tables | place.made
    for name, table in every.items():
        columns = witness.columns(name)
        if not columns:
            raise Wrong(f"{place.name}: {name} is gone, with {len(table.rows)} rows")
        if sorted(columns) != sorted(table.columns):
            raise Wrong(f"{place.name}: {name} has {columns}, and should have {[*table.columns]}")
        names = ", ".join(sorted(table.columns))
        rows = witness.rows(f"SELECT {names} FROM {name}")
        if rows != table.content:
            raise Wrong(f"{place.name}: {name} has {rows}, and should have {table.content}")
    live = {*place.models, *(name for name in place.made if name.startswith("m."))}
    found = {name for name in witness.relations("m") if "inchworm" not in name}
    if missing := live - found:
        raise Wrong(f"{place.name}: {sorted(missing)} are not there")
    if place.study is not None:
        stored = witness.rows("SELECT id, grp, val FROM m.study")
        if stored != place.study:
            raise Wrong(f"{place.name}: the notebook stored {place.study}, and it is {stored}")
    for name in place.grants & set(place.models):
        if not witness.may_read("storm_reader", name):
            raise Wrong(f"{place.name}: storm_reader may not read {name} any more")


def _fresh(team: Team, place: Place, witness: Witness) -> None:
    for model in place.models.values():
        if model.name in place.behind or model.name in place.by_hand:
            continue
        day = place.day.get(model.name, team.today)
        literal = f"'{day}'" if witness.kind == "sqlite" else f"DATE '{day}'"
        query = model.query.replace(":as_of", literal)
        now = witness.rows(query)
        is_ = witness.rows(f"SELECT id, grp, val FROM {model.name}")
        if model.store is Store.KEPT:
            if missing := [row for row in now if row[0] not in {each[0] for each in is_}]:
                raise Wrong(f"{place.name}: {model.name} lacks {missing}")
        elif now != is_:
            raise Wrong(f"{place.name}: {model.name} ({model.store.value}) has {is_}, now {now}")
        wanted, have = witness.types(query), witness.types(f"SELECT id, grp, val FROM {model.name}")
        if wanted != have and model.store is not Store.KEPT:
            raise Wrong(f"{place.name}: {model.name} has types {have}, and should have {wanted}")


def _drift(team: Team, place: Place) -> None:
    if place.release is None or "restored" in place.by_hand:
        return  # of services nobody has restored anything
    drifted = team("drift", place.name, "--json", is_judge=True).json["drifted"]
    hands = {n for n in place.by_hand if not n.startswith("made ")} | place.grants
    hands |= {str(place.hand)} if place.hand is not None else set()
    if bool(drifted) != bool(hands):
        raise Wrong(f"drift {place.name} says {drifted}; by hand: {sorted(hands)}")


def compared(team: Team, place: Place) -> None:
    """What ``compare`` says of the models of an environment and of the one before it.

    Raises:
        Wrong: when it says that models are the same, and they are not; or the other way.
    """
    other = team.before(place)
    if other is None or other.release is None or "restored" in other.by_hand | place.by_hand:
        return
    words = ("compare", other.name, place.name, "--json")
    states = {p["part"]: p["state"] for p in team(*words, is_judge=True).json["parts"]}
    for name in {*other.models, *place.models}:
        one, two = other.models.get(name), place.models.get(name)
        state = states.get(f"model:{name}", "same")
        right = {"values only", "same", "drifted"} if one == two else {"differs", "drifted"}
        right = {"only in A", "drifted"} if two is None else right
        right = {"only in B", "drifted"} if one is None else right
        if state not in right and not (state == "held" and name in {*place.holds, *other.holds}):
            raise Wrong(f"compare {other.name} {place.name} says of {name} {state}: {one}, {two}")


def recorded(team: Team, place: Place, id_: str) -> None:
    """What ``history``, ``review`` and ``trace`` say once a promotion is done.

    Raises:
        Wrong: when it is not what was done, or not what the files say.
    """
    of_place = team("history", "--to", place.name, "--json", is_judge=True).json["promotions"]
    done = [each["id"] for each in of_place if each["state"] == "done"]
    if done[:1] != [id_]:
        raise Wrong(f"history --to {place.name} begins with {done[:1]}, and {id_} was the last")
    carried_out = team("history", id_, "--json", is_judge=True).json
    ends = {"done", "assumed", "nothing checked"}
    if open_ := [step for step in carried_out["steps"] if step["state"] not in ends]:
        raise Wrong(f"{id_} is done, and history says of steps {open_}")
    reviewed = team("review", id_, "--json", is_judge=True).json
    for document in (carried_out, reviewed):
        if len(document["steps"]) != len(carried_out["steps"]):
            raise Wrong(f"review {id_} and history {id_} name other steps")
    for name, model in sorted(team.models.items())[:1]:
        answer = team("trace", f"model:{name}", "--up", "--depth", "1", "--json", is_judge=True)
        reads = {".".join(edge["from"].split(".")[:2]) for edge in answer.json["edges"]}
        if reads - {"parameter:as_of"} != set(model.reads):
            raise Wrong(f"trace says that {name} reads {sorted(reads)}, and it is {model.reads}")


def idle(team: Team, place: Place) -> None:
    """What runs there promoted again has to be nothing to do, and status has to name it.

    Raises:
        Wrong: when that is not so.
    """
    last = place.release
    assert last is not None
    answer = team("promote", last.name, "--to", place.name, "--draft", "--json", is_judge=True).json
    if answer.get("steps") and not place.holds:
        raise Wrong(f"{place.name}: {last.name} again would do {answer['steps']}")
    (state,) = team("status", place.name, "--json", is_judge=True).json["environments"]
    if state["bundle"] != last.name:
        raise Wrong(f"status {place.name} says {state['bundle']}, and it is {last.name}")
