"""Two sides compared part by part, and the parts that somebody chose."""

from __future__ import annotations

import datetime as dt

import pytest

from inchworm.core.bundle.sides import (
    ComparedPart,
    PartState,
    Side,
    SidePart,
    compare_rights,
    compare_schedules,
    compare_sides,
    counts,
    rights_of,
)
from inchworm.core.environments.environment import DatabaseAddress
from inchworm.core.errors import UsageError
from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Assembly
from inchworm.core.parts import Digest
from inchworm.core.promotion.choosing import (
    ABSENT,
    Choice,
    chosen_parts,
    kept_sources,
    lacks_content,
)
from inchworm.core.promotion.composition import LivePart
from inchworm.core.promotion.holds import Hold
from inchworm.core.structure.definitions import Definition, Thing
from inchworm.kinds.project_reader import read_project

ONE, OTHER = Digest("sha256:1"), Digest("sha256:2")
DAILY = PartId.parse("model:hydro.daily")


def side_part(content: Digest = ONE, version: str = "", **values: str) -> SidePart:
    return SidePart(content=content, version=version, values=values)


def state_of(a: SidePart | None, b: SidePart | None) -> tuple[str, tuple[str, ...]]:
    sides = [Side(name=n, parts={DAILY: p} if p else {}) for n, p in (("a", a), ("b", b))]
    (compared,) = compare_sides(*sides)
    return compared.state.value, compared.details


def test_how_a_part_stands_on_two_sides() -> None:
    assert state_of(side_part(), None) == ("only in A", ())
    assert state_of(None, side_part()) == ("only in B", ())
    assert state_of(side_part(), side_part(OTHER)) == ("differs", ())
    assert state_of(side_part(), side_part()) == ("same", ())
    values = ("days: 3 | 7", "only: x | -")
    assert state_of(side_part(days="3", only="x"), side_part(days="7")) == ("values only", values)
    of_a_tree = SidePart(content=ONE)
    assert state_of(of_a_tree, side_part(days="3")) == ("same", ())
    assert state_of(side_part(days="3"), of_a_tree) == ("same", ())


def test_what_is_held_or_changed_by_hand_does_not_count_as_a_difference() -> None:
    a = Side(name="test", parts={DAILY: side_part(version="v1")}, holds={DAILY: "not yet"})
    b = Side(name="prod", parts={DAILY: side_part(OTHER, version="v2")})
    held = ComparedPart(
        part=DAILY, state=PartState.HELD, a="v1", b="v2", details=("test: not yet",)
    )
    assert compare_sides(a, b) == [held]
    assert [each.state for each in compare_sides(a, a)] == [PartState.SAME]
    drifted = Side(name="prod", parts=b.parts, drifted=frozenset({DAILY}))
    (compared,) = compare_sides(a, drifted)
    assert (compared.state, compared.details) == (PartState.DRIFTED, ("by hand in prod",))
    (compared,) = compare_sides(drifted, drifted)
    assert compared.details == ("by hand in prod and prod",)


def test_states_are_counted_in_their_order() -> None:
    parts = [ComparedPart(part=DAILY, state=s) for s in (PartState.HELD, PartState.SAME)]
    counted = counts([*parts, parts[0]])
    assert list(counted.items()) == [(PartState.SAME, 1), (PartState.HELD, 2)]


def test_schedules_and_rights_of_two_environments() -> None:
    a = Side(
        name="a", parts={}, schedules={"p.s": "on", "p.t": "on"}, rights={"m.t to x": "SELECT"}
    )
    b = Side(name="b", parts={}, schedules={"p.s": "off", "p.t": "on"}, rights={})
    assert compare_schedules(a, b) == [("p.s", "on", "off")]
    assert compare_rights(a, b) == [("m.t to x", "SELECT", "-")]
    tree = Side(name=".", parts={})
    assert compare_schedules(a, tree) == compare_rights(tree, a) == []


def test_rights_are_told_by_logical_names() -> None:
    sql = "GRANT SELECT ON dev_hydro_x.t TO analysts;\nGRANT INSERT ON dev_hydro_x.t TO analysts"
    granted = Definition(thing=Thing.RIGHTS, name="dev_hydro_x.t to analysts", sql=sql)
    address = DatabaseAddress(url="duckdb:///x", schema_pattern="dev_{schema}_x")
    assert rights_of([granted], address) == {"hydro.t to analysts": "SELECT, INSERT"}


# ---- what somebody chose -------------------------------------------------------------------------

