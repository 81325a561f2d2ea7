"""``inchworm pack`` and ``inchworm bundles``."""

from __future__ import annotations

import shutil
import subprocess
import zipfile
from pathlib import Path

from tests.driver import Program


def test_the_same_commit_gives_the_same_digest_elsewhere(river: Program, tmp_path: Path) -> None:
    """In a fresh clone in another folder, by another user, with other file times."""
    clone = tmp_path / "elsewhere" / "clone"
    subprocess.run(["git", "clone", "-q", str(river.folder), str(clone)], check=True)
    here = river("pack", "--json").json
    there = Program(clone)("pack", "--json", environ={"INCHWORM_USER": "somebody"}).json
    assert here == there | {"file": here["file"]}
    assert (here["format"], here["bundle"]) == ("inchworm/bundle/1", "riverwatch-1.4.0")
    files = [program.folder / here["file"] for program in (river, Program(clone))]
    assert files[0].read_bytes() == files[1].read_bytes()


def test_packing_again_changes_nothing(river: Program) -> None:
    """The bundle is there already, with the same digest."""
    river.pack()
    assert river("pack").out.startswith("nothing to do")


def test_only_a_clean_tagged_tree_is_a_release(river: Program) -> None:
    """Uncommitted or untagged trees give snapshots, each with its own name, and say why."""
    river.git("tag", "-d", "v1.4.0")
    untagged = river("pack").text
    assert "snapshot: the commit has no tag v1.4.0" in untagged
    river.edit("models/hydro/gauge.sql", "SELECT gauge_id,", "SELECT gauge_id, 1 AS one,")
    dirty = river("pack").text
    assert "snapshot: the tree has changes that are not committed" in dirty
    names = [b["bundle"] for b in river("bundles", "--json").json["bundles"]]
    assert len(set(names)) == 2
    assert all(name.startswith("riverwatch-1.4.0-snapshot.") for name in names)


def test_a_version_with_other_content_is_refused(river: Program) -> None:
    """Even if the tag was moved."""
    river.pack()
    river.edit("models/hydro/gauge.sql", "SELECT gauge_id,", "SELECT gauge_id, 1 AS one,")
    river.git("commit", "-q", "-a", "-m", "sneaky")
    river.git("tag", "-f", "v1.4.0")
    answer = river("pack", code=1)
    assert "exists with other content" in answer.err
    assert "raise the version" in answer.err


def test_environments_without_snapshots_refuse_one(river: Program) -> None:
    """With the way to a release."""
    river.git("tag", "-d", "v1.4.0")
    name = river.pack()
    answer = river("promote", name, "--to", "test", "--yes", code=2)
    assert "is a snapshot" in answer.err
    assert "tag the commit v1.4.0" in answer.err


def test_an_altered_bundle_is_not_promoted(river: Program) -> None:
    """Nothing is drafted, nothing changes, and the list says what is wrong with it."""
    name = river.pack()
    file = river.folder / f".inchworm/bundles/{name}.zip"
    content = bytearray(file.read_bytes())
    content[len(content) // 2] ^= 0xFF
    file.write_bytes(content)
    answer = river.promote(name, "dev", code=1)
    assert f"{name}.zip" in answer.err
    assert "pack the commit again" in answer.err
    assert "not a bundle" in river("bundles").text or "trusted" in river("bundles").text
    assert river("history", "--json").json["promotions"] == []


def test_bundles_say_where_they_went(plain: Program) -> None:
    """Before and after a promotion."""
    name = plain.pack()
    assert plain("bundles", "--json").json["bundles"][0]["promoted_to"] == []
    plain.promote(name, "dev")
    assert plain("bundles", "--json").json["bundles"][0]["promoted_to"] == ["dev"]
    assert "Did you mean" in plain("promote", name[:-1], "--to", "dev", code=2).err


def test_a_bundle_file_can_be_named_by_its_path(plain: Program, tmp_path: Path) -> None:
    """As when it was copied from somewhere."""
    name = plain.pack()
    copy = tmp_path / f"{name}.zip"
    shutil.copyfile(plain.folder / f".inchworm/bundles/{name}.zip", copy)
    assert plain.promote(str(copy), "dev").json["state"] == "done"


def test_libraries_are_tested_before_anything_is_packed(river: Program) -> None:
    """Tests are no part of a bundle; what passed is not run again."""
    test = "from riverlib.error import root_mean_square as rms\n\n\n"
    test += "def test_it():\n    assert rms([2, 2]) == 2\n"
    river.write("library/tests/test_error.py", test)
    before = river("check", "--json").json
    river.pack()
    passed = river.folder / ".inchworm/library_tests_passed"
    first = passed.read_bytes()
    stamp = passed.stat().st_mtime_ns
    river.pack()
    assert passed.stat().st_mtime_ns == stamp
    bundles = river.folder / ".inchworm/bundles"
    (bundle,) = bundles.glob("*.zip")
    assert not [name for name in zipfile.ZipFile(bundle).namelist() if "tests" in name]
    assert [f for f in before["findings"] if "tests" in str(f["file"])] == []

    river.write("library/tests/test_error.py", test.replace("== 2", "== 7"))
    refused = river("pack", code=2).text
    assert "library/tests/ fails" in refused
    assert "assert" in refused
    assert passed.read_bytes() == first
    river.write("library/tests/test_error.py", "X = 1\n")
    assert "has no tests" in river("pack", code=2).text
