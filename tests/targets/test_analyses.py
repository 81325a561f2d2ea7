"""Analyses of whole bundles: they come back for just those bundles, and make no difference."""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inchworm.core.checks.findings import has_errors
from inchworm.core.identifiers import Kind, PartId
from inchworm.core.lineage.analysis import Analysis
from inchworm.core.lineage.facts_cache import FactsCache
from inchworm.core.parts import Digest, digest_of
from inchworm.kinds.project_reader import Reading, read_project
from inchworm.store.analyses import FOLDER, MOST, Analyses
from inchworm.store.bundle_facts import BundleFacts
from inchworm.store.facts import FactsStore
from inchworm.store.remembered_values import Remembering
from tests.driver import SEALER

RAW = {
    "schemas/raw/schema.toml": 'managed = "outside"',
    "schemas/raw/tables.sql": "CREATE TABLE raw.t (id INTEGER, level DOUBLE);",
    "schemas/raw/stray.csv": "1",
    "apis/readings.yaml": """
openapi: 3.1.0
info: {title: t, version: "1"}
paths:
  /:
    post:
      operationId: post
      requestBody:
        content:
          application/json:
            schema: {type: object, properties: {level: {type: number}}}
      responses: {"204": {description: taken in}}
""",
    "flows/readings.toml": """
direction = "in"
from = { api = "apis/readings.yaml", operation = "post" }
to = { table = "raw.t" }
fields = { level = "level" }
""",
}
ONE = Digest("sha256:" + "1" * 64)
STAMP = "of today"


def placed(root: Path) -> Remembering:
    return Remembering(root, SEALER)


def files_of(models: dict[str, str]) -> dict[str, bytes]:
    sources = RAW | {f"models/{n.replace('.', '/')}.sql": sql for n, sql in models.items()}
    return {path: text.encode() for path, text in sources.items()}


def read(files: dict[str, bytes], known: FactsCache | None = None) -> Reading:
    return read_project(name="p", version="1.0.0", dialect="duckdb", files=files, known=known)


def drafted(root: Path, files: dict[str, bytes]) -> Reading:
    """The files as those of a bundle, read beside the source tree in a folder."""
    digest = digest_of(repr(sorted(files.items())).encode())
    tree = FactsStore(placed(root), "facts.sqlite", STAMP)
    facts = BundleFacts(placed(root), STAMP, tree, digest)
    reading = read(files, facts)
    told(reading)
    facts.keep()
    tree.close()
    return reading


def told(reading: Reading) -> object:
    """All that a reading says, but for which of two orders of models that both serve."""
    assembly = reading.assembly
    at = {part.name: place for place, part in enumerate(assembly.model_order)}
    for model in assembly.model_order:
        read_first = [at[table] for table in assembly.outlines[model].reads if table in at]
        assert max(read_first, default=-1) < at[model.name]
    return (
        {part: (p.digest, [f.path for f in p.files]) for part, p in assembly.parts.items()},
        dict(assembly.outlines),
        dict(assembly.facts),
        sorted(assembly.model_order),
        assembly.findings,
    )


def check(root: Path, files: dict[str, bytes]) -> None:
    """Read the files as the source tree."""
    tree = FactsStore(placed(root), "facts.sqlite", STAMP)
    read(files, tree)
    tree.save({})
    tree.close()


_SQL = st.sampled_from(
    ["SELECT * FROM {}", "SELECT id FROM {}", "SELECT *, 1 AS one FROM {}", "SELECT level FROM {}"]
)
_MODELS = st.dictionaries(
    st.sampled_from(["m.a", "m.b", "m.c"]),
    st.tuples(_SQL, st.sampled_from(["raw.t", "m.a", "m.b"])),
    min_size=1,
)


