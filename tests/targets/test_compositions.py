"""The store of compositions: all values come back, and nothing else is taken."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import msgspec
import pytest

from inchworm.core.identifiers import Kind, PartId, RelationName
from inchworm.core.ledger.entries import Head
from inchworm.core.parts import Digest
from inchworm.core.promotion.composition import (
    CompletedPromotion,
    Composition,
    Interface,
    LivePart,
    Mixture,
    RanMigration,
    SetSchedule,
)
from inchworm.core.promotion.holds import Hold
from inchworm.core.structure.definitions import Definition, Difference, Thing
from inchworm.core.structure.shapes import ColumnShape, TableShape
from inchworm.core.structure.tables import Column, Table
from inchworm.store.compositions import FOLDER, Compositions, Remembered, _of
from inchworm.store.remembered_values import Remembering
from inchworm.targets.databases.file_states import SETTLES_AFTER, settled_state
from tests.driver import SEALER

OTHER = msgspec.msgpack.encode({"a": 1})
PART = PartId(Kind.MODEL, "mart.daily")
LIVE = LivePart(
    part=PART,
    project="river",
    bundle="river-1.0.0",
    digest=Digest("sha256:1"),
    content=Digest("sha256:2"),
    commit=None,
    promotion="a:P1",
    put_at="2026-11-27T12:00:00+00:00",
    interface_text=Interface(values={"a": "1"}).text,
)
SHAPE = TableShape(
    columns=(ColumnShape(name="n", type="INTEGER"),),
    constraints={"p": "PRIMARY KEY (n)"},
    refers_to=frozenset({"a.b"}),
)
DEFINITION = Definition(thing=Thing.TABLE, name="mart.daily", sql="CREATE ...", shape=SHAPE)
EVERYTHING = Composition(
    identity="x at y",
    read_at="",
    parts={PART: LIVE},
    foreign_parts=(LIVE,),
    migrations=(
        RanMigration(
            schema="ops", name="1", checksum="c", outcome="ran", promotion="a:P1", ran_at="t"
        ),
    ),
    tables={
        RelationName("mart.daily"): Table(name="mart.daily", columns=(Column("n", "INTEGER"),))
    },
    set_schedules={"p.s": SetSchedule("on", "t")},
    holds=(Hold(part=PART, because="b", until=dt.date(2026, 12, 1), by="me"),),
    promotions=(
        CompletedPromotion(
            promotion="a:P1",
            bundle="b",
            digest="d",
            commit=None,
            by="me",
            at="t",
            mixture=Mixture(sources={"model:a.b": ""}),
        ),
    ),
    heads={"a": Head(1, "h")},
    differences=(Difference(key="k", name="mart.daily", what="changed", was="a", now="b"),),
    dependents={"mart.daily": ("view a.b",)},
    attached={"mart.daily": (DEFINITION,)},
    granted=(DEFINITION,),
    api_versions=(),
)


@pytest.fixture
def store(tmp_path: Path) -> Compositions:
    return Compositions(Remembering(tmp_path, SEALER))


def test_all_values_come_back(store: Compositions) -> None:
    read = Remembered(EVERYTHING, is_for_draft=True)
    assert EVERYTHING.parts[PART].interface.values == {
        "a": "1"
    }  # what was worked out stays with it
    assert EVERYTHING.tables["mart.daily"].by_name["n"].type == "INTEGER"
    store.put("dev", "now", read)
    assert store.get("dev", "now") == read
    assert store.get("dev", "later") is None
    assert store.get("test", "now") is None


@pytest.mark.parametrize(
    "content", [b"", b"\x80\x05]\x94.", b"{}", msgspec.msgpack.encode({"a": 1})]
)
def test_nothing_else_is_taken(content: bytes, store: Compositions, tmp_path: Path) -> None:
    store.put("dev", "now", Remembered(EVERYTHING, is_for_draft=True))
    (file,) = (tmp_path / FOLDER).iterdir()
    file.write_bytes(SEALER.seal(_of("now"), content).encode() + b"\n" + content)
    assert store.get("dev", "now") is None


def test_the_file_of_a_former_version_goes(store: Compositions, tmp_path: Path) -> None:
    (tmp_path / FOLDER).mkdir(parents=True)
    (tmp_path / FOLDER / "dev.pickle").write_bytes(b"former")
    store.put("dev", "now", Remembered(EVERYTHING, is_for_draft=True))
    assert [file.name for file in (tmp_path / FOLDER).iterdir()] == ["dev.msgpack"]


@pytest.mark.parametrize("keep", [0, 1, 10, 70, 100, 200])
def test_what_is_cut_off_is_nothing(keep: int, store: Compositions, tmp_path: Path) -> None:
    store.put("dev", "now", Remembered(EVERYTHING, is_for_draft=True))
    (file,) = (tmp_path / FOLDER).iterdir()
    file.write_bytes(file.read_bytes()[:keep])
    assert store.get("dev", "now") is None


def test_a_state_is_known_once_no_later_writing_can_look_the_same(tmp_path: Path) -> None:
    file, other = tmp_path / "a.db", tmp_path / "a.db.wal"
    nothing = settled_state([file, other], now=0)
    assert nothing is not None
    file.write_text("1")
    written = file.stat().st_ctime
    assert settled_state([file, other], now=written + SETTLES_AFTER / 2) is None
    state = settled_state([file, other], now=written + SETTLES_AFTER * 2)
    assert state not in {None, nothing}
    other.write_text("2")
    later = other.stat().st_ctime + SETTLES_AFTER * 2
    assert settled_state([file, other], now=later) not in {None, state}


def test_what_cannot_be_remembered_is_no_fault(store: Compositions, tmp_path: Path) -> None:
    (tmp_path / FOLDER).parent.mkdir()
    (tmp_path / FOLDER).write_text("in the way")
    store.put("dev", "now", Remembered(EVERYTHING, is_for_draft=True))
    assert store.get("dev", "now") is None
    (tmp_path / FOLDER).unlink()
    store.put("dev", "now", Remembered(EVERYTHING, is_for_draft=True))
    assert [file.name for file in (tmp_path / FOLDER).iterdir()] == ["dev.msgpack"]
    assert (tmp_path / FOLDER / "dev.msgpack").stat().st_mode & 0o777 == 0o600
