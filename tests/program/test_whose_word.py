"""Whose word counts: what is remembered, who had a hand in a change, and what the record proves."""

from __future__ import annotations

import io
import json
import shutil
import sqlite3
import zipfile
from pathlib import Path
from typing import Any

import pytest

from inchworm.core.bundle.bundle import MANIFEST, SEAL, seal_bytes
from inchworm.core.errors import BundleError
from inchworm.core.parts import Digest, Seen
from inchworm.core.seal import Sealer
from inchworm.store.archives import read_bundle
from inchworm.store.facts import FactsStore
from inchworm.store.remembered_values import Remembering
from tests.driver import SEALER, Answer, Program
from tests.once import SQLITE
from tests.program.test_entry import MIRA, OLE, demand, draft, entry, key_of, promote
from tests.program.test_trust import token_for

ONE = "SELECT day, total FROM report.daily_total WHERE total > 1"
TWO = "SELECT day, total FROM report.daily_total WHERE total > 2"
LEDGER = ".inchworm/ledger.sqlite"


@pytest.fixture
def shared(plain: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Program:
    """A project of several people; two models are live, and one yes is asked for from now on."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    plain.git("init", "--quiet", "--initial-branch", "main")
    plain.write("models/report/one.sql", ONE)
    plain.write("models/report/two.sql", TWO)
    commit(plain, "Ann", "First")
    plain.promote(plain.pack(), "dev")
    demand(plain, "approvals = 1")
    commit(plain, "Ann", "Rules")
    return plain


def commit(program: Program, author: str, message: str, committer: str = "") -> None:
    """Commit everything as somebody."""
    program.git("add", "--all")
    address = f"{author.lower()}@x.example"
    who = committer or author
    program.git(
        *("-c", f"user.name={who}", "-c", f"user.email={who.lower()}@x.example"),
        *("commit", "--quiet", "--allow-empty", "--message", message),
        *("--author", f"{author} <{address}>"),
    )


def approved(program: Program, id_: str, name: str, **more: str) -> tuple[bool, str]:
    """Approve as somebody; whether the approvals suffice then, and the evidence."""
    answer = program("approve", id_, "--json", environ={"INCHWORM_USER": name, **more})
    ((_, judged),) = entry(answer).items()
    return judged


def changed(program: Program, day: str = "2026-01-02") -> str:
    """Change a model as Bea, and draft that; the promotion's id."""
    program.write("models/report/one.sql", f"{ONE} AND day > '{day}'")
    commit(program, "Bea", "One")
    return drafted(program)


def drafted(program: Program, *more: str) -> str:
    """Draft the tree as it is committed."""
    answer = program("promote", program.pack(), "--to", "dev", "--draft", "--json", *more)
    return str(answer.json["id"])


# ---- who had a hand in it --------------------------------------------------------------------


def test_authors_are_whoever_had_a_hand_in_what_changes(shared: Program) -> None:
    """Authors, committers and those who helped, whatever .mailmap says."""
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    shared.write(".mailmap", "Somebody Else <else@x.example> <bea@x.example>\n")
    message = "Change\n\nCo-authored-by: Dan <dan@x.example>"
    commit(shared, "Bea", message, committer="Cid")
    id_ = drafted(shared)
    for name in ("Bea", "bea@x.example", "Cid", "Dan", "dan@x.example"):
        is_met, evidence = approved(shared, id_, name)
        assert not is_met
        assert f"{name}'s does not count: an author of the changes" in evidence
    assert approved(shared, id_, "Mira Fen")[0]


def test_a_choice_hides_no_author(shared: Program) -> None:
    """Bea's change goes alone first; the rest is Cid's, who is an author of it all the same."""
    shared.write("models/report/two.sql", f"{TWO} AND day > '2026-01-02'")
    commit(shared, "Cid", "Two")
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    commit(shared, "Bea", "One")
    first = drafted(shared, "--only", "report.one")
    assert approved(shared, first, "Mira Fen")[0]
    promote(shared, first)
    rest = drafted(shared)
    told = shared("review", rest, "--markdown").out
    assert "<summary>models/report/two.sql</summary>" in told
    assert "one.sql" not in told, "what is live comes from two bundles"
    assert "an author of the changes" in approved(shared, rest, "Cid")[1]
    assert approved(shared, rest, "Mira Fen")[0]


def test_a_hold_and_a_rollback_are_not_approved_by_whoever_drafted_them(shared: Program) -> None:
    """They have decided what happens, and nobody else has."""
    held = shared(
        *("hold", "report.one", "--in", "dev", "--because", "so", "--draft", "--json"),
        environ=OLE,
    ).json["id"]
    assert "an author of the changes" in approved(shared, held, "Ole Sund")[1]
    assert approved(shared, held, "Mira Fen")[0]
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    commit(shared, "Bea", "One")
    id_ = drafted(shared)
    approved(shared, id_, "Mira Fen")
    promote(shared, id_)
    back = shared("rollback", "dev", "--draft", "--json", environ=OLE).json["id"]
    assert "an author of the changes" in approved(shared, back, "Ole Sund")[1]
    assert approved(shared, back, "Bea")[0], "who wrote what goes has no hand in its going"


def test_whoever_packs_what_is_not_committed_is_an_author(shared: Program) -> None:
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    bundle = shared("pack", "--json", environ=OLE).json["bundle"]
    id_ = shared("promote", bundle, "--to", "dev", "--draft", "--json").json["id"]
    assert "an author of the changes" in approved(shared, id_, "Ole Sund")[1]
    assert approved(shared, id_, "Mira Fen")[0]


def test_a_shallow_clone_knows_no_authors_for_sure(shared: Program, tmp_path: Path) -> None:
    """Somebody of whom nothing is known may say yes, and it is said what to fetch."""
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    commit(shared, "Bea", "One")
    commit(shared, "Cid", "Nothing")
    clone = tmp_path / "clone"
    shared.git("clone", "--quiet", "--depth", "1", f"file://{shared.folder}", str(clone))
    shutil.copytree(shared.folder / ".inchworm", clone / ".inchworm")
    there = Program(clone)
    id_ = drafted(there)
    assert "the clone is shallow" in approved(there, id_, "Cid")[1]
    assert "git fetch --unshallow" in approved(there, id_, "Cid")[1]
    assert approved(there, id_, "Mira Fen")[0]


def test_the_commit_of_a_bundle_cannot_be_edited(shared: Program) -> None:
    """Its manifest is what is approved; a commit that lacks the files vouches for nobody."""
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    commit(shared, "Bea", "One")
    before = shared.git("rev-parse", "HEAD~1")
    bundle = shared.pack()
    file = shared.folder / f".inchworm/bundles/{bundle}.zip"
    rewrite(file, lambda manifest: manifest["provenance"].update(commit=before))
    id_ = shared("promote", bundle, "--to", "dev", "--draft", "--json").json["id"]
    is_met, evidence = approved(shared, id_, "Bea")
    assert not is_met
    assert "does not have the files" in evidence
    approved(shared, id_, "Mira Fen")
    rewrite(file, lambda manifest: manifest["provenance"].update(branch="other"))
    assert "the authors of the changes are not known here" in promote(shared, id_, code=3).text


def rewrite(file: Path, change: Any) -> None:
    """Change a bundle's manifest, with a seal that fits."""
    with zipfile.ZipFile(file) as archive:
        contents = {name: archive.read(name) for name in archive.namelist()}
    manifest = json.loads(contents[MANIFEST])
    change(manifest)
    contents[MANIFEST] = json.dumps(manifest).encode()
    contents[SEAL] = seal_bytes(contents[MANIFEST])
    with zipfile.ZipFile(file, "w") as archive:
        for name, content in contents.items():
            archive.writestr(name, content)


# ---- rules -----------------------------------------------------------------------------------


def test_weaker_rules_are_said(shared: Program) -> None:
    """The database remembers by which rules the last promotion came in."""
    demand(shared, "approvals = 2", 'by = ["Mira Fen", "Ole Sund"]')
    id_ = changed(shared)
    for who in (MIRA, OLE):
        shared("approve", id_, environ=who)
    promote(shared, id_)
    demand(shared, "approvals = 1", "authors_may_approve = true")
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-03'")
    answer = shared("promote", shared.pack(), "--to", "dev", "--draft", "--json").json
    said = {f["rule"]: f["message"] for f in answer["findings"]}
    weaker = said["promotion/rules-changed"]
    assert "weaker than before" in weaker
    assert "approvals was 2, is 1" in weaker
    assert "by was ['Mira Fen', 'Ole Sund'], is anybody" in weaker
    assert "authors_may_approve = True" in weaker
    assert "are not committed" in said["promotion/rules-uncommitted"]
    demand(shared, "approvals = 0")
    assert "the rules of dev changed since" in promote(shared, answer["id"], code=4).text


def test_rules_can_be_those_of_a_branch_alone(shared: Program) -> None:
    """What the working tree says counts for nothing then."""
    demand(shared, "approvals = 2", 'rules_from = "main"')
    commit(shared, "Ann", "Two")
    shared.git("checkout", "--quiet", "-b", "mine")
    demand(shared, "approvals = 0", 'rules_from = "main"')
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    id_ = draft(shared)
    assert entry(promote(shared, id_, code=3)) == {
        "2 approvals, not by an author of the changes": (False, "none yet; 2 missing")
    }
    demand(shared, "approvals = 0", 'rules_from = "elsewhere"')
    assert "git fetch origin elsewhere" in promote(shared, id_, code=1).text


def test_one_yes_of_each_group(shared: Program) -> None:
    """Each from another person; a second yes of one counts once."""
    shared.write(
        "people.toml",
        '[people."Mira Fen"]\ngroups = ["data", "release"]\n[people."Ole Sund"]\n'
        'groups = ["data"]\n[people.Uma]\ngroups = ["release"]\nuntil = 2026-01-01\n',
    )
    demand(shared, 'each_of = ["data", "group:release"]')
    id_ = changed(shared)
    assert approved(shared, id_, "Mira Fen") == (
        False,
        "data: Mira Fen (as git says); release: missing",
    )
    assert not approved(shared, id_, "Mira Fen")[0]
    assert "their time in people.toml is over" in approved(shared, id_, "Uma")[1]
    is_met, evidence = approved(shared, id_, "Ole Sund")
    assert is_met
    assert evidence.count("Mira Fen") == evidence.count("Ole Sund") == 1


def test_whoever_leaves_keeps_no_vote_and_breaks_no_record(shared: Program, tmp_path: Path) -> None:
    """Their key stays in people.toml with its last day; what it signed before is still known."""
    mira = key_of(shared, tmp_path, "Mira Fen")
    demand(shared, "approvals = 1", "signed = true")
    id_ = changed(shared)
    shared("approve", id_, environ=mira)
    promote(shared, id_)
    people = shared.folder / "people.toml"
    key = people.read_text().partition('key = "')[2].partition('"')[0]
    today = shared("status", "--json").json["read_at"][:10]
    people.write_text(
        f'[people."Mira Fen"]\nuntil = {today}\nkeys = [{{ key = "{key}", until = {today} }}]\n'
    )
    assert "1 approval, 1 of them signed" in shared("ledger", "verify").text
    people.write_text(people.read_text().replace(today, "2026-01-01"))
    again = changed(shared, "2026-01-04")
    assert "their key was not valid that day" in approved(shared, again, "Mira Fen", **mira)[1]


def test_an_exception_can_pass_the_environments_before(shared: Program, tmp_path: Path) -> None:
    """Where the environment says so, at night, signed and shown like any other."""
    dev = (shared.folder / "environments/dev.toml").read_text().partition("[entry]")[0]
    there = dev.replace(".inchworm/dev.sqlite", "data/prod.sqlite")
    there = there.replace("about =", 'after = ["dev"]\nabout =').replace("sim:dev", "sim:prod")
    there = there.replace("snapshots = true", "protected = true\nsnapshots = true")
    rules = '[entry]\nexception = ["Mira Fen"]\n'
    shared.write("environments/prod.toml", there + rules)
    shared.edit("parameters.toml", 'dev = "2026-01-01"', 'dev = "2026-01-01"\nprod = "2026-01-01"')
    bundle = shared.pack()
    shared("promote", bundle, "--to", "prod", "--draft", code=3)
    shared.write("environments/prod.toml", f"{there}{rules}exception_skips_route = true\n")
    told = shared("promote", bundle, "--to", "prod", "--draft", "--json").json
    assert "promotion/route-skipped" in {f["rule"] for f in told["findings"]}
    waits = promote(shared, told["id"], code=3)
    assert entry(waits)["passed in dev"] == (False, "not yet")
    by = ("--exception", "--because", "the river rises")
    promote(shared, told["id"], *by, code=2)
    shared("promote", told["id"], "--yes", *by, environ=MIRA)
    assert "BY EXCEPTION" in shared("status").text


def test_a_part_on_hold_before_stays_as_it_is(shared: Program) -> None:
    """It was not tried there, and the draft says so."""
    dev = (shared.folder / "environments/dev.toml").read_text().partition("[entry]")[0]
    there = dev.replace(".inchworm/dev.sqlite", "data/test.sqlite")
    there = there.replace("about =", 'after = ["dev"]\nabout =').replace("sim:dev", "sim:test")
    shared.write("environments/test.toml", there)
    shared.write("environments/dev.toml", dev)
    shared.edit("parameters.toml", 'dev = "2026-01-01"', 'dev = "2026-01-01"\ntest = "2026-01-01"')
    first = shared.pack()
    shared.promote(first, "dev")
    shared.promote(first, "test")
    shared("hold", "report.one", "--in", "dev", "--because", "so", "--yes")
    shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
    shared.write("models/report/two.sql", f"{TWO} AND day > '2026-01-02'")
    second = shared.pack()
    shared.promote(second, "dev")
    done = shared.promote(second, "test").json
    assert {s["part"] for s in done["steps"]} >= {"model:report.two"}
    assert "model:report.one" not in {s["part"] for s in done["steps"]}
    (held,) = [f for f in done["findings"] if f["rule"] == "promotion/held-before"]
    assert held["message"] == "model:report.one is on hold in dev, so it stays as it is in test"


# ---- the record ------------------------------------------------------------------------------


def forge(program: Program, about: str, *bodies: dict[str, Any], kind: str = "state") -> None:
    """Append entries to the ledger's file, with hashes that fit."""
    from inchworm.core.ledger.entries import Entry

    with sqlite3.connect(program.folder / LEDGER) as ledger:
        for body in bodies:
            query = "SELECT number, hash FROM entries ORDER BY number DESC LIMIT 1"
            number, before = ledger.execute(query).fetchone()
            forged = Entry(
                number=number + 1,
                at="2026-12-01T00:00:00+00:00",
                by="lena",
                kind=kind,
                about=about,
                body=body,
                before=before,
            )
            ledger.execute("INSERT INTO entries VALUES (?, ?, ?, ?, ?, ?, ?, ?)", forged.row)


def test_a_forged_state_lets_nothing_in(shared: Program) -> None:
    """Neither running nor failed; nor an admission that the database knows nothing of."""
    id_ = changed(shared)
    met = {"condition": "1 approval, not by an author of the changes", "is_met": True}
    admission = {"judged": [{**met, "evidence": "Mira Fen"}], "exception": ""}
    forge(
        shared,
        id_,
        {"state": "running", "message": "", "admission": admission},
        {"state": "failed", "message": ""},
    )
    assert entry(promote(shared, id_, code=3)) == {met["condition"]: (False, "none yet; 1 missing")}
    assert shared.ask(SQLITE, "SELECT count(*) FROM inchworm.promotions") == [(1,)]
    assert approved(shared, id_, "Mira Fen")[0]
    assert "P1 went into dev after P2" in promote(shared, id_, code=4).text, "as it says it began"


def test_what_was_cut_from_the_end_is_missed(shared: Program) -> None:
    """Whoever has seen a rejection knows that there was one, with a key or without."""
    id_ = changed(shared)
    ledger = (shared.folder / LEDGER).read_bytes()
    shared("approve", id_, "--reject", "--because", "no", environ=MIRA)
    (shared.folder / LEDGER).write_bytes(ledger)
    said = shared("ledger", "verify", code=1).text
    assert "missing or another one than you have seen: the ledger was cut" in said
    shared("promote", shared.pack(), "--to", "dev", "--draft", code=1)


def test_an_index_that_was_altered_is_found(shared: Program) -> None:
    """It is made from the entries, and they count."""
    with sqlite3.connect(shared.folder / LEDGER) as ledger:
        ledger.execute("UPDATE promotions SET state = 'undone', bundle = 'other'")
    said = shared("ledger", "verify", code=1).text
    assert "differs the index from the entries: promotion P1" in said
    with sqlite3.connect(shared.folder / LEDGER) as ledger:
        ledger.execute("DELETE FROM promotions")
    shared("ledger", "verify")


def test_a_ledger_goes_out_and_comes_in_again(shared: Program, tmp_path: Path) -> None:
    """Entry by entry; one that was altered on its way is refused."""
    written = shared("ledger", "export").out
    before = shared("history", "P1", "--json").json
    shared("ledger", "import", "-", code=1)
    (shared.folder / LEDGER).unlink()
    lines = tmp_path / "entries.jsonl"
    lines.write_text(written.replace('"by": "lena"', '"by": "mira"', 1))
    assert "entry 1 was altered" in shared("ledger", "import", str(lines), code=1).text
    lines.write_text("\n".join(written.splitlines()[1:]))
    assert "entry 1 is missing" in shared("ledger", "import", str(lines), code=1).text
    lines.write_text(written)
    shared("ledger", "import", str(lines))
    assert shared("ledger", "export").out == written
    assert shared("history", "P1", "--json").json == before
    shared("ledger", "verify")


def test_a_lost_ledger_is_named_and_told_again_as_far_as_that_goes(shared: Program) -> None:
    (shared.folder / LEDGER).unlink()
    said = shared("status").text
    assert "there is no ledger here" in said
    assert "inchworm ledger rebuild" in said
    shared("ledger", "rebuild")
    told = shared("history", "P1").text
    assert "starter-0.1.0-snapshot" in told
    assert "This ledger does not have it" in told
    life = shared("history", "model:report.one").text
    assert "live from starter-0.1.0-snapshot" in life
    assert "by P1, as its database told" in life


# ---- what is remembered ----------------------------------------------------------------------


def test_what_others_have_remembered_counts_for_nothing(shared: Program, tmp_path: Path) -> None:
    """Neither a cache of another user nor one that was edited; a tracked one is a finding."""
    shared.edit("environments/dev.toml", "snapshots = true", "protected = true\nsnapshots = true")
    shared("check", environ=(other := {"XDG_CONFIG_HOME": str(tmp_path / "others")}))
    kept = shared.folder / ".inchworm/declarations.json"
    document = json.loads(kept.read_text())
    document["declared"]["environments"][0]["protected"] = False
    document["declared"]["environments"][0]["entry"]["approvals"] = 0
    kept.write_text(json.dumps(document))
    for environ in ({}, other):
        told = shared("status", "--json", environ=environ).json["environments"]
        assert [each["protected"] for each in told] == [True]
    shared.write("checks/bad.sql", "SELECT nothing FROM nowhere.at_all")
    shared("check", code=1, environ=other)
    with sqlite3.connect(shared.folder / ".inchworm/facts.sqlite") as facts:
        facts.execute("UPDATE checked SET result = replace(result, '\"error\"', '\"note\"')")
    shared("check", code=1, environ=other)
    (shared.folder / "checks/bad.sql").unlink()
    shared.git("add", "--force", ".inchworm/declarations.json")
    found = {f["rule"]: f["message"] for f in shared.findings(code=0)}
    assert found["project/cache-tracked"] == "git tracks 1 file in .inchworm"
    shared.git("rm", "--quiet", "--force", "--cached", ".inchworm/declarations.json")
    assert "project/cache-tracked" not in {f["rule"] for f in shared.findings(code=0)}


def test_a_release_is_the_commits_own_tree(shared: Program) -> None:
    """Whatever the index says of files that did not change."""
    shared.git("tag", "v0.1.0")
    assert shared("pack", "--release", "--json").json["bundle"] == "starter-0.1.0"
    for how in ("--skip-worktree", "--assume-unchanged"):
        shared.git("update-index", how, "models/report/one.sql")
        shared.write("models/report/one.sql", f"{ONE} AND day > '2026-01-02'")
        refused = shared("pack", "--release", code=2).err
        assert "the tree has changes that are not committed" in refused
        shared.write("models/report/one.sql", ONE)
        shared.git("update-index", how.replace("--", "--no-"), "models/report/one.sql")
    (shared.folder / ".git/info/exclude").write_text("models/report/more.sql\n")
    shared.write("models/report/more.sql", ONE)
    shared("pack", "--release", code=2)


def test_a_bundle_is_what_it_says_and_not_what_its_file_says(shared: Program) -> None:
    bundle = shared.pack()
    folder = shared.folder / ".inchworm/bundles"
    (folder / f"{bundle}.zip").rename(folder / "starter-9.9.9.zip")
    said = shared("promote", "starter-9.9.9", "--to", "dev", "--draft", code=1).text
    assert f"holds {bundle}, and not what its name says" in said


def test_a_bundle_of_equal_content_names_the_commit_that_it_has(shared: Program) -> None:
    before = shared.git("rev-parse", "HEAD~1")
    told = shared("pack").text
    assert f"commit {before[:7]}" in told
    assert f"equals {shared.git('rev-parse', 'HEAD')[:7]}, which is checked out" in told


def test_a_kernel_that_stays_open_asks_again(
    shared: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Before it stores: is this still what it was?"""
    import pandas as pd

    from inchworm.core.errors import UsageError
    from inchworm.desk import Surroundings

    shared.write("environments/dev.toml", (shared.folder / "environments/dev.toml").read_text())
    monkeypatch.setenv("INCHWORM_TRUST", str(shared.folder))
    code = 'env.store("report.mine", frame, columns={"a": "INTEGER"})'
    notebook = {
        "cells": [
            {
                "cell_type": "code",
                "id": "a",
                "metadata": {},
                "execution_count": None,
                "outputs": [],
                "source": f"from inchworm.notebook import env\n{code}",
            }
        ],
        "metadata": {},
        "nbformat": 4,
        "nbformat_minor": 5,
    }
    shared.write("notebooks/mine.ipynb", json.dumps(notebook))
    env = Surroundings(shared.folder)
    frame = pd.DataFrame({"a": [1]})
    columns = {"a": "INTEGER"}
    env.store("report.mine", frame, columns=columns)
    shared.edit("parameters.toml", "2026-01-01", "2026-01-02")
    with pytest.raises(UsageError, match="changed since this notebook began"):
        env.store("report.mine", frame, columns=columns)
    shared.edit("environments/dev.toml", "snapshots = true", "protected = true\nsnapshots = true")
    with pytest.raises(UsageError, match="takes rows from no desk"):
        env.store("report.mine", frame, columns=columns)


def test_two_people_do_not_share_a_corner(plain: Program) -> None:
    """Though their names become one in the name of a schema."""
    plain.edit(
        "environments/dev.toml",
        "[databases.main]\n",
        '[databases.main]\nschema_pattern = "{schema}__{owner}"\n',
    )
    text = (plain.folder / "environments/dev.toml").read_text().replace("sim:dev", "sim:{owner}")
    plain.write("environments/dev.toml", text)
    bundle = plain.pack()
    asked = ("promote", bundle, "--to", "dev", "--yes")
    plain(*asked, environ={"INCHWORM_USER": "Ann B"})
    refused: Answer = plain(*asked, code=1, environ={"INCHWORM_USER": "ann_b"})
    assert "the corner ann_b in dev belongs to Ann B" in refused.text
    plain("status", environ={"INCHWORM_USER": "Ann B"})


def test_two_readings_of_different_files_are_never_mixed(tmp_path: Path) -> None:
    """Whoever writes later, without having read what was written, writes nothing."""
    place = Remembering(tmp_path, SEALER)
    seen = {"a.sql": Seen(1, 2, 3, 4, Digest("sha256:a"))}
    one, other = (FactsStore(place, "facts.sqlite", "1") for _ in range(2))
    one.save(seen, {"said": "one"})
    other.save({}, {"said": "other"})
    now = FactsStore(place, "facts.sqlite", "1")
    assert (now.checked, now.files) == ({"said": "one"}, seen)
    later = FactsStore(place, "facts.sqlite", "1")
    now.save(seen, {"said": "two"})
    assert later.files == {}, "what was read before is not told with what is there now"
    assert FactsStore(Remembering(tmp_path, Sealer(b"x")), "facts.sqlite", "1").files == {}


def test_an_archive_is_refused_by_the_size_of_its_directory(tmp_path: Path) -> None:
    """Before the library makes an object of each of two million entries."""
    file = tmp_path / "bomb.zip"
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("a", b"")
    content = bytearray(file.read_bytes())
    end = content.rfind(b"PK\5\6")
    content[end + 12 : end + 16] = (200_000_000).to_bytes(4, "little")
    with pytest.raises(BundleError, match="its directory of files is missing, or too large"):
        read_bundle(io.BytesIO(bytes(content)), "bomb")


@pytest.mark.parametrize("token", ["hunter2\nX: y", "hunter2\r", "hunt\u00e9r2", "hunter2\u4e16"])
def test_a_token_that_no_header_takes_is_shown_nowhere(plain: Program, token: str) -> None:
    token_for(plain, "env:GATE_TOKEN", "http://127.0.0.1:9")
    said = plain("status", code=1, environ={"GATE_TOKEN": token}).text
    assert "which no token has" in said
    assert "hunt" not in said


def test_a_key_in_a_folder_of_everybody_is_not_used(shared: Program, tmp_path: Path) -> None:
    mira = key_of(shared, tmp_path, "Mira Fen")
    tmp_path.chmod(0o777)
    said = shared("approve", changed(shared), code=2, environ=mira).text
    tmp_path.chmod(0o700)
    assert f"others may write in {tmp_path}" in said


def test_without_trust_commits_are_compared_and_statements_made(shared: Program) -> None:
    """Nothing is reached for either."""
    changed(shared)
    environ = {"INCHWORM_TRUST": ""}
    compared = shared("compare", "HEAD~1", "HEAD", "--json", environ=environ).json
    assert "model:report.one" in json.dumps(compared)
    assert "WITH" in shared("rows", "report.one", "--sql", environ=environ).out
    shared("rows", "report.one", code=2, environ=environ)
    shared("compare", "HEAD", "dev", code=2, environ=environ)


def test_a_waiver_carries_the_end_of_the_ledger_that_its_owner_saw(shared: Program) -> None:
    """So that a record that is cut after it contradicts a file of the repository, too."""
    shared.write("models/report/unread.sql", "SELECT nothing_that_is FROM ops.measurement")
    finding = next(f for f in shared.findings(code=None) if f["severity"] != "note")
    asked = (finding["rule"], finding["part"], "--because", "so", "--until", "2099-01-01")
    shared("waive", *asked)
    waived = (shared.folder / "waivers.toml").read_text()
    assert "seen = " in waived
    shared("ledger", "verify")
    number = waived.partition("seen = ")[2].split()[1].partition(":")[0]
    shared.edit("waivers.toml", f" {number}:", f" {int(number) - 1}:")
    assert f"entry {int(number) - 1} was another one" in shared("ledger", "verify", code=1).text
