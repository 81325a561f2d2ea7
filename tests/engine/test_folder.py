"""The folder of a run goes, whatever becomes of the run."""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest

from inchworm.engine.running.folder import private_folder


def test_what_a_killed_run_left_goes_with_the_next(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Not what a run beside it has, nor what is somebody else's."""
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    left, others = tmp_path / "inchworm-run-left", tmp_path / "inchworm-run-of-others"
    for folder in (left, others):
        folder.mkdir()
        (folder / "loggers.file").write_text("fetched")
    (left / ".alive").touch()
    with private_folder() as first, private_folder() as second:
        assert {*tmp_path.iterdir()} == {first, second, others}
        assert first.stat().st_mode & 0o077 == 0
    assert [*tmp_path.iterdir()] == [others]