@given(st.lists(st.tuples(st.booleans(), _MODELS), min_size=2, max_size=5))
@settings(deadline=None)
def test_what_is_kept_of_bundles_makes_no_difference(
    versions: list[tuple[bool, dict[str, tuple[str, str]]]],
) -> None:
    """Bundles and source trees come in any order; each bundle is read as if it were the first."""
    with tempfile.TemporaryDirectory() as folder:
        for is_tree, models in versions:
            files = files_of({name: sql.format(other) for name, (sql, other) in models.items()})
            fresh = read(files)
            if has_errors(fresh.assembly.findings):
                continue  # what is wrong is never packed
            if is_tree:
                check(Path(folder), files)
            for _ in range(2):
                assert told(drafted(Path(folder), files)) == told(fresh)


def test_a_bundle_that_was_read_is_not_worked_out_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    files = files_of({"m.a": "SELECT id FROM raw.t"})
    first = drafted(tmp_path, files)
    assert [finding.rule for finding in first.assembly.findings] == ["part/stray-file"]
    monkeypatch.setattr("inchworm.kinds.project_reader._Rounds.go", None)
    again = drafted(tmp_path, files)
    assert told(again) == told(first)
    rendered = again.render(PartId(Kind.MODEL, "m.a"), {})
    assert rendered.digest == first.render(PartId(Kind.MODEL, "m.a"), {}).digest


@pytest.mark.parametrize("gone", ["bundle_facts.sqlite", "facts.sqlite", "both"])
def test_facts_that_were_lost_are_worked_out_again(gone: str, tmp_path: Path) -> None:
    """The outlines are kept; the facts of single parts are of another bundle, or nowhere."""
    files = files_of({"m.a": "SELECT * FROM raw.t", "m.b": "SELECT id FROM m.a"})
    check(tmp_path, files_of({"m.a": "SELECT 1 AS id", "m.b": "SELECT id FROM m.a"}))
    first = told(drafted(tmp_path, files))
    for file in (tmp_path / ".inchworm").rglob("*.sqlite"):
        if gone in {file.name, "both"}:
            file.unlink()
    if gone in {"facts.sqlite", "both"}:
        (tmp_path / "facts.sqlite").unlink()
    assert told(drafted(tmp_path, files)) == first


@pytest.fixture
def analysis() -> Analysis:
    nowhere = placed(Path("nowhere"))
    known = BundleFacts(nowhere, STAMP, FactsStore(nowhere, "facts.sqlite", STAMP), ONE)
    read(files_of({"m.a": "SELECT id FROM raw.t"}), known)
    assert known.analysis is not None
    return known.analysis


def test_an_analysis_comes_back_for_its_bundle_and_program(
    analysis: Analysis, tmp_path: Path
) -> None:
    Analyses(placed(tmp_path), STAMP).put(ONE, analysis)
    assert Analyses(placed(tmp_path), STAMP).get(ONE) == analysis
    assert Analyses(placed(tmp_path), "another").get(ONE) is None
    near = Digest(ONE[:-1] + "2")  # its file would have the same name
    assert Analyses(placed(tmp_path), STAMP).get(near) is None


def test_the_latest_are_kept(analysis: Analysis, tmp_path: Path) -> None:
    digests = [digest_of(bytes([number])) for number in range(MOST + 3)]
    store = Analyses(placed(tmp_path), STAMP)
    for digest in digests:
        store.put(digest, analysis)
    assert len([*(tmp_path / FOLDER).iterdir()]) == MOST
    assert store.get(digests[-1]) == analysis


@pytest.mark.parametrize("keep", [0, 1, 80, 500])
def test_an_analysis_that_is_cut_off_is_none(keep: int, analysis: Analysis, tmp_path: Path) -> None:
    store = Analyses(placed(tmp_path), STAMP)
    store.put(ONE, analysis)
    (file,) = (tmp_path / FOLDER).iterdir()
    file.write_bytes(file.read_bytes()[:keep])
    assert store.get(ONE) is None


def test_that_an_analysis_cannot_be_kept_is_no_fault(analysis: Analysis, tmp_path: Path) -> None:
    (tmp_path / FOLDER).parent.mkdir()
    (tmp_path / FOLDER).write_text("in the way")
    store = Analyses(placed(tmp_path), STAMP)
    store.put(ONE, analysis)
    assert store.get(ONE) is None
