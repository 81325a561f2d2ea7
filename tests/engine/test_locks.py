"""Who is at work in an environment, as those see it who only look."""

from __future__ import annotations

from pathlib import Path

import pytest

from inchworm.core.errors import EnvironmentMoved
from inchworm.engine.locks import Lock

LENA = {"by": "lena", "promotion": "P3", "process": 7}


def test_who_holds_a_lock_is_at_work_and_nobody_else(tmp_path: Path) -> None:
    """Looking keeps nobody out; what a killed process left written says nothing."""
    lock, other = Lock(tmp_path, "dev"), Lock(tmp_path, "dev")
    assert other.at_work() == ""
    with lock.held(LENA):
        holder = (tmp_path / "dev.holder.json").read_text()
        assert other.at_work() == "lena promotes P3 (process 7)"
        with pytest.raises(EnvironmentMoved, match="lena promotes P3"), other.held(LENA):
            pass
    (tmp_path / "dev.holder.json").write_text(holder)
    assert other.at_work() == ""
    with other.held(LENA):
        assert lock.at_work() == "lena promotes P3 (process 7)"


def test_who_may_not_open_a_lock_cannot_tell(tmp_path: Path) -> None:
    (tmp_path / "dev.lock").mkdir()
    (tmp_path / "dev.holder.json").write_text("{}")
    assert Lock(tmp_path, "dev").at_work() == ""
