"""Secrets: found where they are kept, and shown nowhere."""

from __future__ import annotations

import pickle
from pathlib import Path

import pytest

from inchworm.core.errors import TargetError
from inchworm.targets.machine import Machine
from inchworm.targets.secret import Secret
from inchworm.targets.secrets import Secrets
from tests.driver import trusted


def machine(root: Path, **environ: str) -> Machine:
    return Machine(root=root, environ=environ, login="lena", trust=trusted(root))


def test_secrets_are_found_where_they_are_kept(tmp_path: Path) -> None:
    """In the environment, and in a file that only its owner can read."""
    file = tmp_path / "token"
    file.write_text("from a file\n")
    file.chmod(0o600)
    assert (
        Secrets(machine(tmp_path, X="from a variable")).resolve("env:X", "").reveal()
        == "from a variable"
    )
    assert Secrets(machine(tmp_path)).resolve("file:token", "").reveal() == "from a file"


@pytest.mark.parametrize(
    ("reference", "says"),
    [
        ("env:MISSING", "MISSING is not set"),
        ("file:missing", "cannot be read"),
        ("elsewhere:x", "no known kind"),
    ],
)
def test_a_secret_that_is_not_there(tmp_path: Path, reference: str, says: str) -> None:
    """The reference is named, and what to do."""
    with pytest.raises(TargetError, match=says) as caught:
        Secrets(machine(tmp_path)).resolve(reference, "")
    assert caught.value.next


def test_a_secret_shows_itself_nowhere() -> None:
    """Not in any spelling that a log or an error could use."""
    secret = Secret("hunter2", "env:X")
    assert "hunter2" not in f"{secret} {secret!r} {secret!s} {secret:>20} {[secret]} %s" % secret
    with pytest.raises(TypeError):
        pickle.dumps(secret)