FILES = {
    "models/hydro/raw.sql": "/*---\nowner = 'Hydrology'\n---*/\nSELECT 1 AS n",
    "models/hydro/daily.sql": "SELECT n FROM hydro.raw",
    "models/report/out.sql": "SELECT n FROM hydro.daily",
    "checks/few.sql": "/*---\nabout = 'too few'\n---*/\nSELECT n FROM report.out",
}
RAW, OUT = PartId.parse("model:hydro.raw"), PartId.parse("model:report.out")


def assembly() -> Assembly:
    files = {path: text.encode() for path, text in FILES.items()}
    return read_project(name="x", version="1.0.0", dialect="duckdb", files=files).assembly


def live(part: PartId, bundle: str = "x-0.9.0", content: Digest = ONE) -> LivePart:
    return LivePart(
        part=part,
        project="x",
        bundle=bundle,
        digest=ONE,
        content=content,
        commit=None,
        promotion="P1",
        put_at="",
    )


@pytest.mark.parametrize(
    ("choice", "names"),
    [
        (Choice(), "check:few model:hydro.daily model:hydro.raw model:report.out model:x.old"),
        (Choice(only=("hydro.daily",)), "model:hydro.daily"),
        (Choice(only=(" MODEL:hydro.Daily ",)), "model:hydro.daily"),
        (Choice(only=("model:hydro.*",)), "model:hydro.daily model:hydro.raw"),
        (Choice(only=("check:",)), "check:few"),
        (Choice(only=("models/report/",)), "model:report.out"),
        (Choice(only=("owner:hydro*",)), "model:hydro.raw"),
        (Choice(only=("x.old",)), "model:x.old"),
        (Choice(only=("few", "x.old")), "check:few model:x.old"),
        (Choice(excluded=("model:",)), "check:few"),
        (
            Choice(only=("model:",), excluded=("hydro.raw", "x.old")),
            "model:hydro.daily model:report.out",
        ),
        (Choice(only=("hydro.daily",), upstream=True), "model:hydro.daily model:hydro.raw"),
        (
            Choice(only=("hydro.daily",), downstream=True),
            "check:few model:hydro.daily model:report.out",
        ),
        (
            Choice(only=("report.out",), upstream=True, excluded=("hydro.raw",)),
            "model:hydro.daily model:report.out",
        ),
    ],
)
def test_what_a_choice_means(choice: Choice, names: str) -> None:
    old = PartId.parse("model:x.old")
    assert " ".join(map(str, sorted(chosen_parts(choice, assembly(), {old: live(old)})))) == names


@pytest.mark.parametrize("text", ["hydro.dialy", "owner:", "owner:nobody", "models/none/", "flow:"])
def test_a_choice_of_nothing_is_refused(text: str) -> None:
    with pytest.raises(UsageError, match="means no part") as refused:
        chosen_parts(Choice(only=(text,)), assembly(), {})
    if text == "hydro.dialy":
        assert "hydro.daily" in str(refused.value.next)


def test_the_versions_of_what_stays() -> None:
    bundle = assembly()
    same = bundle.parts[RAW].digest
    parts = {
        RAW: live(RAW, content=same),
        DAILY: live(DAILY),
        OUT: live(OUT, content=bundle.parts[OUT].digest),
        PartId.parse("model:x.old"): live(PartId.parse("model:x.old")),
    }
    stays = {*parts, PartId.parse("check:few"), PartId.parse("model:x.never")}

    def rendered(part: PartId) -> Digest:
        return Digest("of other values") if part == OUT else parts[part].digest

    kept = kept_sources(stays, bundle, parts, "x-1.0.0", rendered)
    assert {str(part): source for part, source in kept.items()} == {
        "check:few": ABSENT,
        "model:hydro.daily": "x-0.9.0",
        "model:report.out": "x-1.0.0",
        "model:x.old": "x-0.9.0",
    }
    assert lacks_content(kept, bundle, parts)
    assert not lacks_content({OUT: "x-1.0.0"}, bundle, parts)


def test_a_hold_lasts_until_the_end_of_its_last_day() -> None:
    hold = Hold(part=DAILY, because="b", until=dt.date(2026, 12, 1), by="lena")
    days = [dt.date(2026, 11, 30), dt.date(2026, 12, 1), dt.date(2026, 12, 2)]
    assert [hold.holds_on(day) for day in days] == [True, True, False]
    for good in (hold, Hold(part=DAILY, because="b", until=None, by="lena")):
        assert Hold.from_json(good.to_json()) == good
    assert Hold(part=DAILY, because="b", until=None, by="lena").holds_on(dt.date(9999, 1, 1))
