"""Taking over what is known: no more is worked out again than has to be, and never less."""

from __future__ import annotations

import random
from collections.abc import Iterable

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inchworm.core.identifiers import PartId
from inchworm.core.lineage.facts import Facts
from inchworm.core.lineage.facts_text import Held, read_facts
from inchworm.kinds import project_reader as reading_module
from inchworm.kinds.project_reader import Reading, read_project

RAW = {
    "schemas/raw/schema.toml": 'managed = "outside"',
    "schemas/raw/tables.sql": "CREATE TABLE raw.t (id INTEGER, level DOUBLE);",
}
CHAIN = RAW | {
    "models/m/a.sql": "SELECT * FROM raw.t",
    "models/m/b.sql": "SELECT * FROM m.a",
    "models/m/c.sql": "SELECT id FROM m.b",
    "models/m/other.sql": "SELECT id FROM raw.t",
    "consumers/k.toml": 'contact = "c"\n[reads]\n"m.b" = ["level"]\n',
}


class Counting(Held):
    """What is known, and which parts had to be worked out."""

    def __init__(self) -> None:
        super().__init__()
        self.done: list[str] = []

    def __setitem__(self, part: PartId, text: str) -> None:
        self.done.append(str(part))
        super().__setitem__(part, text)


def read(files: dict[str, str], known: Held | None = None) -> Reading:
    contents = {path: text.encode() for path, text in files.items()}
    return read_project(name="p", version="1.0.0", dialect="duckdb", files=contents, known=known)


def everything(reading: Reading) -> dict[PartId, tuple[Facts, object]]:
    """All that is known, without what it was worked out from."""
    assembly = reading.assembly
    return {
        part: (assembly.facts[part], (outline.wrong, outline.findings))
        for part, outline in assembly.outlines.items()
        if outline.readable
    }


@pytest.mark.parametrize(
    ("change", "again"),
    [
        ({}, []),
        ({"models/m/a.sql": "SELECT id, level FROM raw.t"}, ["model:m.a"]),
        (
            {"models/m/a.sql": "SELECT *, 1 AS one FROM raw.t"},
            ["model:m.a", "model:m.b", "model:m.c", "consumer:k"],
        ),
        ({"models/m/c.sql": "SELECT id + 1 AS id FROM m.b"}, ["model:m.c"]),
        ({"models/m/new.sql": "SELECT id FROM m.c"}, ["model:m.new"]),
    ],
    ids=["nothing", "same columns", "one more column", "an end", "a new one"],
)
def test_only_what_can_differ_is_worked_out_again(change: dict[str, str], again: list[str]) -> None:
    """The part that changed, and those whose input structure did."""
    known = Counting()
    read(CHAIN, known)
    known.done.clear()
    read(CHAIN | change, known)
    assert sorted(known.done) == sorted(again)


_SQL = st.sampled_from(
    [
        "SELECT * FROM {}",
        "SELECT id FROM {}",
        "SELECT *, 1 AS more FROM {}",
        "SELECT id, gone FROM {}",
        "SELECT id FROM nowhere.x",
        "SELECT id FROM",
    ]
)
_NAMES = ["m.a", "m.b", "m.c", "m.d"]
_TREES = st.dictionaries(
    st.sampled_from(_NAMES), st.tuples(_SQL, st.sampled_from(["raw.t", *_NAMES])), max_size=4
)


@given(st.lists(_TREES, min_size=2, max_size=4))
@settings(deadline=None)
def test_what_was_known_before_makes_no_difference(trees: list[dict[str, tuple[str, str]]]) -> None:
    """Whatever came before, circles and broken SQL too: the same as from nothing."""
    known = Held()
    for tree in trees:
        files = RAW | {
            f"models/{name.replace('.', '/')}.sql": sql.format(other)
            for name, (sql, other) in tree.items()
        }
        after, fresh = read(files, known), read(files)
        assert everything(after) == everything(fresh)
        assert after.assembly.findings == fresh.assembly.findings


def many_models(count: int) -> dict[str, str]:
    """Models that read up to three others, some by a star, some under names that hide it."""
    generator = random.Random(3)
    names = ["raw.t"]
    files = dict(RAW)
    for number in range(count):
        some = generator.sample(names[-20:], min(len(names), generator.randint(1, 3)))
        first, *others = [n if generator.random() < 0.8 else n.replace(".", ' . "') for n in some]
        first, *others = [n + '"' if '"' in n else n for n in (first, *others)]
        joins = "".join(
            f" CROSS JOIN (SELECT id AS i{i} FROM {o}) AS j{i}" for i, o in enumerate(others)
        )
        what = generator.choice(["*", "x.id, x.level"])
        files[f"models/m/n{number}.sql"] = f"SELECT {what} FROM {first} AS x{joins} -- {'.' * 400}"
        names.append(f"m.n{number}")
    return files


def test_all_cores_find_what_one_finds(monkeypatch: pytest.MonkeyPatch) -> None:
    """Though the work is dealt out by what parts only seem to read."""
    files = many_models(300)
    files["models/m/n5.sql"] = "SELECT * FROM m.n250"  # a circle
    monkeypatch.setattr(reading_module, "WORTH_IT", 10**9)
    alone = read(files)
    monkeypatch.setattr(reading_module, "WORTH_IT", 0)
    together = read(files)
    assert everything(together) == everything(alone)
    assert together.assembly.findings == alone.assembly.findings
    assert "lineage/cycle" in {finding.rule for finding in alone.assembly.findings}


class Damaged(Held):
    """What is known, except that some texts cannot be read any more."""

    def __init__(self, broken: Iterable[str]) -> None:
        super().__init__()
        self.broken = set(broken)

    def __getitem__(self, part: PartId) -> str:
        if str(part) in self.broken:
            self.broken.remove(str(part))
            return "{"
        return super().__getitem__(part)


def test_a_damaged_text_is_made_again() -> None:
    """When it is asked for; nobody hears of it."""
    known = Damaged([])
    read(CHAIN, known)
    known.broken = {"model:m.a", "model:m.b"}
    assert everything(read(CHAIN, known)) == everything(read(CHAIN))


def test_facts_survive_as_text() -> None:
    """All of them, whatever a part has."""
    files = CHAIN | {
        "parameters.toml": '[board]\ntype = "text"\nevery = "http://x"\n',
        "connections/c.toml": 'kind = "http"\nurl = "${board}"\n',
        "pipelines/p.toml": '[schedules.s]\ncron = "0 0 * * *"\n'
        '[[steps]]\nname = "x"\nbuild = ["m.b"]',
        "models/m/classy.sql": "/*---\nkey = ['id']\n[columns.level]\nabout = 'a'\n"
        "class = 'personal'\ndeclassified = 'why'\n---*/ SELECT * FROM raw.t WHERE id = 3",
    }
    known = Held()
    read(files, known)
    for text in known.values():
        facts = read_facts(text)
        again = Held()
        again[facts.part] = text
        outline = again.outline(facts.part)
        assert outline is not None
        assert outline.part == facts.part
        assert (outline.uses, outline.stages, outline.needs) == (
            facts.uses,
            facts.stages,
            facts.needs,
        )
    classy = read_facts(known[PartId.parse("model:m.classy")])
    assert classy.provides[0].key == ("id",)
    assert [why for _, why in classy.declassified] == ["why"]
